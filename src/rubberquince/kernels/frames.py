"""Boxes as they are seen from a frame that moves."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def hulls(box, piece, hull):
    """Widen ``hull`` (pieces, 6) until each holds the boxes (k, 6) of patches of its ``piece`` (k,)."""
    for p in range(len(box)):
        k = piece[p]
        for i in range(3):
            hull[k, i] = min(hull[k, i], box[p, i])
            hull[k, 3 + i] = max(hull[k, 3 + i], box[p, 3 + i])


@njit(cache=True, nogil=True)
def seen_from(box, which, origin, into, turn):
    """What holds the boxes (k, 6) ``which`` (b,), seen from a frame that goes from the first of ``origin`` (f, 3) and
    ``into`` (f, 3, 3), what takes places to it, to each of the others, (b, 6).

    turn : (f,), how much its axes turn or stretch on the way: what stands still goes along a bow, seen from there.
    """
    out = np.empty((len(which), 6))
    at, end = np.empty(3), np.empty(3)
    for b in range(len(which)):
        k = which[b]
        for f in range(len(origin)):
            off = 0.0
            for i in range(3):
                end[i] = 0.0
                for j in range(3):
                    end[i] += into[f, i, j] * (0.5 * (box[k, j] + box[k, 3 + j]) - origin[f, j])
                if f == 0:
                    at[i] = end[i]
                off = max(off, turn[f] * abs(end[i] - at[i]))
            for i in range(3):
                half = off
                for j in range(3):
                    half += abs(into[f, i, j]) * 0.5 * (box[k, 3 + j] - box[k, j])
                if f == 0:
                    out[b, i], out[b, 3 + i] = end[i] - half, end[i] + half
                else:
                    out[b, i], out[b, 3 + i] = min(out[b, i], end[i] - half), max(out[b, 3 + i], end[i] + half)
    return out


@njit(cache=True, nogil=True)
def all_within(box, region):
    """True when each box (k, 6) is in its ``region`` (k, 6), which may be without end; nor when it has no number."""
    for k in range(len(box)):
        for i in range(3):
            if not (box[k, i] >= region[k, i] or region[k, i] == -np.inf):
                return False
            if not (box[k, 3 + i] <= region[k, 3 + i] or region[k, 3 + i] == np.inf):
                return False
    return True
