"""Search of pairs of patches for their candidates: the relations that may come within their gap.

Of each patch the parts are known that it alone brings in: its vertices and its edges, besides its faces, so that no
relation comes twice.  Nothing here takes an array anew within a loop over parts: counting who holds it costs more than
looking at a part does.
"""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.candidates import SAME, SPARE
from rubberquince.kernels.distance import EDGE_EDGE, VERTEX_TRIANGLE, closest, closing
from rubberquince.kernels.patches import PATCH

CREASE = 0.5        # of a cell: what is nearer than this at rest shares cells and moves together
MOST = 3 * PATCH    # parts of one kind that a patch may have
PLACES = 15         # relations of two triangles: three vertices with the other's face, twice, and nine of edges


@njit(**LEAN)
def _sweep(x, way, shift, point, lo, hi, wide, box, hull):
    """Boxes of points ``point[lo]`` .. ``point[hi]`` into ``box`` (k, 6), and of all of them into ``hull`` (1, 6).

    They hold where the points are at ``x`` (n, 3) and where ``way`` (n, 3) leads these, as seen by who goes along with
    ``shift`` (3,), and are widened by ``wide``, m.
    """
    for i in range(3):
        hull[0, i], hull[0, 3 + i] = np.inf, -np.inf
        for k in range(lo, hi):
            here = x[point[k], i]
            there = here + way[point[k], i] - shift[i]
            box[k - lo, i], box[k - lo, 3 + i] = min(here, there) - wide, max(here, there) + wide
            hull[0, i] = min(hull[0, i], box[k - lo, i])
            hull[0, 3 + i] = max(hull[0, 3 + i], box[k - lo, 3 + i])


@njit(**LEAN)
def _apart(one, s, two, t):
    """True when box ``s`` of ``one`` (k, 6) and box ``t`` of ``two`` are apart."""
    return (one[s, 0] > two[t, 3] or one[s, 3] < two[t, 0] or one[s, 1] > two[t, 4] or one[s, 4] < two[t, 1]
            or one[s, 2] > two[t, 5] or one[s, 5] < two[t, 2])


@njit(**LEAN)
def _near(box, part, corners, lo, hi, hull, boxes, which):
    """Which parts ``lo`` .. ``hi`` have boxes that meet the ``hull`` (1, 6): these into ``boxes``, their numbers into
    ``which``; returns how many.

    The first columns of ``part`` (k, ..) say which points of its patch its ``corners`` are, with boxes ``box`` (k, 6).
    """
    met = 0
    for k in range(lo, hi):
        for i in range(3):
            low, high = box[part[k, 0], i], box[part[k, 0], 3 + i]
            for c in range(1, corners):
                low, high = min(low, box[part[k, c], i]), max(high, box[part[k, c], 3 + i])
            boxes[met, i], boxes[met, 3 + i] = low, high
        which[met] = k
        met += not _apart(boxes, met, hull, 0)
    return met


@njit(**LEAN)
def _counts(what, x, rest, way, along, own, both, near, slack, point_gap, ids, gap, far, e, w, v):
    """True when relation ``ids[e]`` may come within its gap; ``gap[e]`` and ``far[e]`` are found for it, m."""
    p, q, u, z = ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3]
    d, _ = closest(what, x, ids, e, w, v)
    if along:
        d -= max(closing(what, p, q, u, z, way, v, d), 0.0)
    least = max(max(point_gap[p], point_gap[q]), max(point_gap[u], point_gap[z]))
    if both:
        at_rest, _ = closest(what, rest, ids, e, w, v)
        least = min(point_gap[p] + point_gap[q], max(at_rest, SAME))
    if d > least * (1.0 + SPARE) + slack:
        return False
    if own:
        at_rest, _ = closest(what, rest, ids, e, w, v)
        least = min(least, 0.5 * at_rest)
        if at_rest <= max(CREASE * near, SAME) or d > least * (1.0 + SPARE) + slack:
            return False
    gap[e], far[e] = least, d
    return True


@njit(**LEAN)
def _together(centre, s, t, near):
    """True when triangles ``s`` and ``t`` of one piece have their centres (t, 3) at rest nearer than ``near``, m."""
    return ((centre[s, 0] - centre[t, 0]) ** 2 + (centre[s, 1] - centre[t, 1]) ** 2
            + (centre[s, 2] - centre[t, 2]) ** 2) < near * near


@njit(**LEAN)
def _rank(one, two, place):
    """What relations of a pair are sorted by: triangle ``one`` of a patch, ``two`` of the other, and the ``place``."""
    return (one * PATCH + two) * PLACES + place


@njit(**LEAN)
def _vertices_at_faces(vertices, which, count, faces, those, others, begin, second, same, vertex, face, triangles,
                       centre, x, rest, way, along, own, both, near, slack, point_gap, ids, kind, gap, far, rank, end,
                       w, v):
    """Add relations of ``count`` vertices, ``which`` of all, with ``others`` faces at ``end``; returns the new end.

    vertices, faces : their boxes (k, 6).  The faces of their patch ``begin`` there; the vertices are those of the
    ``second`` patch of the pair, or of the first, or both are of the ``same``.
    """
    for j in range(others):
        t = face[those[j], 3]
        q, u, z = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if q == u and not both:                     # a point without a face
            continue
        for i in range(count):
            if _apart(vertices, i, faces, j):
                continue
            p = vertex[which[i], 1]
            if p in (q, u, z) or (own and _together(centre, vertex[which[i], 2], t, near)):
                continue
            ids[end, 0], ids[end, 1], ids[end, 2], ids[end, 3] = p, q, u, z
            if _counts(VERTEX_TRIANGLE, x, rest, way, along, own, both, near, slack, point_gap, ids, gap, far, end, w,
                       v):
                mine, its, corner = vertex[which[i], 3], those[j] - begin, vertex[which[i], 4]
                swap = second or (same and mine > its)
                rank[end] = _rank(its, mine, 3 + corner) if swap else _rank(mine, its, corner)
                kind[end] = VERTEX_TRIANGLE
                end += 1
    return end


@njit(**LEAN)
def _edges_at_edges(ones, which, count, twos, those, others, edge, same, centre, x, rest, way, along, own, near, slack,
                    point_gap, ids, kind, gap, far, rank, end, w, v):
    """Add relations of ``count`` edges, ``which`` of all, with ``others`` at ``end``; returns the new end.

    ones, twos : their boxes (k, 6).  Those of the ``same`` patch meet once.
    """
    for i in range(count):
        p, q, one = edge[which[i], 2], edge[which[i], 3], edge[which[i], 4]
        for j in range(others):
            if _apart(ones, i, twos, j) or (same and those[j] <= which[i]):
                continue
            u, z, two = edge[those[j], 2], edge[those[j], 3], edge[those[j], 4]
            if p in (u, z) or q in (u, z) or (own and _together(centre, one, two, near)):
                continue
            ids[end, 0], ids[end, 1], ids[end, 2], ids[end, 3] = p, q, u, z
            if _counts(EDGE_EDGE, x, rest, way, along, own, False, near, slack, point_gap, ids, gap, far, end, w, v):
                rank[end] = _rank(edge[which[i], 5], edge[those[j], 5], 6 + 3 * edge[which[i], 6] + edge[those[j], 6])
                kind[end] = EDGE_EDGE
                end += 1
    return end


@njit(cache=True, nogil=True)
def _with_room(pair, ids, kind, gap, far, rank, count, more):
    """The same arrays, the first ``count`` of them, with room for at least so many ``more``."""
    size = 2 * count + more
    wider = (np.empty(size, np.int64), np.empty((size, 4), np.int64), np.empty(size, np.int8), np.empty(size),
             np.empty(size), np.empty(size, np.int64))
    wider[0][:count], wider[1][:count], wider[2][:count] = pair[:count], ids[:count], kind[:count]
    wider[3][:count], wider[4][:count], wider[5][:count] = gap[:count], far[:count], rank[:count]
    return wider


@njit(cache=True, nogil=True)
def _sort(ids, kind, gap, far, rank):
    """Sort relations by their ``rank``: in a landing, the order in which rows are met counts for some millimetres."""
    order = np.argsort(rank)
    ids[:], kind[:], gap[:], far[:] = ids[order], kind[order], gap[order], far[order]


@njit(cache=True, nogil=True)
def search(pairs, wanted, slack, along, x, way, ball, own, ptr, point, vertex_ptr, vertex, edge_ptr, edge, face_ptr,
           face, triangles, piece, rest, centre, gaps, point_gap, cell, balls):
    """Relations of the ``wanted`` (w,) of ``pairs`` (k, 2) of patches that may come within their gap near ``x`` (n, 3).

    A pair may move against each other by ``slack`` (k,), m, away from ``x`` or, where ``along`` (k,) bool, away from
    the ``way`` (n, 3), m, that leads on from there; ``ball`` (patches, 4) holds that.
    Patch p has the points ``point[ptr[p]]`` .. ``point[ptr[p + 1]]`` and in like manner its own rows of ``vertex``
    (v, 5): the place among these points, the point, the triangle it goes with, which one of the patch that is, and
    which of its corners; of ``edge`` (e, 7): two places, two points, and the same; and of ``face`` (t, 4): three places
    and the triangle.
    Gaps are those of the points that are part of it, ``gaps`` (pieces,) the widest.  Those of pieces of ``balls``
    (pieces,) bool are their radii: two balls keep the sum, or as far apart as they start, and only middles touch.
    A triangle whose corners are one point stands for that alone, and meets faces.
    Within a piece (``own``), what is closer at ``rest`` than half a ``cell`` (pieces,), m, does not count, and gaps are
    at most half the distance at rest: a skin never pushes where it was made to be close.

    Returns pair (r,), ids (r, 4), kind, gap and far: how near it comes at least without the slack, m.
    """
    pair, ids, kind = np.empty(1024, np.int64), np.empty((1024, 4), np.int64), np.empty(1024, np.int8)
    gap, far, rank, count = np.empty(1024), np.empty(1024), np.empty(1024, np.int64), 0
    shift, nowhere = np.empty(3), np.zeros(way.shape)
    hull, other, w, v = np.empty((1, 6)), np.empty((1, 6)), np.empty(4), np.empty(3)
    one, two, ones, twos = np.empty((MOST, 6)), np.empty((MOST, 6)), np.empty((MOST, 6)), np.empty((MOST, 6))
    which, those = np.empty(MOST, np.int64), np.empty(MOST, np.int64)
    for k in wanted:
        a, b, wide, mine = pairs[k, 0], pairs[k, 1], slack[k], own[k]
        for i in range(3):
            shift[i] = 0.5 * (ball[a, i] + ball[b, i]) if along[k] else 0.0
        on = way if along[k] else nowhere
        near = cell[piece[a]] if mine else 0.0
        one_balls, two_balls = balls[piece[a]], balls[piece[b]]
        both = one_balls and two_balls
        r = gaps[piece[a]] + gaps[piece[b]] if both else max(gaps[piece[a]], gaps[piece[b]])
        _sweep(x, on, shift, point, ptr[a], ptr[a + 1], 0.0, one, hull)
        _sweep(x, on, shift, point, ptr[b], ptr[b + 1], r * (1.0 + SPARE) + wide, two, other)
        if _apart(hull, 0, other, 0):
            continue
        before = count
        if not two_balls or one_balls:
            m = _near(one, vertex, 1, vertex_ptr[a], vertex_ptr[a + 1], other, ones, which)
            n = _near(two, face, 3, face_ptr[b], face_ptr[b + 1], hull, twos, those)
            if count + m * n > len(kind):
                pair, ids, kind, gap, far, rank = _with_room(pair, ids, kind, gap, far, rank, count, m * n)
            count = _vertices_at_faces(ones, which, m, twos, those, n, face_ptr[b], False, a == b, vertex, face,
                                       triangles, centre, x, rest, way, along[k], mine, both, near, wide, point_gap,
                                       ids, kind, gap, far, rank, count, w, v)
        if not one_balls and a != b:
            m = _near(two, vertex, 1, vertex_ptr[b], vertex_ptr[b + 1], hull, twos, those)
            n = _near(one, face, 3, face_ptr[a], face_ptr[a + 1], other, ones, which)
            if count + m * n > len(kind):
                pair, ids, kind, gap, far, rank = _with_room(pair, ids, kind, gap, far, rank, count, m * n)
            count = _vertices_at_faces(twos, those, m, ones, which, n, face_ptr[a], True, False, vertex, face,
                                       triangles, centre, x, rest, way, along[k], mine, False, near, wide, point_gap,
                                       ids, kind, gap, far, rank, count, w, v)
        if not one_balls and not two_balls:
            m = _near(one, edge, 2, edge_ptr[a], edge_ptr[a + 1], other, ones, which)
            n = _near(two, edge, 2, edge_ptr[b], edge_ptr[b + 1], hull, twos, those)
            if count + m * n > len(kind):
                pair, ids, kind, gap, far, rank = _with_room(pair, ids, kind, gap, far, rank, count, m * n)
            count = _edges_at_edges(ones, which, m, twos, those, n, edge, a == b, centre, x, rest, way, along[k], mine,
                                    near, wide, point_gap, ids, kind, gap, far, rank, count, w, v)
        pair[before:count] = k
        if count - before > 1:
            _sort(ids[before:count], kind[before:count], gap[before:count], far[before:count], rank[before:count])
    return pair[:count].copy(), ids[:count].copy(), kind[:count].copy(), gap[:count].copy(), far[:count].copy()
