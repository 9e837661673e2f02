"""Stiffness of an embedded lattice: the Hessian blocks of each octahedron, in single precision.

See kernels.elasticity for the energy and for how octahedra lie in lanes.
"""

import numpy as np
from numba import float32, njit, prange, uint64

from rubberquince.kernels.elasticity import (
    ALL,
    DENSE,
    FAST,
    FILLED,
    INV,
    LAM,
    LANES,
    MEAN,
    MU,
    ROW,
    STIFF,
    WEIGHT,
    deform,
    load_corners,
)
from rubberquince.kernels.octahedron import GRADIENT, TETS

PAIRS = np.array([[a, b] for a in range(6) for b in range(a, 6)])           # corners of an octahedron's blocks
TET_PAIRS = np.array([[p, q] for p in range(4) for q in range(p, 4)])


def _pair_tables(gradient: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    dots = np.zeros((3, 4, 10))
    crosses = np.zeros((3, 4, 10, 3))
    for k, (p, q) in enumerate(TET_PAIRS):
        dots[:, :, k] = np.einsum("xmi,xmi->xm", gradient[:, :, p], gradient[:, :, q])
        crosses[:, :, k] = np.cross(gradient[:, :, p], gradient[:, :, q])
    return dots, crosses


def _slot_table() -> np.ndarray:
    index = {tuple(pair): k for k, pair in enumerate(PAIRS.tolist())}
    return np.array([[index[(tet[p], tet[q])] for p, q in TET_PAIRS] for tet in TETS.tolist()])


DOTS, CROSSES = _pair_tables(GRADIENT)          # of the gradients of each corner pair
GRADIENT32, DOTS32, CROSSES32 = (t.astype(np.float32) for t in (GRADIENT, DOTS, CROSSES))
SLOT = _slot_table()                            # (tet, pair) -> which of the 21 blocks it adds to


@njit(cache=True, nogil=True, fastmath=FAST)
def _twist(state, value, out):
    """q φV F / a² of one tetrahedron into rows 0-8 of ``out``, q = μ(J-2) + λ(J̄-1) - δ max(J₀-J, 0) made harmless.

    The part q ∂²J of the Hessian has eigenvalues within ±|q|σ, σ the largest singular value of F; scaled
    so that |q|σ <= μ it is outweighed by the μ identity.  σ² is bounded by mean + √2 · deviation of the
    eigenvalues of FᵀF (Samuelson 1968), which is exact at rest.
    """
    one, third, two = float32(1.0), float32(1.0 / 3.0), float32(2.0)
    for l in range(ALL):
        f0, f1, f2, f3, f4 = state[l], state[l + ROW[1]], state[l + ROW[2]], state[l + ROW[3]], state[l + ROW[4]]
        f5, f6, f7, f8 = state[l + ROW[5]], state[l + ROW[6]], state[l + ROW[7]], state[l + ROW[8]]
        d0, d1, d2 = f0 * f0 + f3 * f3 + f6 * f6, f1 * f1 + f4 * f4 + f7 * f7, f2 * f2 + f5 * f5 + f8 * f8
        e0, e1, e2 = f0 * f1 + f3 * f4 + f6 * f7, f0 * f2 + f3 * f5 + f6 * f8, f1 * f2 + f4 * f5 + f7 * f8
        middle = (d0 + d1 + d2) * third
        d0, d1, d2 = d0 - middle, d1 - middle, d2 - middle
        spread = (d0 * d0 + d1 * d1 + d2 * d2 + two * (e0 * e0 + e1 * e1 + e2 * e2)) * third
        sigma = np.sqrt(middle + np.sqrt(two * spread))
        q = value[l + MU] * (state[l + ROW[18]] - two) + value[l + MEAN]
        q -= value[l + STIFF] * max(float32(DENSE) - state[l + ROW[18]], float32(0.0))
        q *= min(one, value[l + MU] / max(abs(q) * sigma, float32(1e-30)))
        q *= value[l + WEIGHT] * value[l + INV] * value[l + INV]
        out[l], out[l + ROW[1]], out[l + ROW[2]], out[l + ROW[3]] = q * f0, q * f1, q * f2, q * f3
        out[l + ROW[4]], out[l + ROW[5]], out[l + ROW[6]], out[l + ROW[7]] = q * f4, q * f5, q * f6, q * f7
        out[l + ROW[8]] = q * f8


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_slope(state, gradient, tet, value, fill, own, slope):
    """Gradient of J of one tetrahedron into rows of ``own`` (12), and weighted by φ onto ``slope`` (18)."""
    for c in range(4):
        g0, g1, g2 = gradient[c, 0], gradient[c, 1], gradient[c, 2]
        to, at = ROW[3] * uint64(c), ROW[3] * uint64(tet[c])
        for l in range(ALL):
            s = value[l + INV]
            x = s * (state[l + ROW[9]] * g0 + state[l + ROW[10]] * g1 + state[l + ROW[11]] * g2)
            y = s * (state[l + ROW[12]] * g0 + state[l + ROW[13]] * g1 + state[l + ROW[14]] * g2)
            z = s * (state[l + ROW[15]] * g0 + state[l + ROW[16]] * g1 + state[l + ROW[17]] * g2)
            own[l + to], own[l + to + ROW[1]], own[l + to + ROW[2]] = x, y, z
            slope[l + at] += fill[l] * x
            slope[l + at + ROW[1]] += fill[l] * y
            slope[l + at + ROW[2]] += fill[l] * z


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_pairs(state, value, dots, crosses, tet_pairs, slot, twist, own, block):
    """φV[μ B·B' I + (μ + δ) ∂J ∂J'ᵀ + q ∂²J] of a tetrahedron's ten corner pairs onto ``block`` (189·16,), with δ where
    it is crushed.
    """
    for e in range(10):
        u, v = ROW[3] * uint64(tet_pairs[e, 0]), ROW[3] * uint64(tet_pairs[e, 1])
        c0, c1, c2, near, h = crosses[e, 0], crosses[e, 1], crosses[e, 2], dots[e], ROW[9] * uint64(slot[e])
        for l in range(ALL):
            m = value[l + WEIGHT] * value[l + MU]
            d = m * value[l + INV] * value[l + INV] * near
            wx = twist[l] * c0 + twist[l + ROW[1]] * c1 + twist[l + ROW[2]] * c2
            wy = twist[l + ROW[3]] * c0 + twist[l + ROW[4]] * c1 + twist[l + ROW[5]] * c2
            wz = twist[l + ROW[6]] * c0 + twist[l + ROW[7]] * c1 + twist[l + ROW[8]] * c2
            along = m + value[l + WEIGHT] * (value[l + STIFF] if state[l + ROW[18]] < DENSE else float32(0.0))
            a0, a1, a2 = along * own[l + u], along * own[l + u + ROW[1]], along * own[l + u + ROW[2]]
            b0, b1, b2 = own[l + v], own[l + v + ROW[1]], own[l + v + ROW[2]]
            block[l + h] += a0 * b0 + d
            block[l + h + ROW[1]] += a0 * b1 + wz
            block[l + h + ROW[2]] += a0 * b2 - wy
            block[l + h + ROW[3]] += a1 * b0 - wz
            block[l + h + ROW[4]] += a1 * b1 + d
            block[l + h + ROW[5]] += a1 * b2 + wx
            block[l + h + ROW[6]] += a2 * b0 + wy
            block[l + h + ROW[7]] += a2 * b1 - wx
            block[l + h + ROW[8]] += a2 * b2 + d


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_volume(value, slope, pairs, block):
    """λV̄ ∂J̄ ∂J̄ᵀ of an octahedron onto all its blocks; the weight is λV / Σφ."""
    for e in range(21):
        u, v, h = ROW[3] * uint64(pairs[e, 0]), ROW[3] * uint64(pairs[e, 1]), ROW[9] * uint64(e)
        for l in range(ALL):
            m = value[l + WEIGHT]
            a0, a1, a2 = m * slope[l + u], m * slope[l + u + ROW[1]], m * slope[l + u + ROW[2]]
            b0, b1, b2 = slope[l + v], slope[l + v + ROW[1]], slope[l + v + ROW[2]]
            block[l + h] += a0 * b0
            block[l + h + ROW[1]] += a0 * b1
            block[l + h + ROW[2]] += a0 * b2
            block[l + h + ROW[3]] += a1 * b0
            block[l + h + ROW[4]] += a1 * b1
            block[l + h + ROW[5]] += a1 * b2
            block[l + h + ROW[6]] += a2 * b0
            block[l + h + ROW[7]] += a2 * b1
            block[l + h + ROW[8]] += a2 * b2


@njit(cache=True, nogil=True, fastmath=FAST)
def hessian_range(lo, hi, nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient,
                  dots, crosses, tet_pairs, slot, pairs, out):
    """Positive semi-definite Hessian blocks of batches lo .. hi into ``out`` (octahedra, 21, 9), N/m."""
    x, state = np.empty(18 * LANES, np.float32), np.empty((4, 19 * LANES), np.float32)
    block, value = np.empty(189 * LANES, np.float32), np.empty(7 * LANES, np.float32)
    slope, own = np.empty(18 * LANES, np.float32), np.empty(12 * LANES, np.float32)
    twist, flat = np.empty(9 * LANES, np.float32), out.reshape(-1)
    for b in range(lo, hi):
        a = axis[b]
        load_corners(nodes, corner, b, x)
        for l in range(ALL):
            value[l + MU], value[l + LAM], value[l + INV] = mu[b, l], lam[b, l], inv[b, l]
            value[l + MEAN], value[l + FILLED], value[l + STIFF] = 0.0, 1e-30, dense[b, l]
        for t in range(4):
            deform(x, gradient[a, t], tets[t], value, state[t])
            for l in range(ALL):
                value[l + FILLED] += fill[b, t, l]
                value[l + MEAN] += fill[b, t, l] * (state[t, l + ROW[18]] - float32(1.0))
        for l in range(ALL):
            value[l + MEAN] *= value[l + LAM] / value[l + FILLED]
        block[:] = 0.0
        slope[:] = 0.0
        for t in range(4):
            for l in range(ALL):
                value[l + WEIGHT] = fill[b, t, l] * volume[b, l]
            _twist(state[t], value, twist)
            _add_slope(state[t], gradient[a, t], tets[t], value, fill[b, t], own, slope)
            _add_pairs(state[t], value, dots[a, t], crosses[a, t], tet_pairs, slot[t], twist, own, block)
        for l in range(ALL):
            value[l + WEIGHT] = value[l + LAM] * volume[b, l] / value[l + FILLED]
        _add_volume(value, slope, pairs, block)
        for l in range(LANES):
            for r in range(189):
                flat[uint64(189 * (LANES * b + l) + r)] = block[uint64(LANES * r + l)]


@njit(cache=True, nogil=True, parallel=True)
def hessian_all(chunks, nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient,
                dots, crosses, tet_pairs, slot, pairs, out):
    n = len(corner)
    for c in prange(chunks):
        hessian_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam, dense, inv, volume,
                      tets, gradient, dots, crosses, tet_pairs, slot, pairs, out)
