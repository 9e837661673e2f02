"""Which points of its skin the lines of a piece go past: its curves and its outline."""

from functools import lru_cache

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.distinct import distinct
from rubberquince.document.bodies import Meshes, unit_mesh
from rubberquince.document.scene import Curve, Piece
from rubberquince.shapes.paths import Paths
from rubberquince.shapes.polymesh import PolyMesh, rims
from rubberquince.shapes.rays import nearest_hits
from rubberquince.shapes.surface import point_normals

BENEATH = 1e-3              # of the size: how far beneath the skin a line sets out for the far side


def mirrored(curve: Curve) -> Curve:
    """The same line on the other side of the middle of the shape's x."""
    return curve.model_copy(update={"beads": tuple((-x, y, z) for x, y, z in curve.beads)})


def smoothed(curve: Curve) -> Curve:
    """The line with each bead half way to the middle of its neighbours; the ends of an open one stay."""
    beads = np.array(curve.beads)
    if len(beads) < 3:
        return curve
    middle = 0.5 * (np.roll(beads, 1, axis=0) + np.roll(beads, -1, axis=0))
    fresh = 0.5 * (beads + middle)
    if not curve.closed:
        fresh[[0, -1]] = beads[[0, -1]]
    return curve.model_copy(update={"beads": tuple((float(x), float(y), float(z)) for x, y, z in fresh)})


def on_the_far_side(piece: Piece, curve: Curve, meshes: Meshes) -> Curve | None:
    """The line as it comes out on the other side of the piece, straight through; None where there is no other side."""
    mesh, size = unit_mesh(piece.shape, meshes), np.array(piece.place.size)
    points = mesh.points * size
    start = np.atleast_1d(cKDTree(points).query(np.array(curve.beads) * size)[1])
    inward = -point_normals(points, mesh.triangles)[start]
    origin = points[start] + BENEATH * float(np.ptp(points, axis=0).max()) * inward
    far = nearest_hits(points, mesh.triangles, origin, inward)
    met = np.isfinite(far)
    if not met.any():
        return None
    there = (origin[met] + far[met, None] * inward[met]) / size
    return curve.model_copy(update={"beads": tuple((float(x), float(y), float(z)) for x, y, z in there)})


def outline_of(triangles: np.ndarray) -> np.ndarray:
    """The points (k,) on the rims of a skin."""
    loops = rims(triangles)
    return distinct(np.concatenate(loops)) if loops else np.zeros(0, np.int64)


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
    return _path(mesh, piece.place.size, curve.beads, curve.closed)


@lru_cache(maxsize=256)
def _path(mesh: PolyMesh, size: tuple[float, float, float], beads: tuple[tuple[float, float, float], ...],
          closed: bool) -> np.ndarray:
    """Found once for each line: the view, the sheet and the checks ask for it again and again."""
    return _paths(mesh, size).through(np.array(beads) * np.array(size), closed)


@lru_cache(maxsize=4)
def _paths(mesh: PolyMesh, size: tuple[float, float, float]) -> Paths:
    return Paths(mesh.points * np.array(size), mesh.triangles)
