"""What stands before the camera: the bodies of a scene, at a frame, in one of its displays."""

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from rubberquince.bake.holding import held_of
from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.scene import Piece, Scene
from rubberquince.errors import ShapeError
from rubberquince.view.body import Body

Display = Literal["smooth", "cells", "stretch", "holds", "gap", "map"]
DISPLAYS: tuple[Display, ...] = ("smooth", "cells", "stretch", "holds", "gap", "map")
CLEAR = 0.998               # of the way to a place: what is met before hides it
ROUND = 49                  # points around a ring
SIGNED = {"stretch": 1.0, "holds": 0.0, "map": 0.0}     # displays that tint by a value: has it a sign?


def _meets_box(eye: np.ndarray, along: np.ndarray, low: np.ndarray, high: np.ndarray) -> bool:
    """Does a ray meet a box?  Trees of triangles are only made for what it may meet."""
    way = np.where(np.abs(along) < 1e-12, 1e-12, along)
    one, two = (low - eye) / way, (high - eye) / way
    return bool(np.minimum(one, two).max() <= np.maximum(one, two).min() + 1e-9 and np.maximum(one, two).min() >= 0.0)


def linear_colour(text: str) -> tuple[float, float, float]:
    """Linear light of a colour like #E8890C; the shaders take the root again when they write it."""
    screen = np.array([int(text[k:k + 2], 16) / 255.0 for k in (1, 3, 5)])
    light = screen ** 2
    return float(light[0]), float(light[1]), float(light[2])


@dataclass(frozen=True, eq=False)
class Line:
    """A line to be drawn over everything: places (n, 3) m, and those of its beads (b, 3)."""

    points: np.ndarray
    beads: np.ndarray


@dataclass(frozen=True, eq=False)
class Spot:
    """A place on the skin of a piece: in the triangle of points ``corners`` (3,), which weigh ``weights`` (3,)."""

    piece: str
    corners: np.ndarray
    weights: np.ndarray


@dataclass(frozen=True, eq=False)
class Ring:
    """A ring that lies on a skin: its middle (3,) and ``radius``, m, and the normal (3,) there."""

    middle: np.ndarray
    normal: np.ndarray
    radius: float

    def points(self) -> np.ndarray:
        """(n, 3) m, around it."""
        aside = np.cross(self.normal, np.eye(3)[np.abs(self.normal).argmin()])
        aside /= max(float(np.linalg.norm(aside)), 1e-12)
        angle = np.linspace(0.0, 2.0 * np.pi, ROUND)[:, None]
        return self.middle + self.radius * (np.cos(angle) * aside + np.sin(angle) * np.cross(self.normal, aside))


@dataclass(frozen=True, eq=False)
class Pull:
    """A taut line from a place on a skin to where it is pulled (3,), m, and what is written beside it."""

    start: np.ndarray
    end: np.ndarray
    text: str


@dataclass
class Stage:
    """Bodies of a ``scene`` by piece id, in the order of the line-up; ``cells`` are triangle corners (n, 3, 3) by id,
    ``weights`` (n,) 0 .. 1 what the map to be shown says at the points of a piece.
    """

    scene: Scene = field(default_factory=Scene)
    bodies: dict[str, Body] = field(default_factory=dict)
    cells: dict[str, np.ndarray] = field(default_factory=dict)
    weights: dict[str, np.ndarray] = field(default_factory=dict)
    display: Display = "smooth"
    chosen: str | None = None
    _made_of: dict[str, Piece] = field(default_factory=dict)
    _meshes: dict[str, object] = field(default_factory=dict)

    def show(self, scene: Scene, meshes: Meshes) -> None:
        """Every visible piece as it is placed.  A piece that cannot be drawn is left out."""
        bodies: dict[str, Body] = {}
        for piece in scene.pieces:
            if not piece.visible:
                continue
            try:
                body = self._body(piece, meshes)
            except ShapeError:
                continue
            bodies[piece.id] = body
        self.scene, self.bodies = scene, bodies
        self._made_of = {p.id: p for p in scene.pieces}

    def _body(self, piece: Piece, meshes: Meshes) -> Body:
        old, body = self._made_of.get(piece.id), self.bodies.get(piece.id)
        mesh = unit_mesh(piece.shape, meshes)
        if body is None or old is None or self._meshes.get(piece.id) is not mesh or old.place.size != piece.place.size:
            body, old = Body(mesh, piece.place.size), None
            self._meshes[piece.id] = mesh
        if old is None or old.place != piece.place or old.is_seen_moving != piece.is_seen_moving:
            body.place(piece_points(piece, meshes))     # what stands still is lit anew when it is placed
            body.tint_by(None)
        body.colour = linear_colour(piece.look.colour)
        body.material = piece.look.material
        body.moves, body.gap, body.casts = piece.is_seen_moving, piece.contact.gap, piece.role != "force"
        body.held = held_of(piece, meshes).astype(np.float32)
        return body

    def show_frame(self, moving: dict[str, np.ndarray]) -> None:
        """Solids at a frame: skin points (n, 3) by piece id."""
        for piece_id, points in moving.items():
            body = self.bodies.get(piece_id)
            if body is not None and len(points) == len(body.rest):
                body.place(points)
                if self.display == "stretch":
                    body.tint_by_stretch()
                elif self.display == "holds":
                    body.tint_by(body.held)
                elif self.display == "map":
                    body.tint_by(self.weights.get(piece_id))

    def at(self, eye: np.ndarray, along: np.ndarray) -> str | None:
        """The piece that a ray meets first."""
        nearest, found = np.inf, None
        for piece_id, body in self.bodies.items():
            if not _meets_box(eye, along, *body.bounds()):
                continue
            distance = body.rays.distance(eye, along)
            if distance < nearest:
                nearest, found = distance, piece_id
        return found

    def spot(self, eye: np.ndarray, along: np.ndarray) -> Spot | None:
        """Where a ray meets the chosen piece, if that is what it meets first."""
        body = self.bodies.get(self.chosen or "")
        if body is None or self.chosen is None or self.at(eye, along) != self.chosen:
            return None
        met = body.rays.spot(eye, along)
        return Spot(self.chosen, body.plain_triangles[met[0]], met[1]) if met is not None else None

    def seen(self, eye: np.ndarray, places: np.ndarray) -> np.ndarray:
        """Which ``places`` (k, 3) on the chosen piece no part of it hides from the ``eye``, (k,) bool."""
        body = self.bodies.get(self.chosen or "")
        if body is None or not len(places):
            return np.ones(len(places), bool)
        way = places - eye
        return body.rays.hits(np.broadcast_to(eye, places.shape), way)[0] > CLEAR

    def bounds(self, only: list[str] | None = None) -> tuple[np.ndarray, np.ndarray] | None:
        """Box (low, high) m around the pieces with these ids, or all; None when there are none."""
        boxes = [b.bounds() for key, b in self.bodies.items() if only is None or key in only]
        if not boxes:
            return None
        return np.min([low for low, _ in boxes], axis=0), np.max([high for _, high in boxes], axis=0)
