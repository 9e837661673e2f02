"""Other meshes of the same shape: refined all over or in places, thinned where it is flat, or made anew from within."""

import fast_simplification
import igl
import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import PolyMesh, is_closed

MOST_FACES = 400_000        # of a refined mesh
MOST_GRID = 3_000_000       # grid points of a remesh
MARGINS = (1.51, 1.23, 1.77, 1.37, 1.62, 1.91)       # cells of the grid beyond the shape, the first that will do
LEAST_FACES = 12            # of a thinned mesh: fewer make no body


def refined(mesh: PolyMesh, points: np.ndarray | None = None) -> PolyMesh:
    """Every face of n corners becomes n quads around its middle; the surface stays as it is.

    With ``points`` (n,) bool only faces that have all their corners among these do, or if there is no such face, those
    that have any; faces beside them become triangles.  The first points of the new mesh are those of the old one.
    Raises ShapeError when the faces would be too many.
    """
    faces = np.ones(len(mesh.face_sizes), bool) if points is None else _faces_of(mesh, points)
    count = int(mesh.face_sizes[faces].sum())
    if count > MOST_FACES:
        raise ShapeError(f"Refined, the mesh would have {count:,} faces; {MOST_FACES:,} are the most."
                         .replace(",", " "))
    codes, sizes = _parts(mesh, faces)
    fine, corners = _placed_parts(mesh.points, mesh.face_sizes, mesh.face_points, codes)
    uvs, uv_corners = mesh.uvs, mesh.face_uvs
    if len(uv_corners):
        fine_uvs, uv_corners = _placed_parts(mesh.uvs.astype(float), mesh.face_sizes, mesh.face_uvs, codes)
        uvs = fine_uvs.astype(np.float32)
    return PolyMesh(fine, sizes, corners, uvs, uv_corners)


def _faces_of(mesh: PolyMesh, points: np.ndarray) -> np.ndarray:
    """The faces (f,) bool with all their corners among ``points`` (n,) bool, or if there is none, with any."""
    among = np.add.reduceat(points[mesh.face_points].astype(np.int64), _rounds(mesh.face_sizes)[0])
    whole = among == mesh.face_sizes
    return whole if whole.any() else among > 0


def _rounds(sizes: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The first corner of each face, the face of each corner, and the corner that comes after it around the face."""
    starts = np.cumsum(sizes) - sizes
    face = np.repeat(np.arange(len(sizes)), sizes)
    here = np.arange(len(face))
    return starts, face, np.where(here + 1 == (starts + sizes)[face], starts[face], here + 1)


def _parts(mesh: PolyMesh, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners of the faces of the new mesh and how many each has, if ``faces`` (f,) bool are divided.

    Of c corners before, k is corner k, c + k the middle of the edge from there on, 2 c + f the middle of face f.
    """
    starts, face, after = _rounds(mesh.face_sizes)
    here, count = np.arange(len(face)), len(face)
    before = np.empty_like(here)
    before[after] = here
    edge = _edges(mesh.face_points, after)[1]
    while True:
        halved = np.isin(edge, edge[faces[face]])
        around = ~faces & np.logical_and.reduceat(halved, starts)       # all its edges are: it may as well be
        if not around.any():
            break
        faces = faces | around
    quads = np.stack([here, count + here, 2 * count + face, count + before], axis=1)[faces[face]]
    beside = ~faces & np.logical_or.reduceat(halved, starts)
    fans = [triangle for f in np.flatnonzero(beside)
            for triangle in _fan(here[starts[f]:starts[f] + mesh.face_sizes[f]], halved, count)]
    still = ~faces & ~beside
    sizes = np.concatenate([np.full(len(quads), 4), np.full(len(fans), 3), mesh.face_sizes[still]])
    codes = np.concatenate([quads.reshape(-1), np.array(fans, np.int64).reshape(-1), here[still[face]]])
    return codes, sizes.astype(np.int32)


def _fan(corners: np.ndarray, halved: np.ndarray, count: int) -> list[tuple[int, int, int]]:
    """The triangles of a face around the middle of the first of its edges that is halved: none is flat."""
    ring = [code for k in corners for code in ([int(k), count + int(k)] if halved[k] else [int(k)])]
    first = next(i for i, code in enumerate(ring) if code >= count)
    ring = ring[first:] + ring[:first]
    return [(ring[0], ring[i], ring[i + 1]) for i in range(1, len(ring) - 1)]


def _edges(corners: np.ndarray, after: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The edges (e, 2), and which of them runs on from each corner."""
    edges, edge = np.unique(np.sort(np.stack([corners, corners[after]], axis=1), axis=1), axis=0, return_inverse=True)
    return edges, edge.reshape(-1)


def _placed_parts(points: np.ndarray, sizes: np.ndarray, corners: np.ndarray,
                  codes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Points with the middles that are used behind them, and the number of each of the corners that ``codes`` name."""
    starts, _, after = _rounds(sizes)
    edges, edge = _edges(corners, after)
    middles = np.add.reduceat(points[corners], starts) / sizes[:, None]
    every = np.concatenate([points, points[edges].mean(axis=1), middles])
    named = np.concatenate([corners, len(points) + edge, len(points) + len(edges) + np.arange(len(sizes))])[codes]
    kept = np.arange(len(every)) < len(points)
    kept[named] = True
    return every[kept], (np.cumsum(kept) - 1)[named].astype(np.int32)


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
