"""A tree of boxes over triangles: built once a piece, refitted as it moves, asked for close pairs."""

import numpy as np
from numba import njit

LEAF = 4


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
def overlapping_triangles(tri_a, order_a, child_a, span_a, box_a, tri_b, order_b, child_b, span_b, box_b,
                          point_low, point_high):
    """Pairs (k, 2) of triangle numbers whose boxes overlap, found by walking both trees together."""
    found = np.empty((1024, 2), np.int64)
    count = 0
    stack = np.empty((4096, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, 0
    top = 1
    low_a, high_a = np.empty(3), np.empty(3)
    while top:
        top -= 1
        a, b = stack[top]
        apart = False
        for i in range(3):
            if box_a[a, i] > box_b[b, 3 + i] or box_b[b, i] > box_a[a, 3 + i]:
                apart = True
        if apart:
            continue
        leaf_a, leaf_b = child_a[a, 0] < 0, child_b[b, 0] < 0
        if not (leaf_a and leaf_b):
            larger_a = span_a[a, 1] - span_a[a, 0] >= span_b[b, 1] - span_b[b, 0]
            if leaf_b or (larger_a and not leaf_a):
                for side in range(2):
                    stack[top, 0], stack[top, 1] = child_a[a, side], b
                    top += 1
            else:
                for side in range(2):
                    stack[top, 0], stack[top, 1] = a, child_b[b, side]
                    top += 1
            continue
        for ka in range(span_a[a, 0], span_a[a, 1]):
            ta = order_a[ka]
            for i in range(3):
                p, q, r = tri_a[ta, 0], tri_a[ta, 1], tri_a[ta, 2]
                low_a[i] = min(point_low[p, i], point_low[q, i], point_low[r, i])
                high_a[i] = max(point_high[p, i], point_high[q, i], point_high[r, i])
            for kb in range(span_b[b, 0], span_b[b, 1]):
                tb = order_b[kb]
                apart = False
                for i in range(3):
                    p, q, r = tri_b[tb, 0], tri_b[tb, 1], tri_b[tb, 2]
                    if (low_a[i] > max(point_high[p, i], point_high[q, i], point_high[r, i])
                            or high_a[i] < min(point_low[p, i], point_low[q, i], point_low[r, i])):
                        apart = True
                        break
                if apart:
                    continue
                if count == len(found):
                    grown = np.empty((2 * count, 2), np.int64)
                    grown[:count] = found
                    found = grown
                found[count, 0], found[count, 1] = ta, tb
                count += 1
    return found[:count]
