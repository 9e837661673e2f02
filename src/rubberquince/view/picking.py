"""What shading needs of a skin in every frame.  Serial: the window has little to do."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def vertex_normals(points: np.ndarray, triangles: np.ndarray, normals: np.ndarray) -> None:
    """Unit normals (n, 3) float32 of ``points`` (n, 3) float32, by area-weighted sums over ``triangles``."""
    normals[:] = 0.0
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        e0, e1, e2 = (points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2])
        f0, f1, f2 = (points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2])
        n0, n1, n2 = e1 * f2 - e2 * f1, e2 * f0 - e0 * f2, e0 * f1 - e1 * f0
        for corner in (a, b, c):
            normals[corner, 0] += n0
            normals[corner, 1] += n1
            normals[corner, 2] += n2
    for k in range(len(normals)):
        length = np.sqrt(normals[k, 0] ** 2 + normals[k, 1] ** 2 + normals[k, 2] ** 2)
        if length > 0.0:
            normals[k] /= length
        else:
            normals[k, 1] = 1.0


@njit(cache=True, nogil=True)
def skin_stretch(points: np.ndarray, rest: np.ndarray, triangles: np.ndarray, stretch: np.ndarray) -> None:
    """Signed stretch (n,) float32 of the skin: lengthening - 1 along the direction in which it changed most.

    Of the two principal stretches of a triangle the one farther from 1 (in logarithm) counts; a point has
    the mean of its triangles, by area.  points, rest : (n, 3) float32, now and at rest.
    """
    weight = np.zeros(len(stretch), np.float32)
    stretch[:] = 0.0
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        uu, uv, vv, gg, gh, hh = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for i in range(3):
            u, v = rest[b, i] - rest[a, i], rest[c, i] - rest[a, i]
            g, h = points[b, i] - points[a, i], points[c, i] - points[a, i]
            uu, uv, vv = uu + u * u, uv + u * v, vv + v * v
            gg, gh, hh = gg + g * g, gh + g * h, hh + h * h
        det = uu * vv - uv * uv
        if det <= 0.0:
            continue
        half = 0.5 * (gg * vv - 2.0 * gh * uv + hh * uu) / det
        spread = np.sqrt(max(half * half - max(gg * hh - gh * gh, 0.0) / det, 0.0))
        most, least = np.sqrt(half + spread), np.sqrt(max(half - spread, 1e-6))
        value = most - 1.0 if most * least >= 1.0 else least - 1.0
        area = np.sqrt(det)
        for corner in (a, b, c):
            stretch[corner] += area * value
            weight[corner] += area
    for k in range(len(stretch)):
        if weight[k] > 0.0:
            stretch[k] /= weight[k]
