"""A tree of boxes over triangles: built once a piece, refitted as it moves, asked for close pairs.

Each node also knows a cone that all normals of its triangles lie in.  Parts of one closed skin can only
meet where they face each other, so what faces one way need not be looked at (Volino, Magnenat-Thalmann
1994); this keeps a skin from being compared with its own neighbourhood all over.
"""

import numpy as np
from numba import njit

LEAF = 4
ONE_WAY = np.radians(60.0)      # normals within such a cone face one way, with a margin for what still moves


@njit(cache=True, nogil=True)
def build_tree(centre):
    """Split triangle centres (t, 3) at the median of their longest side until a leaf holds four.

    Returns order (t,) of the triangles, child (m, 2) node numbers or -1, and span (m, 2) of the order
    that each node covers.  A child's number is above its parent's.
    """
    t = len(centre)
    order = np.arange(t)
    child = np.full((2 * t + 1, 2), -1, np.int64)
    span = np.zeros((2 * t + 1, 2), np.int64)
    span[0, 1] = t
    count, node = 1, 0
    while node < count:
        lo, hi = span[node]
        if hi - lo > LEAF:
            part = order[lo:hi]
            low, high = np.full(3, np.inf), np.full(3, -np.inf)
            for k in part:
                for i in range(3):
                    low[i] = min(low[i], centre[k, i])
                    high[i] = max(high[i], centre[k, i])
            axis = np.argmax(high - low)
            order[lo:hi] = part[np.argsort(centre[part, axis], kind="mergesort")]
            mid = (lo + hi) // 2
            span[count, 0], span[count, 1] = lo, mid
            span[count + 1, 0], span[count + 1, 1] = mid, hi
            child[node, 0], child[node, 1] = count, count + 1
            count += 2
        node += 1
    return order, child[:count].copy(), span[:count].copy()


@njit(cache=True, nogil=True)
def refit(triangles, order, child, span, point_low, point_high, box):
    """Boxes (m, 6) of all nodes, from boxes of points (n, 3) low and high."""
    for node in range(len(child) - 1, -1, -1):
        if child[node, 0] >= 0:
            a, b = box[child[node, 0]], box[child[node, 1]]
            for i in range(3):
                box[node, i] = min(a[i], b[i])
                box[node, 3 + i] = max(a[3 + i], b[3 + i])
            continue
        for i in range(3):
            box[node, i], box[node, 3 + i] = np.inf, -np.inf
        for k in range(span[node, 0], span[node, 1]):
            for c in range(3):
                p = triangles[order[k], c]
                for i in range(3):
                    box[node, i] = min(box[node, i], point_low[p, i])
                    box[node, 3 + i] = max(box[node, 3 + i], point_high[p, i])


@njit(cache=True, nogil=True)
def _angle(a, b):
    return np.arccos(min(max(a[0] * b[0] + a[1] * b[1] + a[2] * b[2], -1.0), 1.0))


@njit(cache=True, nogil=True)
def _widen(axis, spread, at, other, width):
    """Widen cone ``at`` of (axis (m, 3), half angle (m,)) until it holds the cone (``other``, ``width``)."""
    apart = _angle(axis[at], other)
    if apart + width <= spread[at]:
        return
    half = 0.5 * (spread[at] + apart + width)
    if half >= np.pi or apart + spread[at] <= width:
        spread[at] = min(max(half, width), np.pi)
        for i in range(3):
            axis[at, i] = other[i]
        return
    turn = (half - spread[at]) / apart
    one, two = np.sin((1.0 - turn) * apart), np.sin(turn * apart)
    for i in range(3):
        axis[at, i] = one * axis[at, i] + two * other[i]
    length = np.sqrt(axis[at, 0] ** 2 + axis[at, 1] ** 2 + axis[at, 2] ** 2)
    spread[at] = half if length > 1e-9 else np.pi
    for i in range(3):
        axis[at, i] /= max(length, 1e-300)


@njit(cache=True, nogil=True)
def refit_cones(triangles, order, child, span, x, axis, spread):
    """Cones of all nodes, ``axis`` (m, 3) and half angle ``spread`` (m,), of the skin points ``x`` (n, 3).

    A triangle's cone holds the normals of all triangles around its corners: what a corner or an edge
    faces, its whole surroundings face.
    """
    normal, around = np.zeros((len(triangles), 3)), np.zeros((len(x), 3))
    for t in range(len(triangles)):
        a, b, c = triangles[t]
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
        length = max(np.sqrt(n0 * n0 + n1 * n1 + n2 * n2), 1e-300)
        normal[t, 0], normal[t, 1], normal[t, 2] = n0 / length, n1 / length, n2 / length
        for k in range(3):
            for i in range(3):
                around[triangles[t, k], i] += normal[t, i]
    wide = np.zeros(len(x))
    for t in range(len(triangles)):
        for k in range(3):
            p = triangles[t, k]
            length = np.sqrt(around[p, 0] ** 2 + around[p, 1] ** 2 + around[p, 2] ** 2)
            if length > 1e-9:
                for i in range(3):
                    around[p, i] /= length
                wide[p] = max(wide[p], _angle(around[p], normal[t]))
            else:
                wide[p] = np.pi
    for node in range(len(child) - 1, -1, -1):
        spread[node] = -1.0
        if child[node, 0] >= 0:
            one, two = child[node]
            axis[node], spread[node] = axis[one], spread[one]
            _widen(axis, spread, node, axis[two], spread[two])
            continue
        for k in range(span[node, 0], span[node, 1]):
            for c in range(3):
                p = triangles[order[k], c]
                if spread[node] < 0.0:
                    axis[node], spread[node] = around[p], wide[p]
                else:
                    _widen(axis, spread, node, around[p], wide[p])


@njit(cache=True, nogil=True)
def _apart(low, high, a, b):
    """True when the boxes of triangles ``a`` and ``b`` (3,) of points do not overlap."""
    for i in range(3):
        if (max(high[a[0], i], high[a[1], i], high[a[2], i]) < min(low[b[0], i], low[b[1], i], low[b[2], i])
                or min(low[a[0], i], low[a[1], i], low[a[2], i]) > max(high[b[0], i], high[b[1], i], high[b[2], i])):
            return True
    return False


@njit(cache=True, nogil=True)
def _square(a, b):
    return (a[0] - b[0]) ** 2 + (a[1] - b[1]) ** 2 + (a[2] - b[2]) ** 2


@njit(cache=True, nogil=True)
def _together(rest, a, b, near):
    """True when boxes ``a`` and ``b`` of ``rest`` (m, 6) lie within a ball of diameter ``near``."""
    square = 0.0
    for i in range(3):
        square += (max(rest[a, 3 + i], rest[b, 3 + i]) - min(rest[a, i], rest[b, i])) ** 2
    return square <= near * near


@njit(cache=True, nogil=True)
def overlapping_triangles(near, most, tri_a, order_a, child_a, span_a, box_a, axis_a, spread_a, rest_a, centre_a, tri_b,
                          order_b, child_b, span_b, box_b, axis_b, spread_b, rest_b, centre_b, point_low,
                          point_high):
    """Pairs (k, 2) of triangle numbers whose boxes overlap, found by walking both trees together.

    With ``near``, m, at or above zero the trees are one and the same, and only parts are looked at that face
    each other and that do not lie together within that distance at rest: ``rest_a`` (m, 6) are the nodes'
    boxes, ``centre_a`` (t, 3) the triangles' centres.  It is given up once there are more than ``most``: then there is
    one more than that.
    """
    itself = near >= 0.0
    found = np.empty((1024, 2), np.int64)
    count = 0
    stack = np.empty((4096, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, 0
    top = 1
    while top:
        top -= 1
        a, b = stack[top]
        apart = False
        for i in range(3):
            if box_a[a, i] > box_b[b, 3 + i] or box_b[b, i] > box_a[a, 3 + i]:
                apart = True
        if apart or (itself and (_together(rest_a, a, b, near) or (
                spread_a[a] + spread_b[b] < ONE_WAY
                and _angle(axis_a[a], axis_b[b]) + spread_a[a] + spread_b[b] < ONE_WAY))):
            continue
        leaf_a, leaf_b = child_a[a, 0] < 0, child_b[b, 0] < 0
        if not (leaf_a and leaf_b):
            if itself and a == b:
                one, two = child_a[a]
                stack[top, 0], stack[top, 1] = one, one
                stack[top + 1, 0], stack[top + 1, 1] = two, two
                stack[top + 2, 0], stack[top + 2, 1] = one, two
                top += 3
                continue
            larger_a = span_a[a, 1] - span_a[a, 0] >= span_b[b, 1] - span_b[b, 0]
            split_a = leaf_b or (larger_a and not leaf_a)
            for side in range(2):
                stack[top, 0] = child_a[a, side] if split_a else a
                stack[top, 1] = b if split_a else child_b[b, side]
                top += 1
            continue
        for ka in range(span_a[a, 0], span_a[a, 1]):
            ta = order_a[ka]
            for kb in range(ka + 1 if itself and a == b else span_b[b, 0], span_b[b, 1]):
                tb = order_b[kb]
                if itself and _square(centre_a[ta], centre_a[tb]) < near * near:
                    continue
                if _apart(point_low, point_high, tri_a[ta], tri_b[tb]):
                    continue
                if count > most:
                    return found[:count]
                if count == len(found):
                    grown = np.empty((2 * count, 2), np.int64)
                    grown[:count] = found
                    found = grown
                found[count, 0], found[count, 1] = ta, tb
                count += 1
    return found[:count]
