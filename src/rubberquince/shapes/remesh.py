"""Other meshes of the same shape: refined evenly, thinned where it is flat, or made anew from its inside."""

import fast_simplification
import igl
import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import PolyMesh, is_closed

MOST_FACES = 400_000        # of a refined mesh
MOST_GRID = 3_000_000       # grid points of a remesh
MARGINS = (1.51, 1.23, 1.77, 1.37, 1.62, 1.91)       # cells of the grid beyond the shape, the first that will do
LEAST_FACES = 12            # of a thinned mesh: fewer make no body


def refined(mesh: PolyMesh) -> PolyMesh:
    """Every face of n corners becomes n quads around its middle; the surface stays as it is.

    Raises ShapeError when the faces would be too many.
    """
    if len(mesh.face_points) > MOST_FACES:
        raise ShapeError(f"Refined, the mesh would have {len(mesh.face_points):,} faces; "
                         f"{MOST_FACES:,} are the most.".replace(",", " "))
    points, corners = _halved(mesh.points, mesh.face_sizes, mesh.face_points)
    uvs, uv_corners = mesh.uvs, mesh.face_uvs
    if len(uv_corners):
        fine, uv_corners = _halved(mesh.uvs.astype(float), mesh.face_sizes, mesh.face_uvs)
        uvs = fine.astype(np.float32)
    return PolyMesh(points, np.full(len(corners) // 4, 4, np.int32), corners, uvs, uv_corners)


def _halved(points: np.ndarray, sizes: np.ndarray, corners: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points with the middles of edges and faces behind them, and the corners of the quads they make."""
    starts = np.cumsum(sizes) - sizes
    face = np.repeat(np.arange(len(sizes)), sizes)
    here = np.arange(len(corners))
    after = np.where(here + 1 == (starts + sizes)[face], starts[face], here + 1)
    pairs = np.sort(np.stack([corners, corners[after]], axis=1), axis=1)
    edges, edge = np.unique(pairs, axis=0, return_inverse=True)
    edge = edge.reshape(-1) + len(points)
    before = np.empty_like(here)
    before[after] = here
    middles = np.add.reduceat(points[corners], starts) / sizes[:, None]
    quads = np.stack([corners, edge, face + len(points) + len(edges), edge[before]], axis=1)
    return (np.concatenate([points, points[edges].mean(axis=1), middles]), quads.reshape(-1).astype(np.int32))


def thinned(mesh: PolyMesh, share: float) -> PolyMesh:
    """Triangles, about ``share`` 0 .. 1 of them, flat parts first (Garland, Heckbert 1997); texture is lost.

    Raises ShapeError when nothing is left to thin.
    """
    wanted = max(int(share * len(mesh.triangles)), LEAST_FACES)
    if wanted >= len(mesh.triangles):
        raise ShapeError(f"The mesh has {len(mesh.triangles)} triangles; it cannot be thinned further.")
    points, triangles = fast_simplification.simplify(np.ascontiguousarray(mesh.points, np.float64),
                                                     mesh.triangles.astype(np.int64), target_count=wanted)[:2]
    return of_triangles(points, triangles)


def remeshed(points: np.ndarray, triangles: np.ndarray, cell: float) -> PolyMesh:
    """A closed mesh around what lies inside, of faces about ``cell``, m, wide; dirty or open input will do.

    Inside is where the winding number is above a half (Jacobson et al. 2013); the surface is where the
    signed distance is zero (Lorensen, Cline 1987).  Raises ShapeError when there is no inside, or too many
    faces.
    """
    for margin in MARGINS:
        mesh = _surface(points, triangles.astype(np.int64), cell, margin * cell)
        if is_closed(mesh.triangles):
            break                           # else two parts met in an edge of the grid: look from a little aside
    return mesh


def _surface(points: np.ndarray, faces: np.ndarray, cell: float, margin: float) -> PolyMesh:
    low, high = points.min(axis=0) - margin, points.max(axis=0) + margin
    count = np.ceil((high - low) / cell).astype(np.int64) + 1
    if count.prod() > MOST_GRID:
        raise ShapeError(f"Faces of {1000 * cell:.3g} mm would be too many for this size; make them larger.")
    z, y, x = np.meshgrid(*(low[k] + cell * np.arange(count[k]) for k in (2, 1, 0)), indexing="ij")
    grid = np.ascontiguousarray(np.stack([x, y, z], axis=3).reshape(-1, 3))
    inside = np.abs(igl.fast_winding_number(points, faces, grid)) > 0.5
    if not inside.any():
        raise ShapeError("The shape has no inside that could be remeshed at this size.")
    near = _at_border(inside.reshape(count[::-1])).reshape(-1)
    distance = np.full(len(grid), cell)
    distance[near] = np.sqrt(igl.point_mesh_squared_distance(grid[near], points, faces)[0])
    distance = np.clip(distance, 0.02 * cell, cell)          # never quite zero: no faces without area
    made, corners, _ = igl.marching_cubes(np.where(inside, -distance, distance), grid, *count.tolist(), 0.0)
    return of_triangles(made, corners[:, ::-1] if _inwards(made, corners) else corners)


def of_triangles(points: np.ndarray, triangles: np.ndarray) -> PolyMesh:
    """A mesh without texture; points that no triangle uses are left out."""
    if not len(triangles):
        raise ShapeError("Nothing would be left of the mesh.")
    used, index = np.unique(triangles, return_inverse=True)
    return PolyMesh(np.asarray(points, float)[used], np.full(len(triangles), 3, np.int32),
                    index.reshape(-1).astype(np.int32))


def _at_border(inside: np.ndarray) -> np.ndarray:
    """Grid points with a neighbour on the other side."""
    near = np.zeros(inside.shape, bool)
    for axis in range(3):
        one, two = (np.take(inside, range(*span), axis) for span in
                    ((0, inside.shape[axis] - 1), (1, inside.shape[axis])))
        differs = one != two
        first, second = [slice(None)] * 3, [slice(None)] * 3
        first[axis], second[axis] = slice(0, -1), slice(1, None)
        near[tuple(first)] |= differs
        near[tuple(second)] |= differs
    return near


def _inwards(points: np.ndarray, triangles: np.ndarray) -> bool:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return bool(np.einsum("ij,ij->", a, np.cross(b, c)) < 0)
