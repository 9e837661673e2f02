"""Candidates: the relations of pairs of patches that may come within their gap, and which of them do on a way."""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.distance import GROUND, closest, closing

SAME = 1e-9          # m: so close at rest is in one place
SPARE = 0.1         # of the gap: how far beyond it relations are picked


@njit(cache=True, nogil=True)
def add_spans(pair, first, gap, far, begin, end, lack):
    """Say of pairs where those rows begin and end that are from ``first`` on, of ``pair`` (k,), sorted, each, and how
    near the nearest of them is to its reach, m; gap and far are those of all rows.
    """
    for e in range(len(pair)):
        k, row = pair[e], first + e
        if e == 0 or pair[e - 1] != k:
            begin[k] = row
        end[k] = row + 1
        lack[k] = min(lack[k], far[row] - gap[row] * (1.0 + SPARE))


@njit(cache=True, nogil=True)
def rows_of(begin, end):
    """The rows of all pairs, one pair after another."""
    rows, count = np.empty((end - begin).sum(), np.int64), 0
    for k in range(len(begin)):
        for row in range(begin[k], end[k]):
            rows[count] = row
            count += 1
    return rows


@njit(cache=True, nogil=True)
def gather(begin, end, picked, ids, kind, gap, distance, inside, apart, low, ground_gap, x):
    """All six arrays of the candidates that are ``picked`` (rows,) bool, pair by pair, and, after them, of the ground
    beneath those of the first points that are ``low`` (moving,) bool, at ``x`` (n, 3); see solver.touching.
    """
    count = low.sum()
    for pair in range(len(begin)):
        for e in range(begin[pair], end[pair]):
            count += picked[e]
    whats, kinds, gaps = np.full((count, 4), -1), np.empty(count, np.int8), np.empty(count)
    distances, insides, aparts, w = np.empty(count), np.empty(count, np.bool_), np.empty((count, 3)), np.empty(4)
    k = 0
    for pair in range(len(begin)):
        for e in range(begin[pair], end[pair]):
            if picked[e]:
                kinds[k], gaps[k], distances[k], insides[k] = kind[e], gap[e], distance[e], inside[e]
                for i in range(4):
                    whats[k, i] = ids[e, i]
                for i in range(3):
                    aparts[k, i] = apart[e, i]
                k += 1
    for p in range(len(low)):
        if low[p]:
            whats[k, 0], kinds[k], gaps[k] = p, GROUND, ground_gap[p]
            distances[k], insides[k] = closest(GROUND, x, whats, k, w, aparts[k])
            k += 1
    return whats, kinds, gaps, distances, insides, aparts


@njit(cache=True, nogil=True)
def pick_low(x, moves, gap, low):
    """Mark in ``low`` (moving,) bool the first points that may come within their ``gap`` (moving,), m, from the ground
    on one of ``moves`` (m, n, 3) from ``x`` (n, 3); returns how many more that are.
    """
    more = 0
    for p in range(len(low)):
        if low[p]:
            continue
        down = 0.0
        for m in range(len(moves)):
            down = min(down, moves[m, p, 1])
        low[p] = x[p, 1] + down < gap[p] * (1.0 + SPARE)
        more += low[p]
    return more


@njit(**LEAN)
def pick(lo, hi, begin, end, lack, ids, kind, gap, far, own, strays, x, moves, seen, distance, inside, apart, picked,
         w, v):
    """Mark in ``picked`` (rows,) bool the candidates of pairs ``lo`` .. ``hi`` that may come within their gap from
    ``x`` (n, 3) on under one of ``moves`` (m, n, 3).

    begin, end, lack : see solver.candidates.
    strays : (pairs,), m, by how much patches may have moved against each other, all the way of ``moves``.
    What had to be looked at has ``seen`` (rows,) set, and ``distance``, ``inside`` and ``apart`` as in
    kernels.distance; ``w`` (4,) and ``v`` (3,) are scratch.
    What lies in one place within a piece (``own``, by pair) already, as in a flat start, must come apart first.
    Returns how many more were picked.
    """
    more = 0
    for k in range(lo, hi):
        if lack[k] > strays[k]:
            continue
        for e in range(begin[k], end[k]):
            reach = gap[e] * (1.0 + SPARE)
            if picked[e] or far[e] - strays[k] > reach:
                continue
            if not seen[e]:
                seen[e] = True
                distance[e], inside[e] = closest(kind[e], x, ids, e, w, v)
                apart[e, 0], apart[e, 1], apart[e, 2] = v[0], v[1], v[2]
            d = distance[e]
            if own[k] and d <= SAME:
                continue
            nearest = d
            v[0], v[1], v[2] = apart[e, 0], apart[e, 1], apart[e, 2]
            for m in range(len(moves)):
                if nearest <= reach:
                    break
                near = d - closing(kind[e], ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3], moves[m], v, d)
                nearest = min(nearest, near)
            picked[e] = nearest <= reach
            more += picked[e]
    return more
