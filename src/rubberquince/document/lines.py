"""Which points of its skin the lines of a piece go past: its curves and its outline."""

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.document.bodies import Meshes, unit_mesh
from rubberquince.document.scene import Piece
from rubberquince.shapes.paths import path_through
from rubberquince.shapes.polymesh import rims


def outline_of(triangles: np.ndarray) -> np.ndarray:
    """The points (k,) on the rims of a skin."""
    loops = rims(triangles)
    return np.unique(np.concatenate(loops)) if loops else np.zeros(0, np.int64)


def line_of(piece: Piece, curve_id: str, meshes: Meshes) -> np.ndarray:
    """The skin points (k,) of one of the piece's curves in their order, by "" of its outline, or of one of its sets;
    none if it is gone.
    """
    mesh = unit_mesh(piece.shape, meshes)
    if not curve_id:
        return outline_of(mesh.triangles)
    curve, size = piece.curve(curve_id), np.array(piece.place.size)
    kept = next((one for one in piece.sets if one.id == curve_id), None)
    if kept is not None:
        far = np.asarray(cKDTree(np.array(kept.places) * size).query(mesh.points * size)[0])
        return np.flatnonzero(far <= kept.reach)
    if curve is None:
        return np.zeros(0, np.int64)
    return path_through(mesh.points * size, mesh.triangles, np.array(curve.beads) * size, curve.closed)
