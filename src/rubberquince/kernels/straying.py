"""How far skin points may stray while a list of close parts holds: in space, and within their own body."""

import numpy as np
from numba import njit

POLAR_STEPS = 20


@njit(cache=True, nogil=True)
def _inverse_transpose(a, out):
    """(A⁻¹)ᵀ of (3, 3) into ``out``; returns the determinant, of which a tiny one leaves ``out`` as it was."""
    c0, c1, c2 = a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1], a[1, 2] * a[2, 0] - a[1, 0] * a[2, 2], \
        a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0]
    det = a[0, 0] * c0 + a[0, 1] * c1 + a[0, 2] * c2
    if abs(det) < 1e-12:
        return det
    out[0, 0], out[0, 1], out[0, 2] = c0 / det, c1 / det, c2 / det
    out[1, 0], out[1, 1] = (a[0, 2] * a[2, 1] - a[0, 1] * a[2, 2]) / det, (a[0, 0] * a[2, 2] - a[0, 2] * a[2, 0]) / det
    out[1, 2], out[2, 0] = (a[0, 1] * a[2, 0] - a[0, 0] * a[2, 1]) / det, (a[0, 1] * a[1, 2] - a[0, 2] * a[1, 1]) / det
    out[2, 1], out[2, 2] = (a[0, 2] * a[1, 0] - a[0, 0] * a[1, 2]) / det, (a[0, 0] * a[1, 1] - a[0, 1] * a[1, 0]) / det
    return det


@njit(cache=True, nogil=True)
def _orthogonal(a):
    """Make ``a`` (3, 3) the orthogonal matrix nearest to it (Higham 1986, Newton's iteration); False if too flat."""
    size = np.sqrt((a * a).sum())
    if not 1e-300 < size < 1e300:
        return False
    a *= np.sqrt(3.0) / size
    b = np.empty((3, 3))
    for _ in range(POLAR_STEPS):
        det = _inverse_transpose(a, b)
        if abs(det) < 1e-12:
            return False
        change = 0.0
        for i in range(3):
            for j in range(3):
                fresh = 0.5 * (a[i, j] + b[i, j])
                change = max(change, abs(fresh - a[i, j]))
                a[i, j] = fresh
        if change < 1e-9:
            return True
    return False


@njit(cache=True, nogil=True)
def _fit(x, move, time, lo, hi, onto, turn, shift):
    """The isometry y = turn x + shift that takes points lo .. hi at ``x + time · move`` about onto ``onto``."""
    count = max(hi - lo, 1)
    mean, goal = np.zeros(3), np.zeros(3)
    for p in range(lo, hi):
        for i in range(3):
            mean[i] += (x[p, i] + time * move[p, i]) / count
            goal[i] += onto[p, i] / count
    turn[:] = 0.0
    for p in range(lo, hi):
        a0, a1, a2 = (x[p, 0] + time * move[p, 0] - mean[0], x[p, 1] + time * move[p, 1] - mean[1],
                      x[p, 2] + time * move[p, 2] - mean[2])
        for i in range(3):
            b = onto[p, i] - goal[i]
            turn[i, 0] += b * a0
            turn[i, 1] += b * a1
            turn[i, 2] += b * a2
    if not _orthogonal(turn):
        turn[:] = 0.0
        turn[0, 0], turn[1, 1], turn[2, 2] = 1.0, 1.0, 1.0
    for i in range(3):
        shift[i] = goal[i] - turn[i, 0] * mean[0] - turn[i, 1] * mean[1] - turn[i, 2] * mean[2]


@njit(cache=True, nogil=True)
def laid_back(x, move, start, onto, out):
    """Points ``x + move`` (n, 3) of each body, as a whole turned and shifted about onto ``onto``, into ``out``.

    Body b owns points ``start[b]`` .. ``start[b + 1]``.
    """
    turn, shift = np.empty((3, 3)), np.empty(3)
    for b in range(len(start) - 1):
        _fit(x, move, 1.0, start[b], start[b + 1], onto, turn, shift)
        for p in range(start[b], start[b + 1]):
            for i in range(3):
                s = shift[i]
                for j in range(3):
                    s += turn[i, j] * (x[p, j] + move[p, j])
                out[p, i] = s


@njit(cache=True, nogil=True)
def stay_near(x, move, centre, radius):
    """True when neither ``x`` nor ``x + move`` (n, 3) leaves the balls around ``centre`` (n, 3) of ``radius`` (n,)."""
    for time in range(2):
        for p in range(len(radius)):
            d0, d1, d2 = (x[p, 0] + time * move[p, 0] - centre[p, 0], x[p, 1] + time * move[p, 1] - centre[p, 1],
                          x[p, 2] + time * move[p, 2] - centre[p, 2])
            if not d0 * d0 + d1 * d1 + d2 * d2 <= radius[p] * radius[p]:       # nor when there is no number
                return False
    return True


@njit(cache=True, nogil=True)
def keep_shape(x, move, start, centre, radius):
    """The same once each body is laid back: what a body does as a whole changes nothing between its own parts."""
    turn, shift = np.empty((3, 3)), np.empty(3)
    for time in range(2):
        for b in range(len(start) - 1):
            _fit(x, move, float(time), start[b], start[b + 1], centre, turn, shift)
            for p in range(start[b], start[b + 1]):
                square = 0.0
                for i in range(3):
                    d = shift[i] - centre[p, i]
                    for j in range(3):
                        d += turn[i, j] * (x[p, j] + time * move[p, j])
                    square += d * d
                if not square <= radius[p] * radius[p]:
                    return False
    return True
