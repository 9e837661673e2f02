"""What weight maps say on the mesh that a piece has now."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import igl
import numpy as np
from scipy.spatial import cKDTree

from rubberquince.document.bodies import Meshes, placed_points, unit_mesh
from rubberquince.document.lines import line_of
from rubberquince.document.maps import (
    EdgesRule,
    FacingRule,
    HeightRule,
    InsideRule,
    Layer,
    LineRule,
    Map,
    NearRule,
    NoiseRule,
    PartsRule,
    Rule,
    StrokesRule,
    TypedRule,
)
from rubberquince.document.scene import Piece, Place, Scene
from rubberquince.document.strokes import Form, form_of, painted
from rubberquince.shapes import surface
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.repair import holes
from rubberquince.shapes.surface import faded

DIRECTIONS = {"up": (0, 1, 0), "down": (0, -1, 0), "left": (-1, 0, 0), "right": (1, 0, 0), "front": (0, 0, 1),
              "back": (0, 0, -1)}
AXES = {"its x": 0, "its y": 1, "its z": 2}


@dataclass(frozen=True)
class _Skin:
    """The skin of a piece as rules ask for it; what is equal has the same values."""

    mesh: PolyMesh
    place: Place

    @property
    def form(self) -> Form:
        return form_of(self.mesh, self.place.size)

    @property
    def placed(self) -> np.ndarray:
        """Points (n, 3), m, as they stand in the world."""
        return placed_points(self.mesh, self.place)


@dataclass(frozen=True)
class _Line:
    """A line past points of a skin, or several."""

    points: tuple[tuple[int, ...], ...]
    closed: bool


Beside = _Skin | _Line | None               # what a rule goes by besides the skin itself: another piece, a line


def weights_of(a_map: Map, piece: Piece, scene: Scene, meshes: Meshes) -> np.ndarray:
    """What the layers of a map say, (n,) 0 .. 1, at the points of the piece's skin."""
    skin = _Skin(unit_mesh(piece.shape, meshes), piece.place)
    value = np.zeros(len(skin.mesh.points))
    for layer in a_map.layers:
        if layer.shown:
            value = _joined(layer, value, skin, _beside(layer.rule, piece, scene, meshes))
    return value


def values_of(path: str, piece: Piece, scene: Scene, meshes: Meshes) -> np.ndarray | None:
    """The value at ``path`` at the points (n,) of the piece's skin, by its map; None where it is even."""
    for a_map in piece.maps:
        if a_map.of == path and a_map.layers:
            return a_map.low + (a_map.high - a_map.low) * weights_of(a_map, piece, scene, meshes)
    return None


def _beside(rule: Rule, piece: Piece, scene: Scene, meshes: Meshes) -> Beside:
    if isinstance(rule, NearRule | InsideRule):
        other = next((p for p in scene.pieces if p.id == rule.piece and p.id != piece.id), None)
        return None if other is None else _Skin(unit_mesh(other.shape, meshes), other.place)
    if not isinstance(rule, LineRule):
        return None
    curve = piece.curve(rule.curve)
    lines = holes(unit_mesh(piece.shape, meshes)) if not rule.curve else []
    if curve is not None:
        lines = [line_of(piece, curve.id, meshes)]
    return _Line(tuple(tuple(line.tolist()) for line in lines), curve is None or curve.closed)


def _joined(layer: Layer, below: np.ndarray, skin: _Skin, beside: Beside) -> np.ndarray:
    rule = layer.rule
    if isinstance(rule, StrokesRule):                   # they work on what lies below
        return _spread(painted(rule.strokes, below, skin.mesh, skin.place.size), layer.blur, skin)
    if isinstance(rule, TypedRule):
        known = np.array(rule.places, float).reshape(-1, 3) * np.array(skin.place.size)
        meant, values = surface.nearest_values(skin.form.points, known, np.array(rule.values), rule.reach)
        return np.where(meant, values, below)
    value = _alone(rule, layer.blur, skin, beside)
    value = 1.0 - value if layer.inverted else value
    return {"instead of": value, "greater of": np.maximum(below, value), "lesser of": np.minimum(below, value),
            "added to": np.minimum(below + value, 1.0), "times": below * value}[layer.join]


@lru_cache(maxsize=32)
def _alone(rule: Rule, blur: float, skin: _Skin, beside: Beside) -> np.ndarray:
    """What a rule says by itself; while another layer is changed it is asked for again and again."""
    value = _spread(RULES[type(rule)](rule, skin, beside), blur, skin)
    value.flags.writeable = False
    return value


def _spread(value: np.ndarray, blur: float, skin: _Skin) -> np.ndarray:
    return skin.form.heat.spread(value, blur) if blur > 0.0 else value


def _height(rule: HeightRule, skin: _Skin, beside: Beside) -> np.ndarray:
    along = skin.placed[:, 1] if rule.axis == "upwards" else skin.form.points[:, AXES[rule.axis]]
    low, high = along.min(), along.max()
    share = (along - low) / max(high - low, 1e-9)
    if rule.full == rule.none:
        return (share >= rule.full - 1e-9).astype(float)
    return np.clip((share - rule.none) / (rule.full - rule.none), 0.0, 1.0)


def _line(rule: LineRule, skin: _Skin, beside: Beside) -> np.ndarray:
    assert isinstance(beside, _Line)
    far = [_from_line(skin.mesh, skin.place.size, line, beside.closed) for line in beside.points]
    return faded(np.min([np.full(len(skin.mesh.points), np.inf), *far], axis=0) / rule.reach)


@lru_cache(maxsize=64)
def _from_line(mesh: PolyMesh, size: tuple[float, float, float], line: tuple[int, ...], closed: bool) -> np.ndarray:
    """Distance (n,), m, found once for each line: its reach is what is changed."""
    return form_of(mesh, size).ways.from_line(np.array(line, np.int64), closed)


def _edges(rule: EdgesRule, skin: _Skin, beside: Beside) -> np.ndarray:
    return faded(_from_edges(skin.mesh, skin.place.size, rule.angle) / rule.reach)


@lru_cache(maxsize=8)
def _from_edges(mesh: PolyMesh, size: tuple[float, float, float], angle: float) -> np.ndarray:
    """Distance (n,), m, from what is sharper."""
    form = form_of(mesh, size)
    sharp = surface.sharp_points(form.points, form.triangles, angle)
    return np.asarray(cKDTree(form.points[sharp]).query(form.points)[0])


def _facing(rule: FacingRule, skin: _Skin, beside: Beside) -> np.ndarray:
    toward = skin.place.rotation().T @ np.array(DIRECTIONS[rule.toward], float)
    angle = np.degrees(np.arccos(np.clip(skin.form.normals @ toward, -1.0, 1.0)))
    return faded(2.0 * angle / rule.angle - 1.0)


def _near(rule: NearRule, skin: _Skin, beside: Beside) -> np.ndarray:
    if not isinstance(beside, _Skin):
        return np.zeros(len(skin.mesh.points))
    return faded(_from_piece(skin, beside, False) / rule.reach)


def _inside(rule: InsideRule, skin: _Skin, beside: Beside) -> np.ndarray:
    if rule.form == "a piece":
        if not isinstance(beside, _Skin):
            return np.zeros(len(skin.mesh.points))
        return faded(_from_piece(skin, beside, True) / rule.soft)
    way = np.abs(skin.placed - np.array([rule.x, rule.y, rule.z]))
    half = 0.5 * np.array([rule.width, rule.height, rule.depth])
    if rule.form == "box":
        outside = np.linalg.norm(np.maximum(way - half, 0.0), axis=1)
    elif rule.form == "ball":
        outside = (np.linalg.norm(way / half, axis=1) - 1.0) * half.min()
    else:
        around = (np.linalg.norm(way[:, [0, 2]] / half[[0, 2]], axis=1) - 1.0) * half[[0, 2]].min()
        outside = np.hypot(np.maximum(around, 0.0), np.maximum(way[:, 1] - half[1], 0.0))
    return faded(outside / rule.soft)


@lru_cache(maxsize=8)
def _from_piece(skin: _Skin, other: _Skin, filled: bool) -> np.ndarray:
    """Distance (n,), m, from the skin of another piece; 0 inside, too, where that is ``filled``."""
    points, triangles = other.placed, other.mesh.triangles.astype(np.int64)
    at = np.ascontiguousarray(skin.placed)
    far = np.sqrt(igl.point_mesh_squared_distance(at, points, triangles)[0])
    if filled:
        far[np.abs(igl.fast_winding_number(points, triangles, at)) > 0.5] = 0.0
    return far


def _noise(rule: NoiseRule, skin: _Skin, beside: Beside) -> np.ndarray:
    return surface.noise(skin.form.points, rule.size, rule.seed)


def _parts(rule: PartsRule, skin: _Skin, beside: Beside) -> np.ndarray:
    return surface.scattered(surface.connected_parts(skin.form.points, skin.form.triangles), rule.seed)


RULES: dict[type, Callable[[Any, _Skin, Beside], np.ndarray]] = {
    HeightRule: _height, LineRule: _line, EdgesRule: _edges, FacingRule: _facing, NearRule: _near,
    InsideRule: _inside, NoiseRule: _noise, PartsRule: _parts}
