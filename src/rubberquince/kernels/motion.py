"""Inertia, and the motion that damping resists."""

import numpy as np
from numba import njit, uint64


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def inertia_energy(inertia, x, target):
    """Σ inertia |x - target|² / 2, J: inertia (n,) N/m; x, target (n, 3) m."""
    total, flat, wanted = 0.0, x.reshape(-1), target.reshape(-1)
    for i in range(uint64(len(inertia))):
        r = uint64(3) * i
        a, b = flat[r] - wanted[r], flat[r + uint64(1)] - wanted[r + uint64(1)]
        c = flat[r + uint64(2)] - wanted[r + uint64(2)]
        total += inertia[i] * (a * a + b * b + c * c)
    return 0.5 * total


@njit(cache=True, nogil=True)
def add_inertia_force(inertia, x, target, out):
    """Gradient of that energy, N, added to ``out`` (n, 3)."""
    for i in range(len(inertia)):
        for a in range(3):
            out[i, a] += inertia[i] * (x[i, a] - target[i, a])


@njit(cache=True, nogil=True)
def without_mean(x, origin, first, out):
    """x - origin less each body's mean of it, into ``out`` (n, 3) float32; body k owns first[k] .. first[k+1].

    The mean is taken out first because single precision would blur what damping sees under a long fall.
    """
    mean = np.empty(3)
    for body in range(len(first) - 1):
        lo, hi = first[body], first[body + 1]
        mean[:] = 0.0
        for i in range(lo, hi):
            for a in range(3):
                mean[a] += x[i, a] - origin[i, a]
        mean /= max(hi - lo, 1)
        for i in range(lo, hi):
            for a in range(3):
                out[i, a] = x[i, a] - origin[i, a] - mean[a]
