"""What strokes of the brush make of a map.  A stroke grows by a bead at a time, and costs no more than that bead."""

from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.distinct import distinct
from rubberquince.document.maps import Stroke
from rubberquince.shapes import surface
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.surface import faded

PAINTED = 4                 # results that are kept
Size = tuple[float, float, float]


@dataclass(frozen=True, eq=False)
class Form:
    """A skin in its own size, m, with what is found of it once."""

    points: np.ndarray
    triangles: np.ndarray
    size: Size

    @cached_property
    def normals(self) -> np.ndarray:
        return surface.point_normals(self.points, self.triangles)

    @cached_property
    def tree(self) -> cKDTree:
        return cKDTree(self.points)

    @cached_property
    def ways(self) -> surface.Ways:
        return surface.Ways(self.points, self.triangles)

    @cached_property
    def heat(self) -> surface.Heat:
        return surface.Heat(self.points, self.triangles)


@lru_cache(maxsize=8)
def form_of(mesh: PolyMesh, size: Size) -> Form:
    return Form(mesh.points * np.array(size), mesh.triangles, size)


@dataclass
class _Paint:
    """What strokes made of what lies below, and how much of the stroke under way each point got, for its next bead."""

    kept: dict[tuple[Any, ...], np.ndarray] = field(default_factory=dict)
    grown: tuple[Any, ...] = ()             # form and stroke, without its beads, that grows
    beads: tuple[Any, ...] = ()             # of it, so far
    touch: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def keep(self, key: tuple[Any, ...], value: np.ndarray) -> None:
        self.kept[key] = value
        while len(self.kept) > PAINTED:
            del self.kept[next(iter(self.kept))]

    def touch_of(self, stroke: Stroke, form: Form) -> np.ndarray:
        """How much of a stroke each of the form's points gets, (n,), 0 .. 1; good until the next call."""
        grown, known = (form, stroke.model_copy(update={"beads": ()})), len(self.beads)
        if not (0 < known <= len(stroke.beads) and grown == self.grown and stroke.beads[:known] == self.beads):
            self.touch, known = np.zeros(len(form.points)), 0
        self.grown, self.beads = grown, stroke.beads
        line = np.array(stroke.beads[max(known - 1, 0):]) * form.size
        for side in (1, -1) if stroke.mirrored else (1,):
            mirror = np.array([side, 1.0, 1.0])
            near = _near_line(form.tree, line * mirror, stroke.radius)
            far = surface.distance_to_line(form.points[near], line * mirror)
            touch = stroke.strength * faded(np.minimum(far / stroke.radius, 1.0))
            if stroke.from_side is not None:
                touch *= form.normals[near] @ (np.array(stroke.from_side) * mirror) > 0.0
            self.touch[near] = np.maximum(self.touch[near], touch)
        return self.touch


_paint = _Paint()


def painted(strokes: tuple[Stroke, ...], below: np.ndarray, mesh: PolyMesh, size: Size) -> np.ndarray:
    """What ``strokes``, one after another, make of the values ``below`` (n,), 0 .. 1, of a mesh in its ``size``, m."""
    ground = (mesh, size, below.tobytes())
    known = next((k for k in (len(strokes), len(strokes) - 1) if (*ground, strokes[:k]) in _paint.kept), 0)
    value = _paint.kept.get((*ground, strokes[:known]), below)
    for k in range(known, len(strokes)):
        value = _with_stroke(strokes[k], value, mesh, size)
        if k >= len(strokes) - 2:
            _paint.keep((*ground, strokes[:k + 1]), value)
    return value


def _with_stroke(stroke: Stroke, value: np.ndarray, mesh: PolyMesh, size: Size) -> np.ndarray:
    near, touch = _touched(stroke, mesh, size)
    was, out = value[near], value.copy()
    if stroke.does == "adds":
        out[near] += touch * (1.0 - was)
    elif stroke.does == "takes":
        out[near] -= touch * was
    else:
        out[near] += touch * (_smoothed(near, value, form_of(mesh, size), stroke.radius) - was)
    return out


@lru_cache(maxsize=96)
def _touched(stroke: Stroke, mesh: PolyMesh, size: Size) -> tuple[np.ndarray, np.ndarray]:
    """Which points (k,) a stroke reaches, and how much of it each gets (k,), 0 .. 1."""
    touch = _paint.touch_of(stroke, form_of(mesh, size))
    reached = np.flatnonzero(touch > 0.0)
    return reached, touch[reached]


def _smoothed(near: np.ndarray, value: np.ndarray, form: Form, width: float) -> np.ndarray:
    """Values (k,) of the points ``near``, smoothed with those about them."""
    if not len(near):
        return value[near]
    low, high = form.points[near].min(axis=0) - width, form.points[near].max(axis=0) + width
    about = ((form.points >= low) & (form.points <= high)).all(axis=1)
    triangles = form.triangles[about[form.triangles].all(axis=1)]
    number = np.cumsum(about) - 1
    heat = surface.Heat(form.points[about], number[triangles])
    return heat.spread(value[about], width)[number[near]]


def _near_line(tree: cKDTree, line: np.ndarray, radius: float) -> np.ndarray:
    """Which points of a tree are within a ``radius`` of a line (k, 3), and some more."""
    middles, half = (line[:-1] + line[1:]) / 2.0, np.linalg.norm(np.diff(line, axis=0), axis=1) / 2.0
    found = tree.query_ball_point(middles, radius + half) if len(middles) else tree.query_ball_point(line, radius)
    return distinct(np.concatenate(found).astype(np.int64))
