"""How much a skin is stretched, for showing it.  Serial: the window has little to do."""

import numpy as np
from numba import njit


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
