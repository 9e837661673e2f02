"""What weight maps say on the mesh that a piece has now."""

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
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
    Stroke,
    StrokesRule,
    TypedRule,
)
from rubberquince.document.scene import Piece, Place, Scene
from rubberquince.shapes import surface
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.repair import holes

DIRECTIONS = {"up": (0, 1, 0), "down": (0, -1, 0), "left": (-1, 0, 0), "right": (1, 0, 0), "front": (0, 0, 1),
              "back": (0, 0, -1)}
AXES = {"its x": 0, "its y": 1, "its z": 2}
PAINTED = 4                 # results of strokes that are kept


@dataclass(frozen=True, eq=False)
class _Form:
    """A skin in its own size, m, with what is found of it once."""

    points: np.ndarray
    triangles: np.ndarray

    @cached_property
    def normals(self) -> np.ndarray:
        return surface.point_normals(self.points, self.triangles)

    @cached_property
    def heat(self) -> surface.Heat:
        return surface.Heat(self.points, self.triangles)


@lru_cache(maxsize=8)
def _form(mesh: PolyMesh, size: tuple[float, float, float]) -> _Form:
    return _Form(mesh.points * np.array(size), mesh.triangles)


@dataclass(frozen=True)
class _Skin:
    """The skin of a piece as rules ask for it; what is equal has the same values."""

    mesh: PolyMesh
    place: Place

    @property
    def form(self) -> _Form:
        return _form(self.mesh, self.place.size)

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
        return _spread(_painted(rule.strokes, below, skin), layer.blur, skin)
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


def faded(part: np.ndarray) -> np.ndarray:
    """1 at 0 and below, and 0 from 1 on, without a kink at either."""
    left = 1.0 - np.clip(part, 0.0, 1.0)
    return left * left * (3.0 - 2.0 * left)


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
    form = _form(mesh, size)
    return surface.skin_distance(form.points, form.triangles, np.array(line, np.int64), closed)


def _edges(rule: EdgesRule, skin: _Skin, beside: Beside) -> np.ndarray:
    return faded(_from_edges(skin.mesh, skin.place.size, rule.angle) / rule.reach)


@lru_cache(maxsize=8)
def _from_edges(mesh: PolyMesh, size: tuple[float, float, float], angle: float) -> np.ndarray:
    """Distance (n,), m, from what is sharper."""
    form = _form(mesh, size)
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


# --- strokes ------------------------------------------------------------------------------------------

@dataclass
class _Paint:
    """What strokes made of what lies below, for those that come next: a stroke grows by a bead at a time."""

    kept: dict[tuple[Any, ...], np.ndarray] = field(default_factory=dict)
    lines: dict[tuple[Any, ...], tuple[np.ndarray, np.ndarray]] = field(default_factory=dict)

    def keep(self, key: tuple[Any, ...], value: np.ndarray) -> None:
        self.kept[key] = value
        while len(self.kept) > PAINTED:
            del self.kept[next(iter(self.kept))]

    def far(self, form: _Form, line: np.ndarray, reach: float, side: int) -> np.ndarray:
        """Distance (n,), m, of the form's points from a line (k, 3), inf where it is more than ``reach``."""
        key = (form, reach, side)
        known, far = self.lines.get(key, (line[:0], np.zeros(0)))
        grown = 0 < len(known) < len(line) and np.array_equal(known, line[: len(known)])
        far = far.copy() if grown else np.full(len(form.points), np.inf)
        new = line[len(known) - 1:] if grown else line
        near = _near_line(form.points, new, reach)
        far[near] = np.minimum(far[near], surface.distance_to_line(form.points[near], new))
        self.lines = {other: known for other, known in self.lines.items() if other[0] is form and other[1] == reach}
        self.lines[key] = line, far
        return far


_paint = _Paint()


def _painted(strokes: tuple[Stroke, ...], below: np.ndarray, skin: _Skin) -> np.ndarray:
    ground = (skin.mesh, skin.place.size, below.tobytes())
    known = next((k for k in (len(strokes), len(strokes) - 1) if (*ground, strokes[:k]) in _paint.kept), 0)
    value = _paint.kept.get((*ground, strokes[:known]), below)
    for k in range(known, len(strokes)):
        value = _with_stroke(strokes[k], value, skin)
        if k >= len(strokes) - 2:
            _paint.keep((*ground, strokes[:k + 1]), value)
    return value


def _with_stroke(stroke: Stroke, value: np.ndarray, skin: _Skin) -> np.ndarray:
    near, touch = _touched(stroke, skin.mesh, skin.place.size)
    was, out = value[near], value.copy()
    if stroke.does == "adds":
        out[near] += touch * (1.0 - was)
    elif stroke.does == "takes":
        out[near] -= touch * was
    else:
        out[near] += touch * (_smoothed(near, value, skin.form, stroke.radius) - was)
    return out


@lru_cache(maxsize=256)
def _touched(stroke: Stroke, mesh: PolyMesh, size: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray]:
    """Which points (k,) a stroke reaches, and how much of it each gets (k,), 0 .. 1."""
    form, line, most = _form(mesh, size), np.array(stroke.beads) * np.array(size), np.zeros(len(mesh.points))
    for side in (1, -1) if stroke.mirrored else (1,):
        mirror = np.array([side, 1.0, 1.0])
        far = _paint.far(form, line * mirror, stroke.radius, side)
        near = np.flatnonzero(far < stroke.radius)
        touch = stroke.strength * faded(far[near] / stroke.radius)
        if stroke.from_side is not None:
            touch *= form.normals[near] @ (np.array(stroke.from_side) * mirror) > 0.0
        most[near] = np.maximum(most[near], touch)
    reached = np.flatnonzero(most)
    return reached, most[reached]


def _smoothed(near: np.ndarray, value: np.ndarray, form: _Form, width: float) -> np.ndarray:
    """Values (k,) of the points ``near``, smoothed with those about them."""
    if not len(near):
        return value[near]
    low, high = form.points[near].min(axis=0) - width, form.points[near].max(axis=0) + width
    about = ((form.points >= low) & (form.points <= high)).all(axis=1)
    triangles = form.triangles[about[form.triangles].all(axis=1)]
    number = np.cumsum(about) - 1
    heat = surface.Heat(form.points[about], number[triangles])
    return heat.spread(value[about], width)[number[near]]


def _near_line(points: np.ndarray, line: np.ndarray, radius: float) -> np.ndarray:
    """Which of the points (n, 3) are within a ``radius`` of a line (k, 3), and some more."""
    reach = radius + 0.5 * np.linalg.norm(np.diff(line, axis=0), axis=1).max(initial=0.0)
    low, high = line.min(axis=0) - reach, line.max(axis=0) + reach
    inside = np.ones(len(points), bool)
    for k in range(3):
        inside &= (points[:, k] >= low[k]) & (points[:, k] <= high[k])
    boxed = np.flatnonzero(inside)
    far, _ = cKDTree(line).query(points[boxed], distance_upper_bound=reach)
    return boxed[np.isfinite(far)]


RULES: dict[type, Callable[[Any, _Skin, Beside], np.ndarray]] = {
    HeightRule: _height, LineRule: _line, EdgesRule: _edges, FacingRule: _facing, NearRule: _near,
    InsideRule: _inside, NoiseRule: _noise, PartsRule: _parts}
