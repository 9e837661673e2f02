"""Make a dirty mesh usable: merge doubled points, turn faces one way and outwards, close small holes.

Every step returns the mesh, the same object where nothing was to do, and sentences on what was done.
"""

import igl
import numpy as np

from rubberquince.distinct import among
from rubberquince.shapes.polymesh import PolyMesh, is_closed, volume

TOGETHER = 1e-6             # of the size: points nearer than this are one
SMALL_HOLE = 0.05           # of the surface: a larger opening may well be meant

Repaired = tuple[PolyMesh, list[str]]


def repaired(mesh: PolyMesh) -> Repaired:
    """All that needs no decision by the artist."""
    notes: list[str] = []
    for step in (merged, without_doubled_faces, with_clear_diagonals, turned_one_way, with_small_holes_closed,
                 turned_outwards):
        mesh, said = step(mesh)
        notes += said
    return mesh, notes


def merged(mesh: PolyMesh) -> Repaired:
    """Points that lie in one place become one: many formats repeat a point for every face it is in."""
    low, high = mesh.bounds()
    step = max(float((high - low).max()) * TOGETHER, 1e-12)
    _, first, number = np.unique(np.round((mesh.points - low) / step), axis=0, return_index=True, return_inverse=True)
    if len(first) == len(mesh.points):
        return mesh, []
    gone = len(mesh.points) - len(first)
    corners = number.reshape(-1)[mesh.face_points].astype(np.int32)
    return (PolyMesh(mesh.points[first], mesh.face_sizes, corners, mesh.uvs, mesh.face_uvs),
            [f"{_many(gone, 'point')} that lay on others {_were(gone)} merged with them."])


def without_doubled_faces(mesh: PolyMesh) -> Repaired:
    """Leave out faces with a point twice and faces that are there twice; points without a face go too."""
    face = _face_of_corner(mesh)
    order = np.lexsort((mesh.face_points, face))
    same = (np.diff(mesh.face_points[order]) == 0) & (np.diff(face[order]) == 0)
    flat = np.zeros(len(mesh.face_sizes), bool)
    flat[face[order][1:][same]] = True
    mix = mesh.face_points.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    mix = (mix ^ (mix >> np.uint64(29))) * np.uint64(0xBF58476D1CE4E5B9)
    digest = np.add.reduceat(mix, np.cumsum(mesh.face_sizes) - mesh.face_sizes)     # the same in any order of corners
    doubled = np.ones(len(flat), bool)
    doubled[np.unique(digest, return_index=True)[1]] = False
    bad = flat | doubled
    if not bad.any() or bad.all():
        return mesh, []
    keep = ~bad[face]
    used, index = np.unique(mesh.face_points[keep], return_inverse=True)
    fresh = PolyMesh(mesh.points[used], mesh.face_sizes[~bad], index.reshape(-1).astype(np.int32), mesh.uvs,
                     mesh.face_uvs[keep] if len(mesh.face_uvs) else mesh.face_uvs)
    count = int(bad.sum())
    return fresh, [f"{_many(count, 'face')} without area or there twice {_were(count)} left out."]


def turned_one_way(mesh: PolyMesh) -> Repaired:
    """Neighbouring faces look to the same side, each connected part outwards."""
    triangles = mesh.triangles.astype(np.int64)
    directed = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    if len(np.unique(directed, axis=0)) == len(directed):       # no edge is run along twice the same way
        return mesh, []
    turned, part = igl.bfs_orient(triangles)
    for number in range(int(part.max()) + 1):
        mine = part == number
        if volume(mesh.points, turned[mine]) < 0:
            turned[mine] = turned[mine][:, ::-1]
    first = np.cumsum(mesh.face_sizes - 2) - (mesh.face_sizes - 2)
    flip = _turn(triangles[first]) != _turn(turned[first])
    count = int(flip.sum())
    if not count:
        return mesh, []
    return _flipped(mesh, flip), [f"{_many(count, 'face')} looked the wrong way and {_were(count)} turned."]


def turned_outwards(mesh: PolyMesh) -> Repaired:
    """A closed mesh that encloses less than nothing is inside out."""
    if not is_closed(mesh.triangles) or volume(mesh.points, mesh.triangles) >= 0:
        return mesh, []
    return _flipped(mesh, np.ones(len(mesh.face_sizes), bool)), ["The faces looked inwards; they were turned."]


def with_clear_diagonals(mesh: PolyMesh) -> Repaired:
    """Quads whose diagonal joins two points that are joined elsewhere, too, get the other one: two sheets with one rim
    would share it at their corners, and be open there.
    """
    quads, starts = np.flatnonzero(mesh.face_sizes == 4), np.cumsum(mesh.face_sizes) - mesh.face_sizes
    joined = np.sort(mesh.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).astype(np.int64)
    key, count = np.unique(joined[:, 0] * len(mesh.points) + joined[:, 1], return_counts=True)
    corner = starts[quads]
    ends = np.sort(mesh.face_points[np.column_stack([corner, corner + 2])], axis=1).astype(np.int64)
    shared = count[np.searchsorted(key, ends[:, 0] * len(mesh.points) + ends[:, 1])] > 2
    take = np.arange(len(mesh.face_points))
    for k in range(4):
        take[corner[shared] + k] = corner[shared] + (k + 1) % 4
    if not shared.any():
        return mesh, []
    return PolyMesh(mesh.points, mesh.face_sizes, mesh.face_points[take], mesh.uvs,
                    mesh.face_uvs[take] if len(mesh.face_uvs) else mesh.face_uvs), []


def with_small_holes_closed(mesh: PolyMesh) -> Repaired:
    loops = [loop for loop in holes(mesh) if _fan_area(mesh.points[loop]) < SMALL_HOLE * _area(mesh)]
    if not loops:
        return mesh, []
    return closed(mesh, loops), [f"{_many(len(loops), 'small hole')} {_were(len(loops))} closed."]


def holes(mesh: PolyMesh) -> list[np.ndarray]:
    """Loops of points around every opening, in the order in which a face that closes it runs."""
    directed = mesh.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64)
    key = directed[:, 0] * len(mesh.points) + directed[:, 1]
    back = directed[:, 1] * len(mesh.points) + directed[:, 0]
    follow: dict[int, list[int]] = {}
    for a, b in directed[~among(back, key)].tolist():
        follow.setdefault(b, []).append(a)
    loops = []
    while follow:
        start = next(iter(follow))
        loop, at = [start], start
        while at in follow:
            at, rest = follow[at][0], follow.pop(at)[1:]
            if rest:
                follow[loop[-1]] = rest
            if at == start:
                break
            loop.append(at)
        if at == start and len(loop) >= 3:
            loops.append(np.array(loop))
    return loops


def closed(mesh: PolyMesh, loops: list[np.ndarray]) -> PolyMesh:
    """The mesh with a fan of triangles around the middle of each loop; of a texture the fans show one spot."""
    middles = np.array([mesh.points[loop].mean(axis=0) for loop in loops])
    fans = np.concatenate([np.column_stack([loop, np.roll(loop, -1), np.full(len(loop), len(mesh.points) + k)])
                           for k, loop in enumerate(loops)])
    face_uvs = mesh.face_uvs
    if len(face_uvs):
        face_uvs = np.concatenate([face_uvs, np.zeros(3 * len(fans), np.int32)])
    return PolyMesh(np.concatenate([mesh.points, middles]),
                    np.concatenate([mesh.face_sizes, np.full(len(fans), 3, np.int32)]),
                    np.concatenate([mesh.face_points, fans.reshape(-1).astype(np.int32)]), mesh.uvs, face_uvs)


def _flipped(mesh: PolyMesh, flip: np.ndarray) -> PolyMesh:
    """The mesh with the faces ``flip`` (faces,) run the other way."""
    ends = np.cumsum(mesh.face_sizes)
    face = _face_of_corner(mesh)
    here = np.arange(len(face))
    there = (ends[face] - 1) - (here - (ends - mesh.face_sizes)[face])
    take = np.where(flip[face], there, here)
    return PolyMesh(mesh.points, mesh.face_sizes, mesh.face_points[take], mesh.uvs,
                    mesh.face_uvs[take] if len(mesh.face_uvs) else mesh.face_uvs)


def _face_of_corner(mesh: PolyMesh) -> np.ndarray:
    return np.repeat(np.arange(len(mesh.face_sizes)), mesh.face_sizes)


def _turn(triangles: np.ndarray) -> np.ndarray:
    """Which way each triangle runs round its three points, whichever comes first."""
    a, b, c = triangles.T
    return (a < b).astype(int) + (b < c) + (c < a) == 2


def _area(mesh: PolyMesh) -> float:
    a, b, c = (mesh.points[mesh.triangles[:, k]] for k in range(3))
    return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()) / 2


def _fan_area(loop: np.ndarray) -> float:
    spokes = loop - loop.mean(axis=0)
    return float(np.linalg.norm(np.cross(spokes, np.roll(spokes, -1, axis=0)), axis=1).sum()) / 2


def _many(count: int, thing: str) -> str:
    return f"{count} {thing}" + ("" if count == 1 else "s")


def _were(count: int) -> str:
    return "was" if count == 1 else "were"
