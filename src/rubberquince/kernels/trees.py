"""Trees over the patches of pieces, and the pairs of patches whose boxes meet."""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.cones import one_way


@njit(cache=True, nogil=True)
def build_tree(centre, most):
    """Split triangle centres (t, 3) at the median of their longest side until a leaf is a patch: ``most`` triangles.

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
        if hi - lo > most:
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
def prune_trees(child, patch, kept, roots):
    """The same trees of the patches that are ``kept`` (patches,) bool alone: where one branch is left, it stands for
    its node.

    Returns which nodes are left (k,), and their child, patch and roots, by new numbers; a root is -1 where all is gone.
    """
    stands = np.empty(len(child), np.int64)
    for node in range(len(child) - 1, -1, -1):
        if patch[node] >= 0:
            stands[node] = node if kept[patch[node]] else -1
        else:
            a, b = stands[child[node, 0]], stands[child[node, 1]]
            stands[node] = node if a >= 0 and b >= 0 else max(a, b)
    nodes = np.flatnonzero(stands == np.arange(len(child)))
    number, rank = np.full(len(child) + 1, -1, np.int64), np.cumsum(kept) - 1
    number[nodes] = np.arange(len(nodes))           # the last one, which -1 means, stays -1
    new_child, new_patch = np.full((len(nodes), 2), -1, np.int64), np.full(len(nodes), -1, np.int64)
    for k in range(len(nodes)):
        if patch[nodes[k]] >= 0:
            new_patch[k] = rank[patch[nodes[k]]]
        else:
            for side in range(2):
                new_child[k, side] = number[stands[child[nodes[k], side]]]
    return nodes, new_child, new_patch, number[stands[roots]]


@njit(cache=True, nogil=True)
def fit_trees(child, patch, wide, box):
    """Boxes (m, 6) of all tree nodes from those of the patches; ``patch`` (m,) is a leaf's, or -1."""
    for node in range(len(child) - 1, -1, -1):
        if patch[node] >= 0:
            for i in range(6):
                box[node, i] = wide[patch[node], i]
        else:
            a, b = child[node, 0], child[node, 1]
            for i in range(3):
                box[node, i] = min(box[a, i], box[b, i])
                box[node, 3 + i] = max(box[a, 3 + i], box[b, 3 + i])


@njit(**LEAN)
def _meet(box, a, b):
    return (box[a, 0] <= box[b, 3] and box[b, 0] <= box[a, 3] and box[a, 1] <= box[b, 4] and box[b, 1] <= box[a, 4]
            and box[a, 2] <= box[b, 5] and box[b, 2] <= box[a, 5])


@njit(**LEAN)
def _together(rest, a, b, near):
    """True when boxes ``a`` and ``b`` of ``rest`` (m, 6) lie within a ball of diameter ``near``."""
    square = 0.0
    for i in range(3):
        square += (max(rest[a, 3 + i], rest[b, 3 + i]) - min(rest[a, i], rest[b, i])) ** 2
    return square <= near * near


@njit(**LEAN)
def _add_meeting(a, b, own, faces, near, child, patch, box, rest, axis, spread, patches, stack, found, count):
    """Put keys of pairs of patches below tree nodes ``a`` and ``b`` into ``found`` from ``count`` on; see below.

    Returns how many there are then: of those that it has no room for, only the number.
    """
    stack[0, 0], stack[0, 1] = a, b
    top = 1
    while top:
        top -= 1
        a, b = stack[top, 0], stack[top, 1]
        if not _meet(box, a, b):
            continue
        if own and ((faces and one_way(axis, spread, a, b)) or _together(rest, a, b, near)):
            continue
        if patch[a] >= 0 and patch[b] >= 0:
            if count < len(found):
                found[count] = min(patch[a], patch[b]) * patches + max(patch[a], patch[b])
            count += 1
        elif a == b:
            l, r = child[a, 0], child[a, 1]
            stack[top, 0], stack[top, 1] = l, l
            stack[top + 1, 0], stack[top + 1, 1] = r, r
            stack[top + 2, 0], stack[top + 2, 1] = l, r
            top += 3
        else:
            split_a = patch[b] >= 0 or (patch[a] < 0 and a <= b)
            for side in range(2):
                stack[top, 0] = child[a, side] if split_a else a
                stack[top, 1] = b if split_a else child[b, side]
                top += 1
    return count


@njit(cache=True, nogil=True)
def meeting_patches(roots, moving, meets, child, patch, box, rest, near, faces, axis, spread):
    """Keys a · patches + b of pairs of patches a <= b whose boxes meet, sorted, of pieces that do (``meets``, bool).

    roots : (pieces,), the tree node each piece begins at, the ``moving`` first; of these also pairs within the piece,
    if they are not together within a ball of diameter ``near`` (pieces,), m, in the boxes ``rest`` (m, 6); nor, in
    pieces where that ``faces`` (pieces,) bool says that they cannot meet, face one way by the cones of tree nodes with
    their ``axis`` (m, 3) and ``spread`` (m,).
    """
    patches = patch.max() + 1
    found, count, stack = np.empty(1024, np.int64), 0, np.empty((4096, 2), np.int64)
    for one in range(moving):
        for two in range(one, len(roots)):
            if not meets[one, two] or roots[one] < 0 or roots[two] < 0:
                continue
            while True:
                more = _add_meeting(roots[one], roots[two], one == two, faces[one], near[one], child, patch, box, rest,
                                    axis, spread, patches, stack, found, count)
                if more <= len(found):
                    break
                wider = np.empty(2 * more, np.int64)
                wider[:count] = found[:count]
                found = wider
            count = more
    return np.sort(found[:count])
