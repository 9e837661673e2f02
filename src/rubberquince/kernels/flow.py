"""Cells that keep a dent: how their rest shape flows, and what that changes in their energy.

An octahedron that has flowed is at rest where its deformation gradient F is a plastic one, Fp, of determinant 1
(multiplicative split, Lee 1969).  Of the energy in kernels.elasticity only |F|² changes, into tr(F A Fᵀ) with
A = (FpᵀFp)⁻¹, so the difference is a quadratic form of its corners: ½ Σ w x·x'.

Its elastic strain is the deviator of ln(F A Fᵀ)/2.  What of its norm γ = √(2/3)|dev| is beyond the strain at which
it yields fades in the ``time`` it flows in, and goes over into A (Perzyna 1966).  Of what is beyond, a part ``stays``
in the end, as it hardens: it yields later by (1 - stays) / stays of what has flowed.

Memory is (octahedra, 7): A less 1 as xx, yy, zz, yz, xz, xy, in the axes of the lattice, and how much has flowed.
"""

import numpy as np
from numba import njit

from rubberquince.kernels import LEAN
from rubberquince.kernels.matrices import congruent, find_axes, inverse_transpose, on_axes
from rubberquince.kernels.octahedron import GRADIENT, TETS
from rubberquince.kernels.stiffness import PAIRS, SLOT, TET_PAIRS

MOST = 6.0                  # stretches of the rest shape, squared: farther than √6 a cell does not flow
FLATTEST = 0.05             # of its volume: a cell that has less does not flow


@njit(cache=True, nogil=True)
def pair_weights(axis, fill, mu, inv, volume, memory, out):
    """The weights w (octahedra, 21), N/m, of what memory changes in the energy; pairs as in kernels.stiffness."""
    for o in range(len(out)):
        out[o] = 0.0
        a0, a1, a2, s0, s1, s2 = memory[o, 0], memory[o, 1], memory[o, 2], memory[o, 3], memory[o, 4], memory[o, 5]
        for t in range(4):
            firm = fill[o, t] * volume[o] * mu[o] * inv[o] * inv[o]
            for e in range(10):
                g, h = GRADIENT[axis[o], t, TET_PAIRS[e, 0]], GRADIENT[axis[o], t, TET_PAIRS[e, 1]]
                out[o, SLOT[t, e]] += firm * (
                    g[0] * (a0 * h[0] + s2 * h[1] + s1 * h[2]) + g[1] * (s2 * h[0] + a1 * h[1] + s0 * h[2])
                    + g[2] * (s1 * h[0] + s0 * h[1] + a2 * h[2]))


@njit(cache=True, nogil=True)
def flow_energy(x, corner, weight):
    """J, at nodes ``x`` (n, 3) with ``weight`` (octahedra, 21)."""
    total, at = 0.0, np.empty((6, 3))
    for o in range(len(corner)):
        for c in range(6):
            for i in range(3):
                at[c, i] = x[corner[o, c], i] - x[corner[o, 0], i]
        for e in range(21):
            p, q = PAIRS[e]
            twice = 0.5 if p == q else 1.0
            total += twice * weight[o, e] * (at[p, 0] * at[q, 0] + at[p, 1] * at[q, 1] + at[p, 2] * at[q, 2])
    return total


@njit(cache=True, nogil=True)
def add_flow_gradient(x, corner, weight, out):
    """Its gradient, N, added to ``out`` (n, 3)."""
    at = np.empty((6, 3))
    for o in range(len(corner)):
        for c in range(6):
            for i in range(3):
                at[c, i] = x[corner[o, c], i] - x[corner[o, 0], i]
        for e in range(21):
            p, q = PAIRS[e]
            for i in range(3):
                out[corner[o, p], i] += weight[o, e] * at[q, i]
                if p != q:
                    out[corner[o, q], i] += weight[o, e] * at[p, i]


@njit(**LEAN)
def most_strain(b):
    """No less than γ of ``b`` (3, 3): no logarithm is past e / (1 - e), with e how far b over its mean is from 1."""
    mean = (b[0, 0] + b[1, 1] + b[2, 2]) / 3.0
    square = 0.0
    for i in range(3):
        for j in range(3):
            square += (b[i, j] / mean - (1.0 if i == j else 0.0)) ** 2
    far = np.sqrt(square)
    return np.sqrt(2.0 / 3.0) * 0.5 * far / (1.0 - far) if far < 1.0 else np.inf


@njit(cache=True, nogil=True)
def flow(x, corner, axis, fill, inv, yields, stays, time, h, memory):
    """Let cells flow for ``h``, s, with nodes held at ``x`` (n, 3), m: ``memory`` (octahedra, 7) is changed.

    yields, stays, time : (octahedra,), a strain, 0 .. 1, and s.  Returns whether any flowed.
    """
    f, back, a, b, axes = np.empty((5, 3, 3))
    square, kept, any_flowed = np.empty(3), np.empty(3), False
    for o in range(len(corner)):
        size = _gradient(x, corner[o], axis[o], fill[o], inv[o], f, back)
        if not size > FLATTEST:
            continue
        m, part = memory[o], max(stays[o], 1e-3)
        holds = yields[o] + (1.0 - part) / part * m[6]
        a[0, 0], a[1, 1], a[2, 2] = 1.0 + m[0], 1.0 + m[1], 1.0 + m[2]
        a[1, 2], a[0, 2], a[0, 1] = m[3], m[4], m[5]
        a[2, 1], a[2, 0], a[1, 0] = m[3], m[4], m[5]
        congruent(f, a, b)
        if most_strain(b) < holds:         # as most do: the strain itself is dear to find
            continue
        find_axes(b, square, axes)
        mean = 0.0
        for i in range(3):
            square[i] = 0.5 * np.log(max(square[i], 1e-12))
            mean += square[i] / 3.0
        gamma = np.sqrt(2.0 / 3.0 * ((square[0] - mean) ** 2 + (square[1] - mean) ** 2 + (square[2] - mean) ** 2))
        beyond = gamma - holds
        if beyond <= 0.0 or gamma <= 1e-12:
            continue
        flowed = part * beyond * (1.0 - np.exp(-h / (part * max(time[o], 1e-6))))
        for i in range(3):
            kept[i] = size ** (2.0 / 3.0) * np.exp(2.0 * (square[i] - mean) * (1.0 - flowed / gamma))
        on_axes(kept, axes, b)
        congruent(back.T, b, a)
        _bound(a, square, axes)
        m[0], m[1], m[2] = a[0, 0] - 1.0, a[1, 1] - 1.0, a[2, 2] - 1.0
        m[3], m[4], m[5] = a[1, 2], a[0, 2], a[0, 1]
        m[6] += flowed
        any_flowed = True
    return any_flowed


@njit(**LEAN)
def _gradient(x, corner, axis, fill, inv, f, back):
    """The mean deformation gradient of an octahedron into ``f`` (3, 3), and the transpose of its
    inverse into ``back`` (3, 3).

    Returns how large it is, of its volume at rest; 0 where nothing fills it.
    """
    f[:], filled = 0.0, 0.0
    for t in range(4):
        filled += fill[t]
        for c in range(1, 4):
            g = GRADIENT[axis, t, c]
            p, q = corner[TETS[t, c]], corner[TETS[t, 0]]
            for i in range(3):
                way = fill[t] * inv * (x[p, i] - x[q, i])
                for j in range(3):
                    f[i, j] += way * g[j]
    if filled <= 0.0:
        return 0.0
    f /= filled
    return inverse_transpose(f, back)


@njit(**LEAN)
def _bound(a, value, axes):
    """Keep the eigenvalues of ``a`` (3, 3) within 1 / MOST and MOST, and their product 1."""
    find_axes(a, value, axes)
    mean, most = 0.0, 0.0
    for i in range(3):
        value[i] = np.log(max(value[i], 1e-12))
        mean += value[i] / 3.0
    for i in range(3):
        value[i] -= mean
        most = max(most, abs(value[i]))
    for i in range(3):
        value[i] = np.exp(value[i] * min(1.0, np.log(MOST) / max(most, 1e-12)))
    on_axes(value, axes, a)
