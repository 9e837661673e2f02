"""Which points of a piece's skin are meant: its outline, its corners, a curve on it, those between two heights."""

import numpy as np

from rubberquince.document.bodies import Meshes, unit_mesh
from rubberquince.document.lines import line_of
from rubberquince.document.scene import Piece
from rubberquince.document.values import HoldValues
from rubberquince.shapes.polymesh import rims

COS_CORNER = float(np.cos(np.pi / 4)) + 1e-6


def held_of(piece: Piece, meshes: Meshes) -> np.ndarray:
    """Which points (n,) bool of a piece's skin never move, by where they start.

    A corner is where the outline turns by more than an eighth.
    """
    mesh, hold = unit_mesh(piece.shape, meshes), piece.hold
    chosen = np.zeros(len(mesh.points), bool)
    if not piece.moves or (not piece.of_skin and hold.what != "everything"):
        return chosen
    points = mesh.points * np.array(piece.place.size)
    if hold.what == "everything":
        chosen[:] = True
    elif hold.what == "curve" and hold.curve:
        chosen[line_of(piece, hold.curve, meshes)] = True
    elif hold.what in ("outline", "corners"):
        for rim in rims(mesh.triangles):
            chosen[corners_of(points, rim) if hold.what == "corners" else rim] = True
    return chosen & within_heights(hold, points @ piece.place.rotation().T)


def within_heights(hold: HoldValues, points: np.ndarray) -> np.ndarray:
    """Which of ``points`` (n, 3) start between the heights that are held, (n,) bool."""
    low, high = points[:, 1].min(), points[:, 1].max()
    height = (points[:, 1] - low) / max(high - low, 1e-9)
    return (height >= hold.above - 1e-6) & (height <= hold.below + 1e-6)


def corners_of(points: np.ndarray, rim: np.ndarray) -> np.ndarray:
    """The points of a rim, edges (e, 2) in any order, where it turns by more than an eighth."""
    after = dict(rim.tolist())
    before = {b: a for a, b in rim.tolist()}
    middle = np.array([p for p in after if p in before], np.int64)
    one = points[middle] - points[[before[p] for p in middle]]
    two = points[[after[p] for p in middle]] - points[middle]
    length = np.linalg.norm(one, axis=1) * np.linalg.norm(two, axis=1)
    return middle[(one * two).sum(axis=1) < COS_CORNER * length]


def grain_of(piece: Piece, meshes: Meshes) -> np.ndarray:
    """Direction (t, 3) of the grain on each triangle of a Shell's skin, before the piece is turned.

    By its shape it is x turned about y; by its texture, that of u turned in the triangle's plane.
    """
    mesh, values = unit_mesh(piece.shape, meshes), piece.shell
    turn = np.radians(values.grain)
    if values.grain_by == "shape" or not len(mesh.face_uvs):
        return np.tile([np.cos(turn), 0.0, -np.sin(turn)], (len(mesh.triangles), 1))
    a, b, c = ((mesh.points * np.array(piece.place.size))[mesh.triangles[:, k]] for k in range(3))
    p, q, r = (mesh.uvs[mesh.face_uvs[mesh.fans[:, k]]].astype(float) for k in range(3))
    one, two = q - p, r - p
    det = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]
    way = np.sign(np.where(det == 0.0, 1.0, det))[:, None] * ((b - a) * two[:, 1:] - (c - a) * one[:, 1:])
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    length = np.linalg.norm(way, axis=1, keepdims=True)
    way = np.where(length > 0.0, way / np.maximum(length, 1e-300), [1.0, 0.0, 0.0])
    return np.cos(turn) * way + np.sin(turn) * np.cross(normal, way)
