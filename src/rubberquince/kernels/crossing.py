"""Whether surfaces pass through each other."""

import numpy as np
from numba import njit

IN_PLANE = 1e-9     # of the volume that an edge and a triangle span: below it, rounding would say whether they cross


@njit(cache=True, nogil=True)
def count_crossings(x, edges, triangles, most):
    """How many of ``edges`` (e, 2) pass through any of ``triangles`` (t, 3) of points ``x`` (n, 3); ``most`` is enough.

    Möller and Trumbore (1997); an edge does not cross what it has a point of, nor a plane that it lies along.
    """
    count, widest = 0, 0.0
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    left = np.empty(len(triangles))
    for t in range(len(triangles)):
        for c in range(3):
            for i in range(3):
                low[i], high[i] = min(low[i], x[triangles[t, c], i]), max(high[i], x[triangles[t, c], i])
        a, b, c = x[triangles[t, 0], 0], x[triangles[t, 1], 0], x[triangles[t, 2], 0]
        left[t] = min(a, b, c)
        widest = max(widest, max(a, b, c) - left[t])
    order = np.argsort(left)                    # only those that begin near an edge are looked at
    left = left[order]
    along, u, v, s = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for e in range(len(edges)):
        p, q = edges[e, 0], edges[e, 1]
        outside = False
        for i in range(3):
            along[i] = x[q, i] - x[p, i]
            outside |= max(x[p, i], x[q, i]) < low[i] or min(x[p, i], x[q, i]) > high[i]
        if outside:
            continue
        first = np.searchsorted(left, min(x[p, 0], x[q, 0]) - widest)
        last = np.searchsorted(left, max(x[p, 0], x[q, 0]), side="right")
        for t in order[first:last]:
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            beside = p in (a, b, c) or q in (a, b, c)
            for i in range(3):
                beside |= (max(x[p, i], x[q, i]) < min(x[a, i], x[b, i], x[c, i])
                           or min(x[p, i], x[q, i]) > max(x[a, i], x[b, i], x[c, i]))
                u[i], v[i], s[i] = x[b, i] - x[a, i], x[c, i] - x[a, i], x[p, i] - x[a, i]
            if beside:
                continue
            h, k = np.cross(along, v), np.cross(s, u)
            area = np.dot(u, h)
            if abs(area) > IN_PLANE * np.sqrt(np.dot(along, along) * np.dot(u, u) * np.dot(v, v)):
                one, two, at = np.dot(s, h) / area, np.dot(along, k) / area, np.dot(v, k) / area
                if one >= 0.0 and two >= 0.0 and one + two <= 1.0 and 0.0 <= at <= 1.0:
                    count += 1
                    break
        if count >= most:
            break
    return count
