"""Inertia."""

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
