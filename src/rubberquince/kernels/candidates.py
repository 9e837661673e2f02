"""Candidates: the relations of pairs of patches that may come within their gap, and which of them do on a way."""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.distance import GROUND, closest, closing

SAME = 1e-9          # m: so close at rest is in one place
SPARE = 0.1         # of the gap: how far beyond it relations are picked


@njit(cache=True, nogil=True)
def join(pair, ids, kind, gap, far, seen, inside, picked, distance, apart, kept, new_pair, new_ids, new_kind, new_gap,
         new_far):
    """The candidates of pairs that are ``kept`` (pairs,) bool and new ones of others, in the order of pairs: all ten
    arrays of them, with nothing known of the new ones where nodes are; see solver.candidates.
    """
    old, fresh, count = len(pair), len(new_pair), len(new_pair)
    for e in range(old):
        count += kept[pair[e]]
    pairs, whats, kinds = np.empty(count, np.int64), np.empty((count, 4), np.int64), np.empty(count, np.int8)
    gaps, fars, distances, aparts = np.empty(count), np.empty(count), np.empty(count), np.empty((count, 3))
    seens, insides, pickeds = np.zeros(count, np.bool_), np.zeros(count, np.bool_), np.zeros(count, np.bool_)
    a, b = 0, 0
    for k in range(count):
        while a < old and not kept[pair[a]]:
            a += 1
        if a < old and (b == fresh or pair[a] <= new_pair[b]):
            pairs[k], kinds[k], gaps[k], fars[k], distances[k] = pair[a], kind[a], gap[a], far[a], distance[a]
            seens[k], insides[k], pickeds[k] = seen[a], inside[a], picked[a]
            for i in range(4):
                whats[k, i] = ids[a, i]
            for i in range(3):
                aparts[k, i] = apart[a, i]
            a += 1
        else:
            pairs[k], kinds[k], gaps[k], fars[k] = new_pair[b], new_kind[b], new_gap[b], new_far[b]
            for i in range(4):
                whats[k, i] = new_ids[b, i]
            b += 1
    return pairs, whats, kinds, gaps, fars, seens, insides, pickeds, distances, aparts


@njit(cache=True, nogil=True)
def spans(pair, gap, far, pairs):
    """Where candidates of each of all ``pairs`` begin, (pairs + 1,), and how near the nearest is to its reach, m.

    pair (c,), sorted, gap and far are those of the candidates.
    """
    begin, lack = np.zeros(pairs + 1, np.int64), np.full(pairs, np.inf)
    for e in range(len(pair)):
        k = pair[e]
        begin[k + 1] = e + 1
        lack[k] = min(lack[k], far[e] - gap[e] * (1.0 + SPARE))
    for k in range(pairs):
        begin[k + 1] = max(begin[k + 1], begin[k])
    return begin, lack


@njit(cache=True, nogil=True)
def gather(picked, ids, kind, gap, distance, inside, apart, low, ground_gap, x):
    """All six arrays of the candidates that are ``picked`` (c,) bool and, after them, of the ground beneath those of
    the first points that are ``low`` (moving,) bool, at ``x`` (n, 3); see solver.touching.
    """
    count = picked.sum() + low.sum()
    whats, kinds, gaps = np.full((count, 4), -1), np.empty(count, np.int8), np.empty(count)
    distances, insides, aparts, w = np.empty(count), np.empty(count, np.bool_), np.empty((count, 3)), np.empty(4)
    k = 0
    for e in range(len(picked)):
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
def pick(begin, lack, ids, kind, gap, far, own, strays, x, moves, seen, distance, inside, apart, picked, w, v):
    """Mark in ``picked`` (c,) bool the candidates that may come within their gap from ``x`` (n, 3) on under one of
    ``moves`` (m, n, 3).

    begin, lack : see ``spans``.
    strays : (pairs,), m, by how much patches may have moved against each other, all the way of ``moves``.
    What had to be looked at has ``seen`` (c,) set, and ``distance``, ``inside`` and ``apart`` as in kernels.distance;
    ``w`` (4,) and ``v`` (3,) are scratch.
    What lies in one place within a piece (``own``, by pair) already, as in a flat start, must come apart first.
    Returns how many more were picked.
    """
    more = 0
    for k in range(len(lack)):
        if lack[k] > strays[k]:
            continue
        for e in range(begin[k], begin[k + 1]):
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
