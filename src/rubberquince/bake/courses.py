"""Where keys lead pieces: places in time of what they hold, draw, or move whatever is in the way."""

from collections.abc import Callable

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.document.bodies import Meshes, local_points, unit_mesh
from rubberquince.document.scene import Piece, Place, Scene
from rubberquince.document.tracks import at_frame
from rubberquince.errors import ShapeError
from rubberquince.solver.specs import Course

NEAREST = 4                 # skin points that say where a node within is drawn to
Pose = tuple[np.ndarray, np.ndarray]        # (3, 3) from the unit box of a shape to the world, and (3,) m


def pose_of(place: Place) -> Pose:
    return place.rotation() * np.array(place.size), np.array(place.position)


def pose_at(piece: Piece, scene: Scene, frame: float, riders: tuple[str, ...] = ()) -> Pose:
    """Where a piece is at a frame by its keys, and by those of what it rides on.

    Raises ShapeError when that is gone, or rides on the piece itself.
    """
    turn, place = pose_of(at_frame(piece, frame).place)
    if not piece.rides_on:
        return turn, place
    mount = next((p for p in scene.pieces if p.id == piece.rides_on), None)
    if mount is None:
        raise ShapeError("the piece that it rides on is gone; choose another under Place")
    if mount.id in (*riders, piece.id):
        raise ShapeError(f"it rides on {mount.name}, which rides on it in turn")
    before, now = (pose_at(mount, scene, at, (*riders, piece.id)) for at in (scene.run.first, frame))
    step = now[0] @ np.linalg.inv(before[0])
    return step @ turn, step @ (place - before[1]) + now[1]


def course_of(piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray) -> Course | None:
    """Places of ``nodes`` (n, 3), m, of a piece in its own size about its centre, so many seconds after the start.

    None when neither keys nor its shape lead it.  Nodes within go along with the nearest points of the skin.
    """
    if not piece.has_course:
        return None
    size = np.array(at_frame(piece, scene.run.first).place.size)
    pose_at(piece, scene, scene.run.first)              # says what is wrong before anything is computed
    unit = nodes / size
    if not piece.shape_moves:
        return _course(piece, scene, lambda frame: unit)
    mesh, spread = unit_mesh(piece.shape, meshes), spread_to(local_points(piece, meshes), nodes)
    return _course(piece, scene, lambda frame: unit + spread(mesh.at(frame) - mesh.points))


def frame_course(piece: Piece, scene: Scene) -> Course:
    """The same of the corners of its unit box; see solver.specs.LedSpec."""
    pose_at(piece, scene, scene.run.first)
    corners = np.concatenate([np.zeros((1, 3)), np.eye(3)])
    return _course(piece, scene, lambda frame: corners)


def spread_to(skin: np.ndarray, nodes: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
    """From ways of the points (n, 3) of a ``skin`` to those of ``nodes`` (m, 3), by the nearest points."""
    if len(nodes) == len(skin):
        return lambda way: way
    far, near = cKDTree(skin).query(nodes, NEAREST)
    weight = 1.0 / np.maximum(far, 1e-9) ** 2
    weight /= weight.sum(axis=1, keepdims=True)
    return lambda way: np.einsum("nk,nki->ni", weight, way[near])


def _course(piece: Piece, scene: Scene, unit: Callable[[float], np.ndarray]) -> Callable[[float], np.ndarray]:
    """What is at ``unit`` in the unit box of a shape, by the frames since the first, in time."""
    first, fps, last = scene.run.first, scene.run.fps, float(scene.run.last)

    def course(since: float) -> np.ndarray:
        frame = min(first + since * fps, last + 1.0)
        turn, place = pose_at(piece, scene, frame)
        return unit(frame - first) @ turn.T + place
    return course
