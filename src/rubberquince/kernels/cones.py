"""Which patches face one way: cones that hold the normals of their triangles, and of whole branches of their trees."""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.patches import PATCH, in_pairs

ONE_WAY = np.radians(75.0)      # normals within such a cone face one way, with a margin for what moves in a substep


@njit(cache=True, nogil=True)
def find_cones(x, triangles, order, first, wanted, axis, spread):
    """Cones that hold the normals at ``x`` (n, 3) of the ``wanted`` (patches,) bool: their ``axis`` (patches, 3), and
    their ``spread`` (patches,), the angle between that and the farthest, rad.
    """
    normal = np.empty((PATCH, 3))
    for p in range(len(wanted)):
        if not wanted[p]:
            continue
        s0, s1, s2 = 0.0, 0.0, 0.0
        count = first[p + 1] - first[p]
        for k in range(count):
            a, b, c = triangles[order[first[p] + k]]
            u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
            v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
            n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
            length = max(np.sqrt(n0 * n0 + n1 * n1 + n2 * n2), 1e-300)
            normal[k, 0], normal[k, 1], normal[k, 2] = n0 / length, n1 / length, n2 / length
            s0, s1, s2 = s0 + normal[k, 0], s1 + normal[k, 1], s2 + normal[k, 2]
        length = np.sqrt(s0 * s0 + s1 * s1 + s2 * s2)
        least = -1.0
        if length > 1e-9:
            axis[p, 0], axis[p, 1], axis[p, 2] = s0 / length, s1 / length, s2 / length
            least = 1.0
            for k in range(count):
                least = min(least, normal[k, 0] * axis[p, 0] + normal[k, 1] * axis[p, 1] + normal[k, 2] * axis[p, 2])
        spread[p] = np.arccos(max(least, -1.0))


@njit(**LEAN)
def _between(axis, a, other, b):
    """The angle, rad, between two axes."""
    cosine = axis[a, 0] * other[b, 0] + axis[a, 1] * other[b, 1] + axis[a, 2] * other[b, 2]
    return np.arccos(min(max(cosine, -1.0), 1.0))


@njit(**LEAN)
def _join_cones(axis, spread, a, other, width, b, into_axis, into, k):
    """Put a cone that holds cones ``a`` and ``b`` into the place ``k`` of others."""
    s0, s1, s2 = axis[a, 0] + other[b, 0], axis[a, 1] + other[b, 1], axis[a, 2] + other[b, 2]
    length = np.sqrt(s0 * s0 + s1 * s1 + s2 * s2)
    half = 0.5 * _between(axis, a, other, b)
    widest = half + max(spread[a], width[b])
    if length > 1e-9:
        into_axis[k, 0], into_axis[k, 1], into_axis[k, 2] = s0 / length, s1 / length, s2 / length
    into[k] = widest if length > 1e-9 else np.pi


@njit(**LEAN)
def widen_cones(axis, spread, other, width, wanted, margin):
    """Widen the cones of the ``wanted`` (patches,) bool patches until they hold ``other`` (patches, 3) with their
    ``width`` (patches,), and a ``margin``, rad, beyond.  Returns False when they all did already.
    """
    widened = False
    for p in range(len(wanted)):
        if wanted[p] and not _between(axis, p, other, p) + width[p] <= spread[p]:
            if spread[p] < 0.0:                         # it held nothing
                axis[p, 0], axis[p, 1], axis[p, 2], spread[p] = other[p, 0], other[p, 1], other[p, 2], width[p]
            else:
                _join_cones(axis, spread, p, other, width, p, axis, spread, p)
            spread[p] += margin
            widened = True
    return widened


@njit(**LEAN)
def fit_cones(child, patch, axis, spread, wanted, node_axis, node_spread):
    """Cones (m, 3), (m,) of all tree nodes from those of the ``wanted`` (patches,) bool patches."""
    for node in range(len(child) - 1, -1, -1):
        p = patch[node]
        if p >= 0:
            node_spread[node] = np.pi
            if p < len(wanted) and wanted[p]:
                node_axis[node, 0], node_axis[node, 1], node_axis[node, 2] = axis[p, 0], axis[p, 1], axis[p, 2]
                node_spread[node] = spread[p]
        elif max(node_spread[child[node, 0]], node_spread[child[node, 1]]) >= ONE_WAY:
            node_spread[node] = np.pi
        else:
            _join_cones(node_axis, node_spread, child[node, 0], node_axis, node_spread, child[node, 1], node_axis,
                        node_spread, node)


@njit(**LEAN)
def one_way(axis, spread, a, b):
    """True when all normals in cones ``a`` and ``b`` are in a narrow one.

    Parts of one closed skin can only meet where they face each other (Volino, Magnenat-Thalmann 1994).
    """
    room = ONE_WAY - spread[a] - spread[b]
    return room > 0.0 and (a == b or axis[a, 0] * axis[b, 0] + axis[a, 1] * axis[b, 1]
                           + axis[a, 2] * axis[b, 2] > np.cos(room))


@njit(cache=True, nogil=True)
def face_one_way(x, triangles, order, first, moving, pairs, own):
    """Which of ``pairs`` (k, 2), of those within a piece (``own``), face one way at ``x`` (n, 3), (k,) bool."""
    axis, spread = np.zeros((moving, 3)), np.zeros(moving)
    find_cones(x, triangles, order, first, in_pairs(pairs, own, moving), axis, spread)
    out = np.zeros(len(pairs), np.bool_)
    for k in range(len(pairs)):
        out[k] = own[k] and one_way(axis, spread, pairs[k, 0], pairs[k, 1])
    return out
