"""What shading needs of a skin in every frame.

Sums over sparse matrices, not compiled kernels: loading the first of those takes a second, and the first picture
should not wait for it.
"""

import numpy as np
from scipy.sparse import coo_array, csr_array


def corners_of(triangles: np.ndarray, points: int) -> csr_array:
    """(points, triangles): 1 where a point is a corner of a triangle."""
    ones, number = np.ones(3 * len(triangles), np.float32), np.repeat(np.arange(len(triangles)), 3)
    return coo_array((ones, (triangles.reshape(-1), number)), shape=(points, len(triangles))).tocsr()


def vertex_normals(points: np.ndarray, triangles: np.ndarray, corners: csr_array) -> np.ndarray:
    """Unit normals (n, 3) float32 of ``points`` (n, 3) float32, by area-weighted sums over ``triangles``.

    ``corners`` is what corners_of says.
    """
    a = points[triangles[:, 0]]
    summed = corners @ np.cross(points[triangles[:, 1]] - a, points[triangles[:, 2]] - a)
    length = np.sqrt(np.einsum("ni,ni->n", summed, summed))[:, None]
    return np.where(length > 0.0, summed / np.maximum(length, 1e-30), np.array([0.0, 1.0, 0.0], np.float32))


def skin_stretch(points: np.ndarray, rest: np.ndarray, triangles: np.ndarray, corners: csr_array) -> np.ndarray:
    """Signed stretch (n,) of the skin: lengthening - 1 along the direction in which it changed most.

    Of the two principal stretches of a triangle the one farther from 1 (in logarithm) counts; a point has
    the mean of its triangles, by area.  points, rest : (n, 3), now and at rest; ``corners`` as corners_of says.
    """
    a, b, c = triangles.T
    u, v, g, h = rest[b] - rest[a], rest[c] - rest[a], points[b] - points[a], points[c] - points[a]
    uu, uv, vv, gg, gh, hh = (np.einsum("ti,ti->t", one, two).astype(float)
                              for one, two in ((u, u), (u, v), (v, v), (g, g), (g, h), (h, h)))
    det = uu * vv - uv * uv
    whole = det > 0.0
    det = np.where(whole, det, 1.0)
    half = 0.5 * (gg * vv - 2.0 * gh * uv + hh * uu) / det
    spread = np.sqrt(np.maximum(half * half - np.maximum(gg * hh - gh * gh, 0.0) / det, 0.0))
    most, least = (np.sqrt(np.maximum(square, 1e-6)) for square in (half + spread, half - spread))
    area = np.where(whole, np.sqrt(det), 0.0)
    weight = corners @ area
    return (corners @ (area * np.where(most * least >= 1.0, most, least)) - weight) / np.where(weight > 0, weight, 1.0)
