"""Normals for shading: smooth over a surface, sharp where it was made sharp."""

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from rubberquince.shapes.polymesh import PolyMesh

SHARP = 50.0                # degrees between two faces, from which on their edge stays sharp


def normal_groups(mesh: PolyMesh, points: np.ndarray) -> np.ndarray:
    """Number of the normal (corners,) that each corner of a face has, numbered as in the order of points.

    Corners at one point share a normal when their faces hang together over edges that are not sharp.
    """
    sizes, corners = mesh.face_sizes, mesh.face_points.astype(np.int64)
    starts = np.cumsum(sizes) - sizes
    face = np.repeat(np.arange(len(sizes)), sizes)
    here = np.arange(len(corners))
    after = np.where(here + 1 == (starts + sizes)[face], starts[face], here + 1)
    low, high = np.minimum(corners, corners[after]), np.maximum(corners, corners[after])
    order = np.lexsort((high, low))
    pair = (low[order][1:] == low[order][:-1]) & (high[order][1:] == high[order][:-1])
    one, two = order[:-1][pair], order[1:][pair]             # the corners where two faces' shared edge begins
    normal = _face_normals(mesh, points)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    smooth = np.einsum("ij,ij->i", normal[face[one]], normal[face[two]]) > np.cos(np.radians(SHARP))
    one, two = one[smooth], two[smooth]
    same = corners[one] == corners[two]                      # the other face runs along the edge the other way, mostly
    a = np.concatenate([one, after[one]])
    b = np.concatenate([np.where(same, two, after[two]), np.where(same, after[two], two)])
    links = coo_array((np.ones(len(a)), (a, b)), shape=(len(corners), len(corners)))
    _, group = connected_components(links, directed=False)
    first = np.unique(group, return_index=True)[1]
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(corners[first], kind="stable")] = np.arange(len(first))
    return rank[group]


def group_normals(mesh: PolyMesh, points: np.ndarray, groups: np.ndarray) -> np.ndarray:
    """Unit normals (groups, 3), each the sum of its faces' normals by their area."""
    normal = np.repeat(_face_normals(mesh, points), mesh.face_sizes, axis=0)
    total = np.stack([np.bincount(groups, normal[:, i]) for i in range(3)], axis=1)
    length = np.linalg.norm(total, axis=1, keepdims=True)
    return np.where(length > 1e-30, total / np.maximum(length, 1e-30), [0.0, 1.0, 0.0])


def _face_normals(mesh: PolyMesh, points: np.ndarray) -> np.ndarray:
    """(faces, 3) area vectors (Newell; Sutherland et al. 1974)."""
    sizes, corners = mesh.face_sizes, mesh.face_points
    starts = np.cumsum(sizes) - sizes
    here = np.arange(len(corners))
    face = np.repeat(np.arange(len(sizes)), sizes)
    after = np.where(here + 1 == (starts + sizes)[face], starts[face], here + 1)
    middle = np.repeat(points[corners[starts]], sizes, axis=0)
    return np.add.reduceat(np.cross(points[corners] - middle, points[corners[after]] - middle), starts) / 2
