"""Handles on the chosen piece: lines in the world to grab, and what dragging one does to its place.

Arrows move along x, y and z; rings turn about them; square grips size one side, the corner grip all of it.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.spatial.transform import Rotation

from rubberquince.document.scene import Place
from rubberquince.view.camera import Camera

REACH = 8.0                 # px from the pointer to a line that still takes it
RING_POINTS = 64
LEAST_SIZE = 1e-3           # m
AXES = "xyz"
TURN_STEP, MOVE_STEP = 15.0, 0.01      # degrees, m: with the snap key held


@dataclass(frozen=True, eq=False)
class Handle:
    """``line`` (n, 3) m in the world; a grip is a line of one point.  ``axis`` None sizes all three."""

    kind: Literal["move", "turn", "size"]
    axis: int | None
    line: np.ndarray

    @property
    def name(self) -> str:
        return f"{self.kind} {AXES[self.axis] if self.axis is not None else 'all'}"


def handles_of(place: Place) -> list[Handle]:
    """All handles of a piece that is placed so."""
    centre, size, axes = np.array(place.position), np.array(place.size), place.rotation()
    extent = np.abs(axes) @ size / 2
    reach = float(np.linalg.norm(size)) / 2
    found = []
    for k in range(3):
        along = np.eye(3)[k]
        start = centre + along * (extent[k] + 0.18 * reach)
        found.append(Handle("move", k, np.array([start, start + along * 0.55 * reach])))
        found.append(Handle("size", k, (centre + axes[:, k] * (size[k] / 2 + 0.07 * reach))[None]))
    corner = centre + axes @ (size / 2 * np.array([1.06, 1.06, 1.06]))
    found.append(Handle("size", None, corner[None]))
    angle = np.linspace(0, 2 * np.pi, RING_POINTS + 1)
    for k in range(3):
        u, v = np.eye(3)[(k + 1) % 3], np.eye(3)[(k + 2) % 3]
        circle = np.outer(np.cos(angle), u) + np.outer(np.sin(angle), v)
        found.append(Handle("turn", k, centre + 1.25 * reach * circle))
    return found


def under_pointer(handles: list[Handle], camera: Camera, at: tuple[float, float],
                  size: tuple[float, float]) -> Handle | None:
    """The handle within reach of pixel ``at``; grips and arrows before rings."""
    best, nearest = None, REACH
    for handle in handles:
        line = camera.project(handle.line, *size)
        if (line[:, 2] <= 0).any():
            continue
        distance = _distance_to_line(line[:, :2], np.array(at)) + (2.0 if handle.kind == "turn" else 0.0)
        if distance < nearest:
            best, nearest = handle, distance
    return best


def _distance_to_line(line: np.ndarray, at: np.ndarray) -> float:
    if len(line) == 1:
        return float(np.linalg.norm(line[0] - at))
    a, b = line[:-1], line[1:]
    along = b - a
    t = np.clip(((at - a) * along).sum(axis=1) / np.maximum((along ** 2).sum(axis=1), 1e-12), 0, 1)
    return float(np.linalg.norm(a + t[:, None] * along - at, axis=1).min())


@dataclass(frozen=True, eq=False)
class Drag:
    """A handle being dragged: where the piece was, and the ray (eye, direction) it was taken with."""

    handle: Handle
    place: Place
    eye: np.ndarray
    along: np.ndarray

    def to(self, eye: np.ndarray, along: np.ndarray, snap: bool) -> Place:
        """The place after dragging to another ray."""
        if self.handle.kind == "move":
            return self._moved(eye, along, snap)
        if self.handle.kind == "turn":
            return self._turned(eye, along, snap)
        return self._sized(eye, along, snap)

    def _moved(self, eye: np.ndarray, along: np.ndarray, snap: bool) -> Place:
        axis = self.handle.axis or 0
        start, direction = self.handle.line[0], np.eye(3)[axis]
        way = _along_line(start, direction, eye, along) - _along_line(start, direction, self.eye, self.along)
        position = list(self.place.position)
        position[axis] = _snapped(position[axis] + way, MOVE_STEP, snap)
        return _changed(self.place, position=position)

    def _turned(self, eye: np.ndarray, along: np.ndarray, snap: bool) -> Place:
        axis = self.handle.axis or 0
        centre, normal = np.array(self.place.position), np.eye(3)[axis]
        angle = _angle(eye, along, centre, axis) - _angle(self.eye, self.along, centre, axis)
        angle = _snapped(np.degrees((angle + np.pi) % (2 * np.pi) - np.pi), TURN_STEP, snap)
        turned = Rotation.from_rotvec(np.radians(angle) * normal) * Rotation.from_matrix(self.place.rotation())
        y, x, z = turned.as_euler("YXZ", degrees=True)
        return _changed(self.place, turn=[x, y, z])

    def _sized(self, eye: np.ndarray, along: np.ndarray, snap: bool) -> Place:
        """The far side stays where it is; the corner grip keeps the middle of the bottom."""
        centre, size, axes = np.array(self.place.position), np.array(self.place.size), self.place.rotation()
        axis = self.handle.axis
        direction = axes[:, axis] if axis is not None else self.handle.line[0] - centre
        direction = direction / np.linalg.norm(direction)
        before = _along_line(centre, direction, self.eye, self.along)
        now = _along_line(centre, direction, eye, along)
        if axis is not None:
            new = size.copy()
            new[axis] = max(_snapped(size[axis] + now - before, MOVE_STEP, snap), LEAST_SIZE)
            return _changed(self.place, size=new, position=centre + axes[:, axis] * (new[axis] - size[axis]) / 2)
        factor = max(now / max(before, 1e-9), LEAST_SIZE / size.min())
        if snap:
            factor = max(round(factor * 20) / 20, 0.05)
        stays = centre - axes[:, 1] * size[1] / 2
        return _changed(self.place, size=size * factor, position=stays + (centre - stays) * factor)


def slide(place: Place, grabbed: np.ndarray, eye: np.ndarray, along: np.ndarray, snap: bool) -> Place:
    """The piece taken at the point ``grabbed`` and slid level to where a ray meets that height."""
    if abs(along[1]) < 1e-3:
        return place
    way = (grabbed[1] - eye[1]) / along[1]
    if way <= 0:
        return place
    to = eye + way * along
    x = _snapped(place.position[0] + to[0] - grabbed[0], MOVE_STEP, snap)
    z = _snapped(place.position[2] + to[2] - grabbed[2], MOVE_STEP, snap)
    return _changed(place, position=(x, place.position[1], z))


def _changed(place: Place, **values: object) -> Place:
    rounded = {name: tuple(round(float(v), 6) for v in np.clip(np.asarray(vector, float), -1e3, 1e3))
               for name, vector in values.items()}
    return Place.model_validate({**place.model_dump(), **rounded})


def _snapped(value: float, step: float, snap: bool) -> float:
    return round(value / step) * step if snap else float(value)


def _along_line(start: np.ndarray, direction: np.ndarray, eye: np.ndarray, along: np.ndarray) -> float:
    """Where on a line, m from ``start``, it comes nearest to a ray."""
    between = eye - start
    b = float(direction @ along)
    if 1.0 - b * b < 1e-6:
        return 0.0
    return float((direction @ between - b * (along @ between)) / (1.0 - b * b))


def _angle(eye: np.ndarray, along: np.ndarray, centre: np.ndarray, axis: int) -> float:
    """Angle, about ``axis``, of the point in which a ray meets the plane across it."""
    steep = along[axis]
    way = (centre[axis] - eye[axis]) / (steep if abs(steep) > 1e-3 else 1e-3)
    at = eye + way * along - centre
    return float(np.arctan2(at[(axis + 2) % 3], at[(axis + 1) % 3]))
