"""What of the skins can come close on given ways.

A *patch* is a few neighbouring triangles.  Pairs of patches whose boxes meet are found with a tree over the patches of
each piece, and hold for as long as no patch leaves its box.  A pair is searched for its *candidates*, the relations
that may come within their gap, and these hold until its two patches have moved further against each other than was
allowed for.  Patches that fall, roll or wobble together hardly do.
"""

import numpy as np
from numba import njit

from rubberquince.kernels.candidates import SAME, SPARE
from rubberquince.kernels.distance import EDGE_EDGE, VERTEX_TRIANGLE, closest, closing

PATCH = 16          # triangles, at most
ONE_WAY = np.radians(75.0)      # normals within such a cone face one way, with a margin for what moves in a substep
CREASE = 0.5        # of a cell: what is nearer than this at rest shares cells and moves together


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
def moved_bodies(move, first):
    """Which bodies (k,) bool have a point among ``first[k]`` .. ``first[k + 1]`` that ``move`` (n, 3) moves."""
    out = np.zeros(len(first) - 1, np.bool_)
    for k in range(len(out)):
        for p in range(first[k], first[k + 1]):
            if move[p, 0] != 0.0 or move[p, 1] != 0.0 or move[p, 2] != 0.0:
                out[k] = True
                break
    return out


@njit(cache=True, nogil=True)
def widen_boxes(x, move, ptr, point, wanted, box):
    """Widen the boxes (patches, 6) of the first patches until they hold their points at ``x`` + ``move`` (n, 3).

    Patch p has the points ``point[ptr[p]]`` .. ``point[ptr[p + 1]]``; those not ``wanted`` (k,) bool stay as they are.
    """
    for p in range(len(box)):
        if not wanted[p]:
            continue
        b0, b1, b2, b3, b4, b5 = box[p, 0], box[p, 1], box[p, 2], box[p, 3], box[p, 4], box[p, 5]
        for k in range(ptr[p], ptr[p + 1]):
            q = point[k]
            x0, x1, x2 = x[q, 0] + move[q, 0], x[q, 1] + move[q, 1], x[q, 2] + move[q, 2]
            b0, b1, b2 = min(b0, x0), min(b1, x1), min(b2, x2)
            b3, b4, b5 = max(b3, x0), max(b4, x1), max(b5, x2)
        box[p, 0], box[p, 1], box[p, 2], box[p, 3], box[p, 4], box[p, 5] = b0, b1, b2, b3, b4, b5


@njit(cache=True, nogil=True)
def bends(move, first, most):
    """True when some of the points ``first[k]`` .. ``first[k + 1]`` of a body move, by ``move`` (n, 3), farther than
    its ``most``, m, which may be infinite, along an axis from the mean way of all of them.
    """
    for k in range(len(first) - 1):
        if most[k] == np.inf:
            continue
        s0, s1, s2, count = 0.0, 0.0, 0.0, first[k + 1] - first[k]
        for p in range(first[k], first[k + 1]):
            s0, s1, s2 = s0 + move[p, 0], s1 + move[p, 1], s2 + move[p, 2]
        for p in range(first[k], first[k + 1]):
            if (abs(move[p, 0] - s0 / count) > most[k] or abs(move[p, 1] - s1 / count) > most[k]
                    or abs(move[p, 2] - s2 / count) > most[k]):
                return True
    return False


@njit(cache=True, nogil=True)
def motion_balls(move, ptr, point, wanted, ball):
    """A ball (patches, 4), centre and radius, m, that holds all of ``move`` (n, 3) of each of the first patches that
    are ``wanted`` (k,) bool.
    """
    for p in range(len(wanted)):
        if not wanted[p]:
            continue
        q = point[ptr[p]]
        l0, l1, l2, h0, h1, h2 = move[q, 0], move[q, 1], move[q, 2], move[q, 0], move[q, 1], move[q, 2]
        for k in range(ptr[p] + 1, ptr[p + 1]):
            q = point[k]
            m0, m1, m2 = move[q, 0], move[q, 1], move[q, 2]
            l0, l1, l2, h0, h1, h2 = min(l0, m0), min(l1, m1), min(l2, m2), max(h0, m0), max(h1, m1), max(h2, m2)
        c0, c1, c2 = 0.5 * (l0 + h0), 0.5 * (l1 + h1), 0.5 * (l2 + h2)
        square = 0.0
        for k in range(ptr[p], ptr[p + 1]):
            q = point[k]
            square = max(square, (move[q, 0] - c0) ** 2 + (move[q, 1] - c1) ** 2 + (move[q, 2] - c2) ** 2)
        ball[p, 0], ball[p, 1], ball[p, 2], ball[p, 3] = c0, c1, c2, np.sqrt(square)


@njit(cache=True, nogil=True)
def _strayed(ball, a, b):
    d0, d1, d2 = ball[a, 0] - ball[b, 0], ball[a, 1] - ball[b, 1], ball[a, 2] - ball[b, 2]
    return np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) + ball[a, 3] + ball[b, 3]


@njit(cache=True, nogil=True)
def _in_pairs(pairs, counts, moving):
    """Which of the first ``moving`` patches are in ``pairs`` (k, 2) that count, (moving,) bool."""
    wanted = np.zeros(moving, np.bool_)
    for k in range(len(pairs)):
        if counts[k]:
            for side in range(2):
                if pairs[k, side] < moving:
                    wanted[pairs[k, side]] = True
    return wanted


@njit(cache=True, nogil=True)
def stray(pairs, x, move, start, way, ptr, point, moving, patches, need, off):
    """How far the patches of ``pairs`` (k, 2) move against each other until they are at ``x`` + ``move`` (n, 3), m.

    ``need`` (k,) is raised to how far they are then from where they were at ``start``, and ``off`` to how far from that
    or from where ``way`` (n, 3) leads on from there.
    """
    wanted = _in_pairs(pairs, np.ones(len(pairs), np.bool_), moving)
    gone = np.empty((len(move), 3))
    here, there = np.zeros((patches, 4)), np.zeros((patches, 4))
    for p in range(moving):
        if wanted[p]:
            for k in range(ptr[p], ptr[p + 1]):
                q = point[k]
                for i in range(3):
                    gone[q, i] = x[q, i] + move[q, i] - start[q, i]
    motion_balls(gone, ptr, point, wanted, here)
    for p in range(moving):
        if wanted[p]:
            for k in range(ptr[p], ptr[p + 1]):
                q = point[k]
                for i in range(3):
                    gone[q, i] = x[q, i] + move[q, i] - start[q, i] - way[q, i]
    motion_balls(gone, ptr, point, wanted, there)
    for k in range(len(pairs)):
        far = _strayed(here, pairs[k, 0], pairs[k, 1])
        need[k] = max(need[k], far)
        off[k] = max(off[k], min(far, _strayed(there, pairs[k, 0], pairs[k, 1])))


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


@njit(cache=True, nogil=True)
def _between(axis, a, other, b):
    """The angle, rad, between two axes."""
    cosine = axis[a, 0] * other[b, 0] + axis[a, 1] * other[b, 1] + axis[a, 2] * other[b, 2]
    return np.arccos(min(max(cosine, -1.0), 1.0))


@njit(cache=True, nogil=True)
def _join_cones(axis, spread, a, other, width, b, into_axis, into, k):
    """Put a cone that holds cones ``a`` and ``b`` into the place ``k`` of others."""
    s0, s1, s2 = axis[a, 0] + other[b, 0], axis[a, 1] + other[b, 1], axis[a, 2] + other[b, 2]
    length = np.sqrt(s0 * s0 + s1 * s1 + s2 * s2)
    half = 0.5 * _between(axis, a, other, b)
    widest = half + max(spread[a], width[b])
    if length > 1e-9:
        into_axis[k, 0], into_axis[k, 1], into_axis[k, 2] = s0 / length, s1 / length, s2 / length
    into[k] = widest if length > 1e-9 else np.pi


@njit(cache=True, nogil=True)
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


@njit(cache=True, nogil=True)
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


@njit(cache=True, nogil=True)
def _one_way(axis, spread, a, b):
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
    find_cones(x, triangles, order, first, _in_pairs(pairs, own, moving), axis, spread)
    out = np.zeros(len(pairs), np.bool_)
    for k in range(len(pairs)):
        out[k] = own[k] and _one_way(axis, spread, pairs[k, 0], pairs[k, 1])
    return out


@njit(cache=True, nogil=True)
def within(box, margin, wide):
    """True when each box (k, 6), widened by its ``margin`` (k,), is inside its ``wide`` one; nor when it has no number.
    """
    for p in range(len(box)):
        for i in range(3):
            if not (box[p, i] - margin[p] >= wide[p, i] and box[p, 3 + i] + margin[p] <= wide[p, 3 + i]):
                return False
    return True


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


@njit(cache=True, nogil=True)
def _meet(box, a, b):
    return (box[a, 0] <= box[b, 3] and box[b, 0] <= box[a, 3] and box[a, 1] <= box[b, 4] and box[b, 1] <= box[a, 4]
            and box[a, 2] <= box[b, 5] and box[b, 2] <= box[a, 5])


@njit(cache=True, nogil=True)
def _together(rest, a, b, near):
    """True when boxes ``a`` and ``b`` of ``rest`` (m, 6) lie within a ball of diameter ``near``."""
    square = 0.0
    for i in range(3):
        square += (max(rest[a, 3 + i], rest[b, 3 + i]) - min(rest[a, i], rest[b, i])) ** 2
    return square <= near * near


@njit(cache=True, nogil=True)
def meeting_patches(roots, moving, meets, child, patch, box, rest, near, faces, axis, spread):
    """Keys a · patches + b of pairs of patches a <= b whose boxes meet, sorted, of pieces that do (``meets``, bool).

    roots : (pieces,), the tree node each piece begins at, the ``moving`` first; of these also pairs within the piece,
    if they are not together within a ball of diameter ``near`` (pieces,), m, in the boxes ``rest`` (m, 6); nor, in
    pieces where that ``faces`` (pieces,) bool says that they cannot meet, face one way by the cones of tree nodes with
    their ``axis`` (m, 3) and ``spread`` (m,).
    """
    patches = patch.max() + 1
    found = np.empty(1024, np.int64)
    count = 0
    stack = np.empty((4096, 2), np.int64)
    for one in range(moving):
        for two in range(one, len(roots)):
            if not meets[one, two]:
                continue
            stack[0, 0], stack[0, 1] = roots[one], roots[two]
            top = 1
            while top:
                top -= 1
                a, b = stack[top]
                if not _meet(box, a, b) or (one == two and (
                        (faces[one] and _one_way(axis, spread, a, b)) or _together(rest, a, b, near[one]))):
                    continue
                if patch[a] >= 0 and patch[b] >= 0:
                    if count == len(found):
                        more = np.empty(2 * count, np.int64)
                        more[:count] = found
                        found = more
                    found[count] = min(patch[a], patch[b]) * patches + max(patch[a], patch[b])
                    count += 1
                elif a == b:
                    l, r = child[a]
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
    return np.sort(found[:count])


@njit(cache=True, nogil=True)
def _sweep(x, way, shift, triangles, order, begin, end, wide, corners, boxes):
    """Boxes of the corners (k, 3, 6) and of the whole (k, 6) of triangles ``order[begin]`` .. ``order[end]``.

    They hold points ``x`` (n, 3) and where ``way`` (n, 3) leads these, as seen by who goes along with ``shift`` (3,),
    and are widened by ``wide``, m.
    """
    for t in range(end - begin):
        for c in range(3):
            p = triangles[order[begin + t], c]
            for i in range(3):
                here = x[p, i]
                there = here + way[p, i] - shift[i]
                corners[t, c, i], corners[t, c, 3 + i] = min(here, there) - wide, max(here, there) + wide
        for i in range(3):
            boxes[t, i] = min(corners[t, 0, i], corners[t, 1, i], corners[t, 2, i])
            boxes[t, 3 + i] = max(corners[t, 0, 3 + i], corners[t, 1, 3 + i], corners[t, 2, 3 + i])


@njit(cache=True, nogil=True)
def _misses(corner, t, c, box, s):
    """True when corner ``c`` of triangle ``t`` and the ``box`` of triangle ``s`` are apart."""
    return (corner[t, c, 0] > box[s, 3] or corner[t, c, 3] < box[s, 0] or corner[t, c, 1] > box[s, 4]
            or corner[t, c, 4] < box[s, 1] or corner[t, c, 2] > box[s, 5] or corner[t, c, 5] < box[s, 2])


@njit(cache=True, nogil=True)
def _edges_miss(one, t, c, two, s, d):
    """True when the boxes of edge ``c`` of triangle ``t`` and of edge ``d`` of triangle ``s`` are apart."""
    e, f = (c + 1) % 3, (d + 1) % 3
    for i in range(3):
        if (min(one[t, c, i], one[t, e, i]) > max(two[s, d, 3 + i], two[s, f, 3 + i])
                or max(one[t, c, 3 + i], one[t, e, 3 + i]) < min(two[s, d, i], two[s, f, i])):
            return True
    return False


@njit(cache=True, nogil=True)
def _grown(pair, ids, kind, gap, far):
    """The same arrays with room for twice as many."""
    count = len(kind)
    more = (np.empty(2 * count, np.int64), np.empty((2 * count, 4), np.int64), np.empty(2 * count, np.int8),
            np.empty(2 * count), np.empty(2 * count))
    more[0][:count], more[1][:count], more[2][:count], more[3][:count], more[4][:count] = pair, ids, kind, gap, far
    return more


@njit(cache=True, nogil=True)
def _hull(boxes, count):
    """The box that holds the first ``count`` of ``boxes`` (k, 6)."""
    b0, b1, b2, b3, b4, b5 = boxes[0, 0], boxes[0, 1], boxes[0, 2], boxes[0, 3], boxes[0, 4], boxes[0, 5]
    for t in range(1, count):
        b0, b1, b2 = min(b0, boxes[t, 0]), min(b1, boxes[t, 1]), min(b2, boxes[t, 2])
        b3, b4, b5 = max(b3, boxes[t, 3]), max(b4, boxes[t, 4]), max(b5, boxes[t, 5])
    return b0, b1, b2, b3, b4, b5


@njit(cache=True, nogil=True)
def _that_meet(boxes, count, hull, which):
    """Put into ``which`` the first ``count`` of ``boxes`` (k, 6) that meet the box ``hull``; returns how many do."""
    met = 0
    for t in range(count):
        if not (boxes[t, 0] > hull[3] or boxes[t, 3] < hull[0] or boxes[t, 1] > hull[4] or boxes[t, 4] < hull[1]
                or boxes[t, 2] > hull[5] or boxes[t, 5] < hull[2]):
            which[met] = t
            met += 1
    return met


@njit(cache=True, nogil=True)
def search(pairs, wanted, slack, along, x, way, ball, own, first, order, piece, triangles, owned_point, owned_edge,
           edges, rest, centre, gaps, point_gap, cell, balls):
    """Relations of ``wanted`` (k,) bool ``pairs`` (k, 2) of patches that may come within their gap near ``x`` (n, 3).

    A pair may move against each other by ``slack`` (k,), m, away from ``x`` or, where ``along`` (k,) bool, away from
    the ``way`` (n, 3), m, that leads on from there; ``ball`` (patches, 4) holds that.
    Patch p has triangles ``order[first[p]]`` .. ``order[first[p + 1]]``, of which each owns some of its points and
    edges, so that no relation comes twice.
    Gaps are those of the points that are part of it, ``gaps`` (pieces,) the widest.  Those of pieces of ``balls``
    (pieces,) bool are their radii: two balls keep the sum, or as far apart as they start, and only middles touch.
    A triangle whose corners are one point stands for that alone, and meets faces.
    Within a piece (``own``), what is closer at ``rest`` than half a ``cell`` (pieces,), m, does not count, and gaps are
    at most half the distance at rest: a skin never pushes where it was made to be close.

    Returns pair (r,), ids (r, 4), kind, gap and far: how near it comes at least without the slack, m.
    """
    pair, ids, kind = np.empty(1024, np.int64), np.empty((1024, 4), np.int64), np.empty(1024, np.int8)
    gap, far, count, shift, nowhere = np.empty(1024), np.empty(1024), 0, np.empty(3), np.zeros(way.shape)
    one_corners, two_corners = np.empty((PATCH, 3, 6)), np.empty((PATCH, 3, 6))
    one_boxes, two_boxes, w, v = np.empty((PATCH, 6)), np.empty((PATCH, 6)), np.empty(4), np.empty(3)
    w_rest, v_rest, ones, twos = np.empty(4), np.empty(3), np.empty(PATCH, np.int64), np.empty(PATCH, np.int64)
    for k in range(len(pairs)):
        if not wanted[k]:
            continue
        a, b = pairs[k, 0], pairs[k, 1]
        for i in range(3):
            shift[i] = 0.5 * (ball[a, i] + ball[b, i]) if along[k] else 0.0
        on = way if along[k] else nowhere
        near = cell[piece[a]] if own[k] else 0.0
        one_balls, two_balls = balls[piece[a]], balls[piece[b]]
        both = one_balls and two_balls
        begin, end = 3 if two_balls and not one_balls else 0, 3 if one_balls else 6 if two_balls else 15
        r = gaps[piece[a]] + gaps[piece[b]] if both else max(gaps[piece[a]], gaps[piece[b]])
        _sweep(x, on, shift, triangles, order, first[a], first[a + 1], 0.0, one_corners, one_boxes)
        reach = r * (1.0 + SPARE) + slack[k]
        _sweep(x, on, shift, triangles, order, first[b], first[b + 1], reach, two_corners, two_boxes)
        whole = _hull(two_boxes, first[b + 1] - first[b])
        near_ones = _that_meet(one_boxes, first[a + 1] - first[a], whole, ones)
        near_twos = _that_meet(two_boxes, first[b + 1] - first[b], _hull(one_boxes, first[a + 1] - first[a]), twos)
        for i in range(near_ones):
            s = ones[i]
            one = order[first[a] + s]
            l0, l1, l2 = one_boxes[s, 0], one_boxes[s, 1], one_boxes[s, 2]
            h0, h1, h2 = one_boxes[s, 3], one_boxes[s, 4], one_boxes[s, 5]
            for j in range(near_twos):
                t = twos[j]
                if a == b and t <= s:
                    continue
                if (l0 > two_boxes[t, 3] or h0 < two_boxes[t, 0] or l1 > two_boxes[t, 4] or h1 < two_boxes[t, 1]
                        or l2 > two_boxes[t, 5] or h2 < two_boxes[t, 2]):
                    continue
                two = order[first[b] + t]
                if own[k] and ((centre[one, 0] - centre[two, 0]) ** 2 + (centre[one, 1] - centre[two, 1]) ** 2
                               + (centre[one, 2] - centre[two, 2]) ** 2) < near * near:
                    continue
                one_alone = triangles[one, 0] == triangles[one, 1]      # a point without a face
                two_alone = triangles[two, 0] == triangles[two, 1]
                if not both and one_alone and two_alone:
                    continue
                if count + 15 > len(kind):
                    pair, ids, kind, gap, far = _grown(pair, ids, kind, gap, far)
                for part in range(begin, end):      # three points each with the other's face, and all edges
                    if part < 6:
                        c = part % 3
                        if part < 3:
                            if (not owned_point[one, c] or (two_alone and not both)
                                    or _misses(one_corners, s, c, two_boxes, t)):
                                continue
                            p, q, u, z = triangles[one, c], triangles[two, 0], triangles[two, 1], triangles[two, 2]
                        else:
                            if not owned_point[two, c] or one_alone or _misses(two_corners, t, c, one_boxes, s):
                                continue
                            p, q, u, z = triangles[two, c], triangles[one, 0], triangles[one, 1], triangles[one, 2]
                        what = VERTEX_TRIANGLE
                    else:
                        c, e = (part - 6) // 3, part % 3
                        mine, other = owned_edge[one, c], owned_edge[two, e]
                        if mine < 0 or other < 0 or _edges_miss(one_corners, s, c, two_corners, t, e):
                            continue
                        what, p, q, u, z = EDGE_EDGE, edges[mine, 0], edges[mine, 1], edges[other, 0], edges[other, 1]
                    if own[k] and (p in (u, z) or q == z or (q == u if what == EDGE_EDGE else p == q)):
                        continue                    # parts that have a point in common
                    ids[count, 0], ids[count, 1], ids[count, 2], ids[count, 3] = p, q, u, z
                    d, _ = closest(what, x, ids, count, w, v)
                    if along[k]:
                        d -= max(closing(what, p, q, u, z, way, v, d), 0.0)
                    least = max(max(point_gap[p], point_gap[q]), max(point_gap[u], point_gap[z]))
                    if both:
                        at_rest, _ = closest(what, rest, ids, count, w_rest, v_rest)
                        least = min(point_gap[p] + point_gap[q], max(at_rest, SAME))
                    if d > least * (1.0 + SPARE) + slack[k]:
                        continue
                    if own[k]:
                        at_rest, _ = closest(what, rest, ids, count, w_rest, v_rest)
                        least = min(least, 0.5 * at_rest)
                        if at_rest <= max(CREASE * near, SAME) or d > least * (1.0 + SPARE) + slack[k]:
                            continue
                    pair[count], kind[count], gap[count], far[count] = k, what, least, d
                    count += 1
    return pair[:count].copy(), ids[:count].copy(), kind[:count].copy(), gap[:count].copy(), far[:count].copy()
