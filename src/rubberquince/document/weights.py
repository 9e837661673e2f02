"""What weight maps say on the mesh that a piece has now."""

from collections.abc import Callable
from functools import lru_cache
from typing import Any

import igl
import numpy as np
from scipy.spatial import cKDTree

from rubberquince.document.bodies import Meshes, piece_points, piece_triangles, unit_mesh
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
    Stroke,
    StrokesRule,
    TypedRule,
)
from rubberquince.document.scene import Piece, Scene
from rubberquince.shapes import surface
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.repair import holes

DIRECTIONS = {"up": (0, 1, 0), "down": (0, -1, 0), "left": (-1, 0, 0), "right": (1, 0, 0), "front": (0, 0, 1),
              "back": (0, 0, -1)}
AXES = {"its x": 0, "its y": 1, "its z": 2}


class _Skin:
    """The skin of a piece as rules ask for it: in its unit box, in its own size (m), and placed in the world (m)."""

    def __init__(self, piece: Piece, scene: Scene, meshes: Meshes) -> None:
        self.piece, self.scene, self.meshes = piece, scene, meshes
        mesh = unit_mesh(piece.shape, meshes)
        self.size = np.array(piece.place.size)
        self.local, self.triangles = mesh.points * self.size, mesh.triangles
        self.placed = piece_points(piece, meshes)


def weights_of(a_map: Map, piece: Piece, scene: Scene, meshes: Meshes) -> np.ndarray:
    """What the layers of a map say, (n,) 0 .. 1, at the points of the piece's skin."""
    skin = _Skin(piece, scene, meshes)
    value = np.zeros(len(skin.local))
    for layer in a_map.layers:
        if layer.shown:
            value = _joined(layer, value, skin)
    return value


def values_of(path: str, piece: Piece, scene: Scene, meshes: Meshes) -> np.ndarray | None:
    """The value at ``path`` at the points (n,) of the piece's skin, by its map; None where it is even."""
    for a_map in piece.maps:
        if a_map.of == path and a_map.layers:
            return a_map.low + (a_map.high - a_map.low) * weights_of(a_map, piece, scene, meshes)
    return None


def _joined(layer: Layer, below: np.ndarray, skin: _Skin) -> np.ndarray:
    rule = layer.rule
    if isinstance(rule, StrokesRule):                   # they work on what lies below
        value = _painted(rule, below, skin)
        return _spread(layer, value, skin)
    if isinstance(rule, TypedRule):
        known = np.array(rule.places, float).reshape(-1, 3) * skin.size
        meant, values = surface.nearest_values(skin.local, known, np.array(rule.values), rule.reach)
        return np.where(meant, values, below)
    value = _spread(layer, RULES[type(rule)](rule, skin), skin)
    value = 1.0 - value if layer.inverted else value
    return {"instead of": value, "greater of": np.maximum(below, value), "lesser of": np.minimum(below, value),
            "added to": np.minimum(below + value, 1.0), "times": below * value}[layer.join]


def _spread(layer: Layer, value: np.ndarray, skin: _Skin) -> np.ndarray:
    return surface.blurred(skin.local, skin.triangles, value, layer.blur) if layer.blur > 0.0 else value


def faded(part: np.ndarray) -> np.ndarray:
    """1 at 0 and below, and 0 from 1 on, without a kink at either."""
    left = 1.0 - np.clip(part, 0.0, 1.0)
    return left * left * (3.0 - 2.0 * left)


def _height(rule: HeightRule, skin: _Skin) -> np.ndarray:
    along = skin.placed[:, 1] if rule.axis == "upwards" else skin.local[:, AXES[rule.axis]]
    low, high = along.min(), along.max()
    share = (along - low) / max(high - low, 1e-9)
    if rule.full == rule.none:
        return (share >= rule.full - 1e-9).astype(float)
    return np.clip((share - rule.none) / (rule.full - rule.none), 0.0, 1.0)


def _line(rule: LineRule, skin: _Skin) -> np.ndarray:
    curve = skin.piece.curve(rule.curve)
    mesh, size = unit_mesh(skin.piece.shape, skin.meshes), skin.piece.place.size
    lines = holes(mesh) if not rule.curve else []
    if curve is not None:
        lines = [line_of(skin.piece, curve.id, skin.meshes)]
    far = [_distance(mesh, size, tuple(line.tolist()), curve is None or curve.closed) for line in lines]
    return faded(np.min([np.full(len(skin.local), np.inf), *far], axis=0) / rule.reach)


@lru_cache(maxsize=64)
def _distance(mesh: PolyMesh, size: tuple[float, float, float], line: tuple[int, ...], closed: bool) -> np.ndarray:
    """Found once for each line: its reach is what is changed."""
    return surface.skin_distance(mesh.points * np.array(size), mesh.triangles, np.array(line, np.int64), closed)


def _edges(rule: EdgesRule, skin: _Skin) -> np.ndarray:
    sharp = surface.sharp_points(skin.local, skin.triangles, rule.angle)
    return faded(np.asarray(cKDTree(skin.local[sharp]).query(skin.local)[0]) / rule.reach)


def _facing(rule: FacingRule, skin: _Skin) -> np.ndarray:
    normal = surface.point_normals(skin.placed, skin.triangles)
    angle = np.degrees(np.arccos(np.clip(normal @ np.array(DIRECTIONS[rule.toward], float), -1.0, 1.0)))
    return faded(2.0 * angle / rule.angle - 1.0)


def _near(rule: NearRule, skin: _Skin) -> np.ndarray:
    other = next((p for p in skin.scene.pieces if p.id == rule.piece and p.id != skin.piece.id), None)
    if other is None:
        return np.zeros(len(skin.local))
    points, triangles = piece_points(other, skin.meshes), piece_triangles(other, skin.meshes).astype(np.int64)
    squared = igl.point_mesh_squared_distance(np.ascontiguousarray(skin.placed), points, triangles)[0]
    return faded(np.sqrt(squared) / rule.reach)


def _inside(rule: InsideRule, skin: _Skin) -> np.ndarray:
    if rule.form == "a piece":
        return _inside_piece(rule, skin)
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


def _inside_piece(rule: InsideRule, skin: _Skin) -> np.ndarray:
    other = next((p for p in skin.scene.pieces if p.id == rule.piece and p.id != skin.piece.id), None)
    if other is None:
        return np.zeros(len(skin.local))
    points, triangles = piece_points(other, skin.meshes), piece_triangles(other, skin.meshes).astype(np.int64)
    at = np.ascontiguousarray(skin.placed)
    far = np.sqrt(igl.point_mesh_squared_distance(at, points, triangles)[0])
    return faded(np.where(np.abs(igl.fast_winding_number(points, triangles, at)) > 0.5, 0.0, far) / rule.soft)


def _noise(rule: NoiseRule, skin: _Skin) -> np.ndarray:
    return surface.noise(skin.local, rule.size, rule.seed)


def _parts(rule: PartsRule, skin: _Skin) -> np.ndarray:
    return surface.scattered(surface.connected_parts(skin.local, skin.triangles), rule.seed)


def _painted(rule: StrokesRule, below: np.ndarray, skin: _Skin) -> np.ndarray:
    value, normals = below.copy(), surface.point_normals(skin.local, skin.triangles)
    for stroke in rule.strokes:
        touch = stroke.strength * _reached(stroke, skin, normals, 1.0)
        if stroke.mirrored:
            touch = np.maximum(touch, stroke.strength * _reached(stroke, skin, normals, -1.0))
        if stroke.does == "adds":
            value += touch * (1.0 - value)
        elif stroke.does == "takes":
            value -= touch * value
        else:
            value += touch * (surface.blurred(skin.local, skin.triangles, value, stroke.radius) - value)
    return value


def _reached(stroke: Stroke, skin: _Skin, normals: np.ndarray, side: float) -> np.ndarray:
    """How much of a stroke each point gets, 0 .. 1; ``side`` -1 is that of its mirror image."""
    mirror = np.array([side, 1.0, 1.0])
    reached = faded(surface.distance_to_line(skin.local, np.array(stroke.beads) * skin.size * mirror) / stroke.radius)
    if stroke.from_side is not None:
        reached *= normals @ (np.array(stroke.from_side) * mirror) > 0.0
    return reached


RULES: dict[type, Callable[[Any, _Skin], np.ndarray]] = {
    HeightRule: _height, LineRule: _line, EdgesRule: _edges, FacingRule: _facing, NearRule: _near,
    InsideRule: _inside, NoiseRule: _noise, PartsRule: _parts}
