"""Patches: a few neighbouring triangles each, that are where they are and move together, more or less.

Pairs of patches whose boxes meet are found with a tree over the patches of each piece (kernels.trees), and hold for as
long as no patch leaves its box.  A pair is searched for its *candidates*, the relations that may come within their gap
(kernels.search), and these hold until its two patches have moved further against each other than was allowed for.
Patches that fall, roll or wobble together hardly do.
"""

import numpy as np
from numba import njit

PATCH = 16          # triangles, at most
ROUNDING = 1e-9     # of how far patches stray


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
def fit_boxes(x, ptr, point, box):
    """Boxes (patches, 6) of the points of the first patches at ``x`` (n, 3)."""
    box[:, :3], box[:, 3:] = np.inf, -np.inf
    widen_boxes(x, np.zeros_like(x), ptr, point, np.ones(len(box), np.bool_), box)


@njit(cache=True, nogil=True)
def same(one, other):
    """True when two motions (n, 3) are one."""
    for p in range(len(one)):
        for i in range(3):
            if one[p, i] != other[p, i]:
                return False
    return True


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
def in_pairs(pairs, counts, moving):
    """Which of the first ``moving`` patches are in ``pairs`` (k, 2) that count, (moving,) bool."""
    wanted = np.zeros(moving, np.bool_)
    for k in range(len(pairs)):
        if counts[k]:
            for side in range(2):
                if pairs[k, side] < moving:
                    wanted[pairs[k, side]] = True
    return wanted


@njit(cache=True, nogil=True)
def stray(pairs, counts, x, move, start, way, ptr, point, moving, patches, need, off):
    """How far the patches of ``pairs`` (k, 2) that ``counts`` (k,) bool move against each other until they are at ``x``
    + ``move`` (n, 3), m.

    ``need`` (k,) is raised to how far they are then from where they were at ``start``, and ``off`` to how far from that
    or from where ``way`` (n, 3) leads on from there.
    """
    wanted = in_pairs(pairs, counts, moving)
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
        if not counts[k]:
            continue
        far = _strayed(here, pairs[k, 0], pairs[k, 1])
        need[k] = max(need[k], far)
        off[k] = max(off[k], min(far, _strayed(there, pairs[k, 0], pairs[k, 1])))


@njit(cache=True, nogil=True)
def allow(need, off, counts, own, most, least, ahead, firm, strayed, strays, slack, along):
    """How much farther pairs (k,) may move against each other until they are searched anew, into ``slack``, where they
    do so by more than that; returns which, (k,) bool.

    need, off : m, see ``stray``, of those that ``counts`` (k,) bool.  strayed : m, what they did before this substep,
    0 where they are searched; ``strays`` is raised to what they do in all.
    Those that need more than ``most`` (k,), m, are searched ``along`` their way, with ``firm`` times what they are off
    it and ``least``, m, more; others with ``ahead`` times what they need, within both: a pair within a piece (``own``)
    has just ``most``.
    """
    stale = np.zeros(len(counts), np.bool_)
    for k in range(len(counts)):
        if not counts[k]:
            strays[k], slack[k] = -np.inf, -1.0         # searched for anew as soon as they count
            continue
        strays[k] = max(strays[k], strayed[k] + (off[k] if along[k] else need[k]))
        if not strays[k] * (1.0 + ROUNDING) > slack[k]:
            continue
        stale[k], strayed[k], along[k] = True, 0.0, need[k] > most[k]
        if along[k]:
            strays[k], slack[k] = off[k], firm * off[k] + least
        else:
            strays[k], slack[k] = need[k], need[k] + min(max(ahead * need[k], most[k] if own[k] else least), most[k])
    return stale


@njit(cache=True, nogil=True)
def within(box, margin, wide):
    """True when each box (k, 6), widened by its ``margin`` (k,), is inside its ``wide`` one; nor when it has no number.
    """
    for p in range(len(box)):
        for i in range(3):
            if not (box[p, i] - margin[p] >= wide[p, i] and box[p, 3 + i] + margin[p] <= wide[p, 3 + i]):
                return False
    return True
