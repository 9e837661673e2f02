"""Matrices (3, 3), one for each of many cells: without calls that cost more than what they compute."""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN

MOST_SWEEPS = 12
LEAST = 1e-32           # of the square of the whole matrix, beside its diagonal: less is none


@njit(**LEAN)
def inverse_transpose(a, out):
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


@njit(**LEAN)
def congruent(f, a, out):
    """F A Fᵀ of ``f`` and ``a`` (3, 3) into ``out`` (3, 3), which is another one."""
    for i in range(3):
        r0 = f[i, 0] * a[0, 0] + f[i, 1] * a[1, 0] + f[i, 2] * a[2, 0]
        r1 = f[i, 0] * a[0, 1] + f[i, 1] * a[1, 1] + f[i, 2] * a[2, 1]
        r2 = f[i, 0] * a[0, 2] + f[i, 1] * a[1, 2] + f[i, 2] * a[2, 2]
        for j in range(3):
            out[i, j] = r0 * f[j, 0] + r1 * f[j, 1] + r2 * f[j, 2]


@njit(**LEAN)
def on_axes(value, axes, out):
    """The matrix with eigenvalues ``value`` (3,) along the columns of ``axes`` (3, 3) into ``out`` (3, 3)."""
    for i in range(3):
        for j in range(3):
            out[i, j] = (value[0] * axes[i, 0] * axes[j, 0] + value[1] * axes[i, 1] * axes[j, 1]
                         + value[2] * axes[i, 2] * axes[j, 2])


@njit(**LEAN)
def find_axes(a, value, axes):
    """The eigenvalues of ``a`` (3, 3), which becomes diagonal, into ``value`` (3,), in no order, and its eigenvectors
    into the columns of ``axes`` (3, 3), by Jacobi's rotations (1846).
    """
    axes[:] = 0.0
    axes[0, 0] = axes[1, 1] = axes[2, 2] = 1.0
    for _ in range(MOST_SWEEPS):
        beside = a[0, 1] ** 2 + a[0, 2] ** 2 + a[1, 2] ** 2
        if not beside > LEAST * (a[0, 0] ** 2 + a[1, 1] ** 2 + a[2, 2] ** 2 + beside):
            break
        for p, q in ((0, 1), (0, 2), (1, 2)):
            if a[p, q] == 0.0:
                continue
            half = 0.5 * (a[q, q] - a[p, p]) / a[p, q]
            t = (1.0 if half >= 0.0 else -1.0) / (abs(half) + np.sqrt(half * half + 1.0))
            c = 1.0 / np.sqrt(t * t + 1.0)
            s, r, shift = t * c, 3 - p - q, t * a[p, q]
            a[p, p], a[q, q] = a[p, p] - shift, a[q, q] + shift
            a[p, q] = a[q, p] = 0.0
            one, two = a[p, r], a[q, r]
            a[p, r] = a[r, p] = c * one - s * two
            a[q, r] = a[r, q] = s * one + c * two
            for i in range(3):
                one, two = axes[i, p], axes[i, q]
                axes[i, p], axes[i, q] = c * one - s * two, s * one + c * two
    value[0], value[1], value[2] = a[0, 0], a[1, 1], a[2, 2]
