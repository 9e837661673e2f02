"""How a body lies as a whole: the isometry that fits its points."""

import numpy as np
from numba import njit, uint64

from rubberquince.kernels.matrices import inverse_transpose

POLAR_STEPS = 20


@njit(cache=True, nogil=True)
def _orthogonal(a):
    """Make ``a`` (3, 3) the orthogonal matrix nearest to it (Higham 1986, Newton's iteration); False if too flat."""
    size = np.sqrt((a * a).sum())
    if not 1e-300 < size < 1e300:
        return False
    a *= np.sqrt(3.0) / size
    b = np.empty((3, 3))
    for _ in range(POLAR_STEPS):
        det = inverse_transpose(a, b)
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


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def fit_isometry(x, lo, hi, onto, turn, shift):
    """The isometry y = turn x + shift that takes points lo .. hi of ``x`` (n, 3) about onto ``onto`` (n, 3).

    The turn is the orthogonal part of their covariance (Schönemann 1966), none where that is flat.
    """
    share = 1.0 / max(hi - lo, 1)
    o0, o1, o2, m0, m1, m2, g0, g1, g2 = x[lo, 0], x[lo, 1], x[lo, 2], 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    t00, t01, t02, t10, t11, t12, t20, t21, t22 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    q0, q1, q2 = onto[lo, 0], onto[lo, 1], onto[lo, 2]
    flat, goal, one, two = x.reshape(-1), onto.reshape(-1), uint64(1), uint64(2)
    for p in range(uint64(lo), uint64(hi)):
        r = uint64(3) * p
        a0, a1, a2 = flat[r] - o0, flat[r + one] - o1, flat[r + two] - o2
        b0, b1, b2 = goal[r] - q0, goal[r + one] - q1, goal[r + two] - q2
        m0, m1, m2, g0, g1, g2 = m0 + a0, m1 + a1, m2 + a2, g0 + b0, g1 + b1, g2 + b2
        t00, t01, t02 = t00 + b0 * a0, t01 + b0 * a1, t02 + b0 * a2
        t10, t11, t12 = t10 + b1 * a0, t11 + b1 * a1, t12 + b1 * a2
        t20, t21, t22 = t20 + b2 * a0, t21 + b2 * a1, t22 + b2 * a2
    m0, m1, m2 = share * m0, share * m1, share * m2
    turn[0, 0], turn[0, 1], turn[0, 2] = t00 - g0 * m0, t01 - g0 * m1, t02 - g0 * m2
    turn[1, 0], turn[1, 1], turn[1, 2] = t10 - g1 * m0, t11 - g1 * m1, t12 - g1 * m2
    turn[2, 0], turn[2, 1], turn[2, 2] = t20 - g2 * m0, t21 - g2 * m1, t22 - g2 * m2
    if not _orthogonal(turn):
        turn[:] = 0.0
        turn[0, 0], turn[1, 1], turn[2, 2] = 1.0, 1.0, 1.0
    m0, m1, m2 = m0 + o0, m1 + o1, m2 + o2
    shift[0] = q0 + share * g0 - turn[0, 0] * m0 - turn[0, 1] * m1 - turn[0, 2] * m2
    shift[1] = q1 + share * g1 - turn[1, 0] * m0 - turn[1, 1] * m1 - turn[1, 2] * m2
    shift[2] = q2 + share * g2 - turn[2, 0] * m0 - turn[2, 1] * m1 - turn[2, 2] * m2

