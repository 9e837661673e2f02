"""Where keys lead pieces: places in time of what they hold, draw, or move whatever is in the way."""

from collections.abc import Callable
from functools import reduce

import numpy as np
from scipy.interpolate import RBFInterpolator
from scipy.spatial.transform import Rotation

from rubberquince.document.bodies import Meshes, local_points, unit_mesh
from rubberquince.document.scene import Piece, Place, Scene
from rubberquince.document.tracks import at_frame
from rubberquince.document.values import ReshapeValues
from rubberquince.errors import ShapeError
from rubberquince.shapes.reshape import Reshape, reshaped
from rubberquince.solver.specs import Course

LINE_STEPS = 24             # points from bead to bead
MOST_ANCHORS = 400          # skin points that say where nodes within are led, and how many weights they may take
MOST_WEIGHTS = 20_000_000
Pose = tuple[np.ndarray, np.ndarray]        # (3, 3) from the unit box of a shape to the world, and (3,) m


def pose_of(place: Place) -> Pose:
    return place.rotation() * np.array(place.size), np.array(place.position)


def pose_at(piece: Piece, scene: Scene, frame: float, riders: tuple[str, ...] = ()) -> Pose:
    """Where a piece is at a frame by its keys, by the line that it moves along, and by the keys of what it rides on.
    What rides on something that moves by itself is where it would be if that stayed.

    Raises ShapeError when one of these is gone, or it rides on what rides on it.
    """
    now = at_frame(piece, frame).place
    turn, place = pose_of(now)
    if piece.moves_along:
        way, start = _line(piece, scene), at_frame(piece, scene.run.first).place.along
        place = place + _on_line(way, now.along) - _on_line(way, start)
        if piece.turns_along:
            turn = _turn_along(way, start, now.along) @ turn
    if not piece.rides_on:
        return turn, place
    mount = next((p for p in scene.pieces if p.id == piece.rides_on), None)
    if mount is None:
        raise ShapeError("the piece that it rides on is gone; choose another under Place")
    if mount.id in (*riders, piece.id):
        raise ShapeError(f"it rides on {mount.name}, which rides on it in turn")
    if mount.moves and piece.role != "force":
        raise ShapeError(f"it rides on {mount.name}, which moves by itself: only forces can; make it Carried instead")
    if mount.moves:
        return turn, place                              # where it goes is found as the run goes on
    before, after = (pose_at(mount, scene, at, (*riders, piece.id)) for at in (scene.run.first, frame))
    step = after[0] @ np.linalg.inv(before[0])
    return step @ turn, step @ (place - before[1]) + after[1]


def _line(piece: Piece, scene: Scene) -> np.ndarray:
    """Points (n, 3), m, close together on the smooth line past the beads of the one that a piece moves along.

    From bead to bead it is a cubic with slopes by its neighbours (Catmull, Rom 1974).
    """
    other_id, _, line = piece.moves_along.partition(" ")
    other = next((p for p in scene.pieces if p.id == other_id), None)
    curve = other.curve(line) if other is not None else None
    if other is None or curve is None:
        raise ShapeError("the line that it moves along is gone; choose another under Place")
    turn, place = pose_of(other.place)
    beads = np.array(curve.beads) @ turn.T + place
    beads = np.concatenate([beads[-1:], beads, beads[:2]] if curve.closed else [beads[:1], beads, beads[-1:]])
    share = np.linspace(0.0, 1.0, LINE_STEPS)[:, None]
    parts = [0.5 * (2.0 * b + (c - a) * share + (2.0 * a - 5.0 * b + 4.0 * c - d) * share ** 2
                    + (3.0 * b - a - 3.0 * c + d) * share ** 3)
             for a, b, c, d in zip(beads, beads[1:], beads[2:], beads[3:])]
    return np.concatenate([beads[1:2], *parts])


def _on_line(way: np.ndarray, share: float) -> np.ndarray:
    """The place (3,), m, at a ``share`` 0 .. 1 of the length of a line of points ``way`` (n, 3)."""
    gone = _gone(way)
    return np.array([np.interp(share, gone, way[:, i]) for i in range(3)])


def _gone(way: np.ndarray) -> np.ndarray:
    """The share 0 .. 1 of a line's length that is gone at each of its points (n, 3), m."""
    gone = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(way, axis=0), axis=1)))
    return np.asarray(gone / max(gone[-1], 1e-300))


def _turn_along(way: np.ndarray, start: float, end: float) -> np.ndarray:
    """How (3, 3) a line turns between two shares 0 .. 1 of its length, without ever turning about itself (Bishop 1975).
    """
    gone = _gone(way)
    toward = np.gradient(way, axis=0)
    if np.allclose(way[0], way[-1]):
        toward[0] = toward[-1] = toward[0] + toward[-1]         # a closed line has no ends
    between = (gone > min(start, end)) & (gone < max(start, end))
    shares = np.concatenate([[start], gone[between][::1 if end >= start else -1], [end]])
    along = np.stack([np.interp(shares, gone, toward[:, i]) for i in range(3)], axis=1)
    length = np.linalg.norm(along, axis=1, keepdims=True)
    along = np.where(length > 1e-9, along / np.maximum(length, 1e-9), 0.0)      # without length it leads nowhere
    axis = np.cross(along[:-1], along[1:])
    sine = np.linalg.norm(axis, axis=1, keepdims=True)
    angle = np.arctan2(sine, (along[:-1] * along[1:]).sum(axis=1, keepdims=True))
    turns = Rotation.from_rotvec(axis / np.maximum(sine, 1e-300) * angle).as_matrix()
    return reduce(lambda turned, step: step @ turned, turns, np.eye(3))


def course_of(piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray) -> Course | None:
    """Places of ``nodes`` (n, 3), m, of a piece in its own size about its centre, so many seconds after the start.

    None when neither keys nor its shape lead it.  Nodes within go along with the nearest points of the skin.
    """
    if not piece.has_course:
        return None
    size = np.array(at_frame(piece, scene.run.first).place.size)
    pose_at(piece, scene, scene.run.first)              # says what is wrong before anything is computed
    if not piece.shape_moves and not piece.reshapes:
        unit = nodes / size
        return _course(piece, scene, lambda frame: unit)
    local = _local_course(piece, scene, meshes, nodes)
    return _course(piece, scene, lambda frame: local(frame) / size)


def rest_course(piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray) -> Course | None:
    """Where ``nodes`` (n, 3), m, of a piece want to be in its own frame, so many seconds after the start; None where
    that does not change what it is made of.
    """
    if not piece.rest_moves:
        return None
    local, first, fps = _local_course(piece, scene, meshes, nodes), scene.run.first, scene.run.fps
    return lambda since: local(min(since * fps, scene.run.last + 1.0 - first))


def _local_course(piece: Piece, scene: Scene, meshes: Meshes, nodes: np.ndarray) -> Course:
    """The same in frames after the first, by its moving mesh and by how it is reshaped."""
    size, first = np.array(at_frame(piece, scene.run.first).place.size), scene.run.first
    mesh = unit_mesh(piece.shape, meshes)
    spread = spread_to(local_points(piece, meshes), nodes) if piece.shape_moves else None

    def local(frame: float) -> np.ndarray:
        points = nodes if spread is None else nodes + spread(mesh.at(frame) - mesh.points) * size
        if not piece.reshapes:
            return points
        return reshaped(points, size, reshape_of(at_frame(piece, first + frame).reshape))
    return local


def reshape_of(values: ReshapeValues) -> Reshape:
    """How a shape is deformed by the values of a piece."""
    bend, toward, twist = np.radians([values.bend, values.toward, values.twist])
    return Reshape("xyz".index(values.axis), bend, toward, twist, values.taper, values.swell, values.squash)


def frame_course(piece: Piece, scene: Scene) -> Course:
    """The same of the corners of its unit box; see solver.specs.LedSpec."""
    pose_at(piece, scene, scene.run.first)
    corners = np.concatenate([np.zeros((1, 3)), np.eye(3)])
    return _course(piece, scene, lambda frame: corners)


def placed_at(piece: Piece, scene: Scene, meshes: Meshes, frame: float) -> np.ndarray:
    """The points (n, 3), m, of the skin of a piece that keys lead, at a frame."""
    turn, place = pose_at(piece, scene, frame)
    size = np.array(at_frame(piece, scene.run.first).place.size)
    local = _local_course(piece, scene, meshes, local_points(piece, meshes))
    return local(frame - scene.run.first) / size @ turn.T + place


def spread_to(skin: np.ndarray, nodes: np.ndarray) -> Callable[[np.ndarray], np.ndarray]:
    """From ways of the points (n, 3) of a ``skin`` to those of ``nodes`` (m, 3) within, which go along smoothly.

    They are biharmonic through points of the skin all over it, and keep straight what is straight (Duchon 1977).
    """
    if np.array_equal(nodes, skin):
        return lambda way: way
    some = _all_over(skin, max(min(MOST_ANCHORS, MOST_WEIGHTS // max(len(nodes), 1)), 8))
    unit = max(float(np.ptp(skin, axis=0).max()), 1e-12)
    through = RBFInterpolator(skin[some] / unit, np.eye(len(some)), kernel="linear", degree=1, smoothing=1e-9)
    weight = through(nodes / unit)
    return lambda way: weight @ way[some]


def _all_over(points: np.ndarray, most: int) -> np.ndarray:
    """Numbers of at most so many of the ``points`` (n, 3), m, about evenly far from each other."""
    low, edge = points.min(axis=0), float(np.ptp(points, axis=0).max()) / most
    while True:
        some = np.unique(np.floor((points - low) / max(edge, 1e-12)), axis=0, return_index=True)[1]
        if len(some) <= most:
            return np.sort(some)
        edge *= 1.2


def _course(piece: Piece, scene: Scene, unit: Callable[[float], np.ndarray]) -> Callable[[float], np.ndarray]:
    """What is at ``unit`` in the unit box of a shape, by the frames since the first, in time."""
    first, fps, last = scene.run.first, scene.run.fps, float(scene.run.last)

    def course(since: float) -> np.ndarray:
        frame = min(first + since * fps, last + 1.0)
        turn, place = pose_at(piece, scene, frame)
        return unit(frame - first) @ turn.T + place
    return course
