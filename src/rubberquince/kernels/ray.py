"""Where a ray meets triangles."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def nearest_hit(points: np.ndarray, triangles: np.ndarray, origin: np.ndarray, along: np.ndarray) -> float:
    """Distance along the ray, in lengths of ``along``, to the nearest triangle; inf when it meets none.

    points (n, 3), triangles (t, 3).  Source: Möller and Trumbore 1997.
    """
    nearest = np.inf
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        e0, e1, e2 = (points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2])
        f0, f1, f2 = (points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2])
        p0, p1, p2 = (along[1] * f2 - along[2] * f1, along[2] * f0 - along[0] * f2, along[0] * f1 - along[1] * f0)
        det = e0 * p0 + e1 * p1 + e2 * p2
        if abs(det) < 1e-18:
            continue
        s0, s1, s2 = origin[0] - points[a, 0], origin[1] - points[a, 1], origin[2] - points[a, 2]
        u = (s0 * p0 + s1 * p1 + s2 * p2) / det
        if u < 0.0 or u > 1.0:
            continue
        q0, q1, q2 = s1 * e2 - s2 * e1, s2 * e0 - s0 * e2, s0 * e1 - s1 * e0
        v = (along[0] * q0 + along[1] * q1 + along[2] * q2) / det
        if v < 0.0 or u + v > 1.0:
            continue
        distance = (f0 * q0 + f1 * q1 + f2 * q2) / det
        if 0.0 < distance < nearest:
            nearest = distance
    return nearest
