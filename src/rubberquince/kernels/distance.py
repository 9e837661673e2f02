"""Closest points of the two relations that skins can touch in, and of a vertex with the ground.

A relation of four skin points has signed weights w with ``d = |Σ w·x|``: for a vertex and a triangle
(1, -b0, -b1, -b2), for two edges (1-s, s, -(1-t), -t).  The ground, y = 0, takes one point.  A vertex
LEAVING a solid collider has the distance of a vertex and a triangle, below zero while it is behind it.
"""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN

VERTEX_TRIANGLE, EDGE_EDGE, GROUND, LEAVING = 0, 1, 2, 3
NEAR_ENOUGH = 0.1           # of the distance that is kept: what comes so near beyond it counts as a hit
MOST_ADVANCES = 100


@njit(**LEAN)
def _vertex_triangle(x, i, j, k, m, w):
    """Weights of the closest point (Ericson 2005, ch. 5.1.5); True when it lies inside the triangle.

    Coordinates are read one by one: a row taken as an array costs more than the arithmetic here.
    """
    if j == k:                              # a ball: all corners are its middle
        w[0], w[1], w[2], w[3] = 1.0, -1.0, 0.0, 0.0
        return True
    a0, a1, a2, p0, p1, p2 = x[j, 0], x[j, 1], x[j, 2], x[i, 0], x[i, 1], x[i, 2]
    ab0, ab1, ab2 = x[k, 0] - a0, x[k, 1] - a1, x[k, 2] - a2
    ac0, ac1, ac2 = x[m, 0] - a0, x[m, 1] - a1, x[m, 2] - a2
    ap0, ap1, ap2 = p0 - a0, p1 - a1, p2 - a2
    w[0] = 1.0
    d1 = ab0 * ap0 + ab1 * ap1 + ab2 * ap2
    d2 = ac0 * ap0 + ac1 * ap1 + ac2 * ap2
    if d1 <= 0.0 and d2 <= 0.0:
        w[1], w[2], w[3] = -1.0, 0.0, 0.0
        return False
    bp0, bp1, bp2 = ap0 - ab0, ap1 - ab1, ap2 - ab2
    d3 = ab0 * bp0 + ab1 * bp1 + ab2 * bp2
    d4 = ac0 * bp0 + ac1 * bp1 + ac2 * bp2
    if d3 >= 0.0 and d4 <= d3:
        w[1], w[2], w[3] = 0.0, -1.0, 0.0
        return False
    vc = d1 * d4 - d3 * d2
    if vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v = d1 / (d1 - d3) if d1 > d3 else 0.0
        w[1], w[2], w[3] = v - 1.0, -v, 0.0
        return False
    cp0, cp1, cp2 = ap0 - ac0, ap1 - ac1, ap2 - ac2
    d5 = ab0 * cp0 + ab1 * cp1 + ab2 * cp2
    d6 = ac0 * cp0 + ac1 * cp1 + ac2 * cp2
    if d6 >= 0.0 and d5 <= d6:
        w[1], w[2], w[3] = 0.0, 0.0, -1.0
        return False
    vb = d5 * d2 - d1 * d6
    if vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        v = d2 / (d2 - d6) if d2 > d6 else 0.0
        w[1], w[2], w[3] = v - 1.0, 0.0, -v
        return False
    va = d3 * d6 - d5 * d4
    if va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        v = (d4 - d3) / ((d4 - d3) + (d5 - d6)) if (d4 - d3) + (d5 - d6) > 0.0 else 0.0
        w[1], w[2], w[3] = 0.0, v - 1.0, -v
        return False
    total = va + vb + vc
    if not total > 0.0:                     # a triangle without area, by rounding: its nearest corner
        a2, b2 = ap0 * ap0 + ap1 * ap1 + ap2 * ap2, bp0 * bp0 + bp1 * bp1 + bp2 * bp2
        c2 = cp0 * cp0 + cp1 * cp1 + cp2 * cp2
        first, second = a2 <= b2 and a2 <= c2, b2 < a2 and b2 <= c2
        w[1], w[2] = -1.0 if first else 0.0, -1.0 if second else 0.0
        w[3] = -1.0 - w[1] - w[2]
        return False
    w[2], w[3] = -vb / total, -vc / total
    w[1] = -1.0 - w[2] - w[3]
    return True


@njit(**LEAN)
def _edge_edge(x, i, j, k, m, w):
    """Weights of the closest points (Ericson 2005, ch. 5.1.9); True when both lie inside their edges."""
    u0, u1, u2 = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    v0, v1, v2 = x[m, 0] - x[k, 0], x[m, 1] - x[k, 1], x[m, 2] - x[k, 2]
    r0, r1, r2 = x[i, 0] - x[k, 0], x[i, 1] - x[k, 1], x[i, 2] - x[k, 2]
    a = u0 * u0 + u1 * u1 + u2 * u2
    e = v0 * v0 + v1 * v1 + v2 * v2
    b = u0 * v0 + u1 * v1 + u2 * v2
    c = u0 * r0 + u1 * r1 + u2 * r2
    f = v0 * r0 + v1 * r1 + v2 * r2
    s, t = 0.0, 0.0
    if a > 0.0 and e > 0.0:
        cross = a * e - b * b
        if cross > 1e-12 * a * e:
            s = min(max((b * f - c * e) / cross, 0.0), 1.0)
        t = (b * s + f) / e
        if t < 0.0:
            t = 0.0
            s = min(max(-c / a, 0.0), 1.0)
        elif t > 1.0:
            t = 1.0
            s = min(max((b - c) / a, 0.0), 1.0)
    elif e > 0.0:
        t = min(max(f / e, 0.0), 1.0)
    elif a > 0.0:
        s = min(max(-c / a, 0.0), 1.0)
    w[0], w[1], w[2], w[3] = 1.0 - s, s, t - 1.0, -t
    return 0.0 < s < 1.0 and 0.0 < t < 1.0


@njit(**LEAN)
def closest(kind, x, ids, e, w, v):
    """Weights ``w`` (4,) and vector ``v`` (3,) = Σ w·x of relation ``ids[e]`` among points ``x`` (n, 3).

    Returns (distance, True when the closest points are inside both parts).
    """
    a = ids[e, 0]
    if kind == GROUND:
        w[0], w[1], w[2], w[3] = 1.0, 0.0, 0.0, 0.0
        v[0], v[1], v[2] = 0.0, x[a, 1], 0.0
        return v[1], True
    b, c, d = ids[e, 1], ids[e, 2], ids[e, 3]
    if kind == EDGE_EDGE:
        inside = _edge_edge(x, a, b, c, d, w)
    else:
        inside = _vertex_triangle(x, a, b, c, d, w)
    for i in range(3):
        v[i] = w[0] * x[a, i] + w[1] * x[b, i] + w[2] * x[c, i] + w[3] * x[d, i]
    distance = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
    if kind == LEAVING and _behind(x, b, c, d, v):
        return -distance, inside
    return distance, inside


@njit(**LEAN)
def _behind(x, j, k, m, v):
    """True when ``v`` points to the inner side of triangle j, k, m."""
    p0, p1, p2 = x[k, 0] - x[j, 0], x[k, 1] - x[j, 1], x[k, 2] - x[j, 2]
    q0, q1, q2 = x[m, 0] - x[j, 0], x[m, 1] - x[j, 1], x[m, 2] - x[j, 2]
    return v[0] * (p1 * q2 - p2 * q1) + v[1] * (p2 * q0 - p0 * q2) + v[2] * (p0 * q1 - p1 * q0) < 0.0


@njit(**LEAN)
def motion_bound(kind, move, ids, e):
    """How much nearer, m, the two sides of a relation can come under ``move`` (n, 3) at most."""
    a = ids[e, 0]
    if kind == GROUND:
        return abs(move[a, 1])
    b, c, d = ids[e, 1], ids[e, 2], ids[e, 3]
    m0 = 0.25 * (move[a, 0] + move[b, 0] + move[c, 0] + move[d, 0])
    m1 = 0.25 * (move[a, 1] + move[b, 1] + move[c, 1] + move[d, 1])
    m2 = 0.25 * (move[a, 2] + move[b, 2] + move[c, 2] + move[d, 2])
    la = (move[a, 0] - m0) ** 2 + (move[a, 1] - m1) ** 2 + (move[a, 2] - m2) ** 2
    lb = (move[b, 0] - m0) ** 2 + (move[b, 1] - m1) ** 2 + (move[b, 2] - m2) ** 2
    lc = (move[c, 0] - m0) ** 2 + (move[c, 1] - m1) ** 2 + (move[c, 2] - m2) ** 2
    ld = (move[d, 0] - m0) ** 2 + (move[d, 1] - m1) ** 2 + (move[d, 2] - m2) ** 2
    if kind == EDGE_EDGE:
        return np.sqrt(max(la, lb)) + np.sqrt(max(lc, ld))
    return np.sqrt(la) + np.sqrt(max(lb, lc, ld))


@njit(**LEAN)
def closing(kind, a, b, c, d, move, apart, distance):
    """How much nearer, m, the sides of a relation of points a .. d can come under ``move`` (n, 3) at most.

    A plane across ``apart`` (3,), the vector between their closest points, parts both sides, which are convex: only
    what moves along it counts.
    """
    if kind == GROUND:
        return -move[a, 1]
    if abs(distance) < 1e-12:
        return np.inf
    n0, n1, n2 = apart[0] / distance, apart[1] / distance, apart[2] / distance
    ma = n0 * move[a, 0] + n1 * move[a, 1] + n2 * move[a, 2]
    mb = n0 * move[b, 0] + n1 * move[b, 1] + n2 * move[b, 2]
    mc = n0 * move[c, 0] + n1 * move[c, 1] + n2 * move[c, 2]
    md = n0 * move[d, 0] + n1 * move[d, 1] + n2 * move[d, 2]
    if kind == EDGE_EDGE:
        return max(mc, md) - min(ma, mb)
    return max(mb, mc, md) - ma


@njit(cache=True, nogil=True)
def come_within(ids, kind, reach, distance, apart, move):
    """Which relations (k,) bool may come within ``reach`` (k,), m, under ``move`` (n, 3) of their points."""
    out, toward = np.empty(len(ids), np.bool_), np.empty(3)
    for e in range(len(ids)):
        toward[0], toward[1], toward[2] = apart[e, 0], apart[e, 1], apart[e, 2]
        near = closing(kind[e], ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3], move, toward, distance[e])
        out[e] = distance[e] - max(near, 0.0) <= reach[e]
    return out


@njit(**LEAN)
def first_hit(kind, x, move, ids, e, keep, local, order, w, v):
    """Time in 0 .. 1 at which a relation comes within ``keep``, m, under ``move``; 2 if it never does.

    Conservative advancement along the line between the closest points (Mirtich 1996, ch. 2): until the sides have gone
    as far towards each other as they are apart, a plane across it parts them, however they slide.  ``w`` and ``v`` are
    left at the hit.  ``local`` (4, 3) is scratch and ``order`` (1, 4) counts 0 .. 3.  It errs early, never late.
    """
    if kind == GROUND:
        y, dy = x[ids[e, 0], 1], move[ids[e, 0], 1]
        w[0], w[1], w[2], w[3] = 1.0, 0.0, 0.0, 0.0
        v[0], v[1], v[2] = 0.0, 1.0, 0.0
        if y + dy >= keep:
            return 2.0
        return (y - keep) / -dy if y > keep else 0.0
    for k in range(4):
        for i in range(3):
            local[k, i] = x[ids[e, k], i]
    distance, _ = closest(kind, local, order, 0, w, v)
    if distance <= keep:
        return 0.0
    slack = NEAR_ENOUGH * min(distance - keep, keep)
    time = 0.0
    for _ in range(MOST_ADVANCES):
        nearer = closing(kind, ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3], move, v, distance)
        if (1.0 - time) * nearer <= distance - keep:
            return 2.0
        step = (distance - keep) / nearer
        time += step
        for k in range(4):
            for i in range(3):
                local[k, i] += step * move[ids[e, k], i]
        distance, _ = closest(kind, local, order, 0, w, v)
        if distance - keep <= slack:
            return time
    return time


@njit(cache=True, nogil=True)
def closest_of(ids, kind, x):
    """Distances (k,), m, whether closest points are inside both parts, and the vectors (k, 3) between them."""
    distance, inside, apart = np.empty(len(ids)), np.empty(len(ids), np.bool_), np.empty((len(ids), 3))
    w = np.empty(4)
    for e in range(len(ids)):
        distance[e], inside[e] = closest(kind[e], x, ids, e, w, apart[e])
    return distance, inside, apart
