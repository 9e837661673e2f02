"""Pieces that are carried by another one: they have no mechanics, only a skin that goes where that one goes."""

import igl
import numpy as np

from rubberquince.bake.assemble import Assembly, by_id
from rubberquince.bake.balls import balls_of
from rubberquince.bake.courses import course_of
from rubberquince.document.bodies import Meshes, local_points, piece_points, piece_triangles
from rubberquince.document.scene import Piece, Scene
from rubberquince.errors import RunError, ShapeError
from rubberquince.shapes.lattice import CARRY, smooth_binding
from rubberquince.shapes.surface import point_normals
from rubberquince.solver.carriers.rigid import shares_of
from rubberquince.solver.stepper import Stepper


class Rider:
    """One carried piece.  By a lattice it is carried smoothly within the cells, by a skin along with the nearest place.
    """

    def __init__(self, piece: Piece, number: int, carrier: Piece, stepper: Stepper, meshes: Meshes) -> None:
        world, self._number = stepper.world, number
        self.piece, self.points = piece, piece_points(piece, meshes)
        self._nodes = slice(int(world.first_node[number]), int(world.first_node[number + 1]))
        self._filled = not carrier.of_skin
        if carrier.role == "rigid":
            self._node = np.tile(np.arange(4), (len(self.points), 1))
            self._weight = shares_of(self.points, world.start[self._nodes])
            return
        start = world.start[self._nodes]
        if self._filled:
            self._node, self._weight = smooth_binding(self.points, start, CARRY * world.carriers[number].size)
            return
        self._triangles = piece_triangles(carrier, meshes).astype(np.int64)
        _, nearest, foot = igl.point_mesh_squared_distance(np.ascontiguousarray(self.points), start, self._triangles)
        corners = self._triangles[nearest]
        self._corners, self._share = corners, _shares(foot, start[corners])
        self._aside = np.einsum("nij,nj->ni", self._frames(start), self.points - foot)

    def skin(self, x: np.ndarray, since: float) -> np.ndarray:
        """Its points (n, 3), m, with the nodes of the run at ``x``, ``since``, s, after the start."""
        mine = x[self._nodes]
        if self._filled:
            return np.einsum("nk,nki->ni", self._weight, mine[self._node])
        foot = np.einsum("nk,nki->ni", self._share, mine[self._corners])
        return foot + np.einsum("nij,ni->nj", self._frames(mine), self._aside)

    def _frames(self, points: np.ndarray) -> np.ndarray:
        """Three directions (n, 3, 3), rows, that turn with the skin at the foot of each point."""
        normals = point_normals(points, self._triangles)
        up = np.einsum("nk,nki->ni", self._share, normals[self._corners])
        up /= np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-300)
        along = points[self._corners[:, 1]] - points[self._corners[:, 0]]
        along = along - (along * up).sum(axis=1, keepdims=True) * up
        along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
        return np.stack([along, up, np.cross(along, up)], axis=1)


class Pellets:
    """The skin of pellets: each ball goes along with its node, and does not turn."""

    def __init__(self, piece: Piece, number: int, stepper: Stepper, meshes: Meshes) -> None:
        self.piece, self.points = piece, piece_points(piece, meshes)
        self._part = balls_of(piece, meshes).part + stepper.world.first_node[number]
        self._aside = self.points - stepper.world.start[self._part]

    def skin(self, x: np.ndarray, since: float) -> np.ndarray:
        """The same as of a Rider."""
        return x[self._part] + self._aside


class LedScenery:
    """Scenery that keys lead."""

    def __init__(self, piece: Piece, scene: Scene, meshes: Meshes) -> None:
        course = course_of(piece, scene, meshes, local_points(piece, meshes))
        assert course is not None
        self.piece, self._course, self.points = piece, course, course(0.0)

    def skin(self, x: np.ndarray, since: float) -> np.ndarray:
        """The same as of a Rider."""
        return self._course(since)


def riders_of(scene: Scene, meshes: Meshes, assembly: Assembly, stepper: Stepper) -> list[Rider | Pellets | LedScenery]:
    """All pellets, all carried pieces in the order of their ids, then scenery that keys lead.

    Raises RunError naming the one whose carrier is gone.
    """
    bodies = {piece.id: k for k, piece in enumerate(assembly.bodies) if piece.moves}
    found: list[Rider | Pellets | LedScenery] = [Pellets(piece, k, stepper, meshes) for k, piece
                                                 in enumerate(assembly.bodies) if piece.role == "pellets"]
    for piece in sorted((p for p in scene.pieces if p.role == "carried"), key=lambda p: p.id):
        if piece.carried_by not in bodies:
            raise RunError(f"{piece.name} is carried by nothing: choose a piece that moves in its Role and feel.")
        number = bodies[piece.carried_by]
        found.append(Rider(piece, number, assembly.bodies[number], stepper, meshes))
    for piece in by_id(scene, "scenery"):
        if piece.is_led:
            try:
                found.append(LedScenery(piece, scene, meshes))
            except ShapeError as error:
                raise RunError(f"{piece.name}: {error}") from None
    return found


def _shares(foot: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """What the corners (n, 3, 3) of triangles weigh (n, 3) at points ``foot`` (n, 3) in them."""
    a, u, v = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    uu, uv, vv = (u * u).sum(axis=1), (u * v).sum(axis=1), (v * v).sum(axis=1)
    wu, wv = ((foot - a) * u).sum(axis=1), ((foot - a) * v).sum(axis=1)
    det = np.maximum(uu * vv - uv * uv, 1e-300)
    s, t = (vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det
    return np.column_stack([1.0 - s - t, s, t])
