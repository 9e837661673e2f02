"""Elastic energy of an embedded lattice, its gradient and its Hessian blocks.

The lattice is body-centred cubic: every pair of neighbouring cube centres spans, with the square face
between them, an octahedron of four tetrahedra.  An octahedron is the unit of work here, because the
volume term is averaged over it (a tetrahedron alone locks when the material hardly compresses).

Energy of one octahedron, with V = a³/12 the rest volume of a tetrahedron and φ its filled fraction::

    Σ φV [ μ/2 (|F|² - 3) + μ/2 ((J - 2)² - 1) ]  +  λ/2 V̄ (J̄ - 1)²
    V̄ = Σ φV,   J̄ = Σ φV J / V̄

The first part is the stable neo-Hookean energy with a vanishing first Lamé parameter (Smith, de Goes,
Kim 2018, eq. 14 with λ = μ, α = 2); the second is the volume energy on the mean dilatation (Nagtegaal,
Parks, Rice 1974).  Near rest both linearise to Hooke's law with Lamé parameters λ, μ.

Octahedra come in batches of sixteen lanes that lie along the same axis, so that the inner loops run over
lanes and become vector code.  ``corner`` (batches, 6, 16) holds node numbers: two centres, then the four
corners of the face in cyclic order.  A tetrahedron that does not exist has φ = 0 and contributes nothing,
wherever its corners point.  The other lane arrays are (batches, 16): ``mu``, ``lam`` Pa, ``inv`` = 1/a,
``volume`` = V.
"""

import numpy as np
from numba import float32, njit, prange

LANES = 16

# Tetrahedron m joins both centres with face corners m and m+1; local numbers ascend.
TETS = np.array([[0, 1, 2, 3], [0, 1, 3, 4], [0, 1, 4, 5], [0, 1, 2, 5]])
PAIRS = np.array([[a, b] for a in range(6) for b in range(a, 6)])
TET_PAIRS = np.array([[p, q] for p in range(4) for q in range(p, 4)])


def octahedron_corners(axis: int) -> np.ndarray:
    """Rest positions (6, 3) of an octahedron along ``axis`` with cube edge 1, first centre at 0."""
    along = np.eye(3)[axis]
    side, up = np.eye(3)[(axis + 1) % 3] / 2, np.eye(3)[(axis + 2) % 3] / 2
    face = [-side - up, side - up, side + up, -side + up]
    return np.array([0 * along, along, *(along / 2 + f for f in face)])


def _gradient_table() -> np.ndarray:
    table = np.zeros((3, 4, 4, 3))
    for axis in range(3):
        x = octahedron_corners(axis)
        for m, tet in enumerate(TETS):
            edges = (x[tet[1:]] - x[tet[0]]).T
            inverse = np.linalg.inv(edges)
            table[axis, m, 1:] = inverse
            table[axis, m, 0] = -inverse.sum(axis=0)
    return table


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


GRADIENT = _gradient_table()                    # (axis, tet, corner, 3): shape gradients, 1/cube edge
DOTS, CROSSES = _pair_tables(GRADIENT)          # of the gradients of each corner pair
GRADIENT32, DOTS32, CROSSES32 = (t.astype(np.float32) for t in (GRADIENT, DOTS, CROSSES))
SLOT = _slot_table()                            # (tet, pair) -> which of the 21 blocks it adds to
FAST = {"contract", "arcp", "nsz"}


@njit(cache=True, nogil=True)
def _load(nodes, corner, b, x):
    """Corner positions of batch ``b`` into lanes ``x`` (18, 16), relative to each first centre."""
    for l in range(LANES):
        o = corner[b, 0, l]
        for c in range(6):
            n = corner[b, c, l]
            for i in range(3):
                x[3 * c + i, l] = nodes[n, i] - nodes[o, i]


@njit(cache=True, nogil=True, fastmath=FAST)
def _deform(x, gradient, tet, inv, state):
    """Deformation gradient F (rows 0-8 of ``state``), its cofactor (9-17) and J (18) of one tetrahedron."""
    p, q = 3 * tet[2], 3 * tet[3]
    for i in range(3):
        for k in range(3):
            g0, g1, g2, g3 = gradient[0, k], gradient[1, k], gradient[2, k], gradient[3, k]
            for l in range(LANES):
                state[3 * i + k, l] = inv[l] * (x[i, l] * g0 + x[3 + i, l] * g1
                                                + x[p + i, l] * g2 + x[q + i, l] * g3)
    for l in range(LANES):
        f0, f1, f2, f3, f4 = state[0, l], state[1, l], state[2, l], state[3, l], state[4, l]
        f5, f6, f7, f8 = state[5, l], state[6, l], state[7, l], state[8, l]
        c0, c1, c2 = f4 * f8 - f5 * f7, f5 * f6 - f3 * f8, f3 * f7 - f4 * f6
        state[9, l], state[10, l], state[11, l] = c0, c1, c2
        state[12, l], state[13, l], state[14, l] = f2 * f7 - f1 * f8, f0 * f8 - f2 * f6, f1 * f6 - f0 * f7
        state[15, l], state[16, l], state[17, l] = f1 * f5 - f2 * f4, f2 * f3 - f0 * f5, f0 * f4 - f1 * f3
        state[18, l] = f0 * c0 + f1 * c1 + f2 * c2


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_energy(x, gradient, tet, inv, fill, sums):
    """Sums over tetrahedra, (3, 16): φ(|F|² + (J-2)² - 4), φ and φ(J-1).

    All in one loop and in registers: storing F and its cofactor on the way costs more than the arithmetic.
    """
    p, q = 3 * tet[2], 3 * tet[3]
    a0, a1, a2 = gradient[0, 0], gradient[0, 1], gradient[0, 2]
    b0, b1, b2 = gradient[1, 0], gradient[1, 1], gradient[1, 2]
    c0, c1, c2 = gradient[2, 0], gradient[2, 1], gradient[2, 2]
    d0, d1, d2 = gradient[3, 0], gradient[3, 1], gradient[3, 2]
    for l in range(LANES):
        s = inv[l]
        u0, u1, u2 = s * x[0, l], s * x[1, l], s * x[2, l]
        v0, v1, v2 = s * x[3, l], s * x[4, l], s * x[5, l]
        w0, w1, w2 = s * x[p, l], s * x[p + 1, l], s * x[p + 2, l]
        z0, z1, z2 = s * x[q, l], s * x[q + 1, l], s * x[q + 2, l]
        f0, f1 = u0 * a0 + v0 * b0 + w0 * c0 + z0 * d0, u0 * a1 + v0 * b1 + w0 * c1 + z0 * d1
        f2, f3 = u0 * a2 + v0 * b2 + w0 * c2 + z0 * d2, u1 * a0 + v1 * b0 + w1 * c0 + z1 * d0
        f4, f5 = u1 * a1 + v1 * b1 + w1 * c1 + z1 * d1, u1 * a2 + v1 * b2 + w1 * c2 + z1 * d2
        f6, f7 = u2 * a0 + v2 * b0 + w2 * c0 + z2 * d0, u2 * a1 + v2 * b1 + w2 * c1 + z2 * d1
        f8 = u2 * a2 + v2 * b2 + w2 * c2 + z2 * d2
        away = f0 * (f4 * f8 - f5 * f7) + f1 * (f5 * f6 - f3 * f8) + f2 * (f3 * f7 - f4 * f6) - 2.0
        norm = f0 * f0 + f1 * f1 + f2 * f2 + f3 * f3 + f4 * f4 + f5 * f5 + f6 * f6 + f7 * f7 + f8 * f8
        sums[0, l] += fill[l] * (norm + away * away - 4.0)
        sums[1, l] += fill[l]
        sums[2, l] += fill[l] * (away + 1.0)


@njit(cache=True, nogil=True, fastmath=FAST)
def energy_range(lo, hi, nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient):
    """Elastic energy, J, of batches lo .. hi."""
    x, sums = np.empty((18, LANES)), np.empty((3, LANES))
    total = 0.0
    for b in range(lo, hi):
        _load(nodes, corner, b, x)
        for l in range(LANES):
            sums[0, l], sums[1, l], sums[2, l] = 0.0, 1e-300, 0.0
        for t in range(4):
            _add_energy(x, gradient[axis[b], t], tets[t], inv[b], fill[b, t], sums)
        for l in range(LANES):
            total += 0.5 * volume[b, l] * (mu[b, l] * sums[0, l] + lam[b, l] * sums[2, l] * sums[2, l] / sums[1, l])
    return total


@njit(cache=True, nogil=True, fastmath=FAST)
def _mean_pressure(x, gradient, tets, fill, lam, inv, state, filled, mean):
    """λ(J̄ - 1), Pa, of one batch into ``mean``; the filled sum Σφ into ``filled``."""
    for l in range(LANES):
        filled[l], mean[l] = 1e-30, 0.0
    for t in range(4):
        _deform(x, gradient[t], tets[t], inv, state)
        for l in range(LANES):
            filled[l] += fill[t, l]
            mean[l] += fill[t, l] * (state[18, l] - float32(1.0))
    for l in range(LANES):
        mean[l] *= lam[l] / filled[l]


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_force(x, gradient, tet, inv, weight, mu, mean, force):
    """Force of one tetrahedron's stress onto ``force`` (18, 16): φV/a times μF + (μ(J-2) + λ(J̄-1)) ∂J."""
    p, q = 3 * tet[2], 3 * tet[3]
    a0, a1, a2 = gradient[0, 0], gradient[0, 1], gradient[0, 2]
    b0, b1, b2 = gradient[1, 0], gradient[1, 1], gradient[1, 2]
    c0, c1, c2 = gradient[2, 0], gradient[2, 1], gradient[2, 2]
    d0, d1, d2 = gradient[3, 0], gradient[3, 1], gradient[3, 2]
    for l in range(LANES):
        s = inv[l]
        u0, u1, u2 = s * x[0, l], s * x[1, l], s * x[2, l]
        v0, v1, v2 = s * x[3, l], s * x[4, l], s * x[5, l]
        w0, w1, w2 = s * x[p, l], s * x[p + 1, l], s * x[p + 2, l]
        z0, z1, z2 = s * x[q, l], s * x[q + 1, l], s * x[q + 2, l]
        f0, f1 = u0 * a0 + v0 * b0 + w0 * c0 + z0 * d0, u0 * a1 + v0 * b1 + w0 * c1 + z0 * d1
        f2, f3 = u0 * a2 + v0 * b2 + w0 * c2 + z0 * d2, u1 * a0 + v1 * b0 + w1 * c0 + z1 * d0
        f4, f5 = u1 * a1 + v1 * b1 + w1 * c1 + z1 * d1, u1 * a2 + v1 * b2 + w1 * c2 + z1 * d2
        f6, f7 = u2 * a0 + v2 * b0 + w2 * c0 + z2 * d0, u2 * a1 + v2 * b1 + w2 * c1 + z2 * d1
        f8 = u2 * a2 + v2 * b2 + w2 * c2 + z2 * d2
        h0, h1, h2 = f4 * f8 - f5 * f7, f5 * f6 - f3 * f8, f3 * f7 - f4 * f6
        m, t = weight[l] * mu[l], weight[l] * (mu[l] * (f0 * h0 + f1 * h1 + f2 * h2 - 2.0) + mean[l])
        p0, p1, p2 = m * f0 + t * h0, m * f1 + t * h1, m * f2 + t * h2
        p3, p4 = m * f3 + t * (f2 * f7 - f1 * f8), m * f4 + t * (f0 * f8 - f2 * f6)
        p5, p6 = m * f5 + t * (f1 * f6 - f0 * f7), m * f6 + t * (f1 * f5 - f2 * f4)
        p7, p8 = m * f7 + t * (f2 * f3 - f0 * f5), m * f8 + t * (f0 * f4 - f1 * f3)
        e0, e1, e2 = p0 * b0 + p1 * b1 + p2 * b2, p3 * b0 + p4 * b1 + p5 * b2, p6 * b0 + p7 * b1 + p8 * b2
        g0, g1, g2 = p0 * c0 + p1 * c1 + p2 * c2, p3 * c0 + p4 * c1 + p5 * c2, p6 * c0 + p7 * c1 + p8 * c2
        k0, k1, k2 = p0 * d0 + p1 * d1 + p2 * d2, p3 * d0 + p4 * d1 + p5 * d2, p6 * d0 + p7 * d1 + p8 * d2
        force[0, l] -= e0 + g0 + k0
        force[1, l] -= e1 + g1 + k1
        force[2, l] -= e2 + g2 + k2
        force[3, l] += e0
        force[4, l] += e1
        force[5, l] += e2
        force[p, l] += g0
        force[p + 1, l] += g1
        force[p + 2, l] += g2
        force[q, l] += k0
        force[q + 1, l] += k1
        force[q + 2, l] += k2


@njit(cache=True, nogil=True, fastmath=FAST)
def gradient_range(lo, hi, nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient, out):
    """Energy gradient of batches lo .. hi into ``out`` (octahedra, 6, 3), N."""
    x, sums = np.empty((18, LANES)), np.empty((3, LANES))
    force, mean, weight = np.empty((18, LANES)), np.empty(LANES), np.empty(LANES)
    for b in range(lo, hi):
        _load(nodes, corner, b, x)
        for l in range(LANES):
            sums[1, l], sums[2, l] = 1e-30, 0.0
        for t in range(4):
            _add_energy(x, gradient[axis[b], t], tets[t], inv[b], fill[b, t], sums)
        for l in range(LANES):
            mean[l] = lam[b, l] * sums[2, l] / sums[1, l]
        force[:] = 0.0
        for t in range(4):
            for l in range(LANES):
                weight[l] = fill[b, t, l] * volume[b, l] * inv[b, l]
            _add_force(x, gradient[axis[b], t], tets[t], inv[b], weight, mu[b], mean, force)
        for l in range(LANES):
            for c in range(6):
                for i in range(3):
                    out[b * LANES + l, c, i] = force[3 * c + i, l]


@njit(cache=True, nogil=True, fastmath=FAST)
def _twist(state, mu, mean, weight, inv, out):
    """q φV F / a² of one tetrahedron into ``out`` (9, 16), q = μ(J-2) + λ(J̄-1) made harmless.

    The part q ∂²J of the Hessian has eigenvalues within ±|q|σ, σ the largest singular value of F; scaled
    so that |q|σ <= μ it is outweighed by the μ identity.  σ² is bounded by mean + √2 · deviation of the
    eigenvalues of FᵀF (Samuelson 1968), which is exact at rest.
    """
    one, third, two = float32(1.0), float32(1.0 / 3.0), float32(2.0)
    for l in range(LANES):
        f0, f1, f2, f3, f4 = state[0, l], state[1, l], state[2, l], state[3, l], state[4, l]
        f5, f6, f7, f8 = state[5, l], state[6, l], state[7, l], state[8, l]
        d0, d1, d2 = f0 * f0 + f3 * f3 + f6 * f6, f1 * f1 + f4 * f4 + f7 * f7, f2 * f2 + f5 * f5 + f8 * f8
        e0, e1, e2 = f0 * f1 + f3 * f4 + f6 * f7, f0 * f2 + f3 * f5 + f6 * f8, f1 * f2 + f4 * f5 + f7 * f8
        middle = (d0 + d1 + d2) * third
        d0, d1, d2 = d0 - middle, d1 - middle, d2 - middle
        spread = (d0 * d0 + d1 * d1 + d2 * d2 + two * (e0 * e0 + e1 * e1 + e2 * e2)) * third
        sigma = np.sqrt(middle + np.sqrt(two * spread))
        q = mu[l] * (state[18, l] - two) + mean[l]
        q *= min(one, mu[l] / max(abs(q) * sigma, float32(1e-30)))
        out[9, l] = q * weight[l] * inv[l] * inv[l]
    for i in range(9):
        for l in range(LANES):
            out[i, l] = out[9, l] * state[i, l]


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_slope(state, gradient, tet, inv, fill, own, slope):
    """Gradient of J of one tetrahedron into ``own`` (12, 16), and weighted by φ onto ``slope`` (18, 16)."""
    for c in range(4):
        g0, g1, g2 = gradient[c, 0], gradient[c, 1], gradient[c, 2]
        for i in range(3):
            row, at = 3 * tet[c] + i, 9 + 3 * i
            for l in range(LANES):
                own[3 * c + i, l] = inv[l] * (state[at, l] * g0 + state[at + 1, l] * g1 + state[at + 2, l] * g2)
                slope[row, l] += fill[l] * own[3 * c + i, l]


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_pairs(weight, inv, dots, crosses, tet_pairs, slot, twist, own, block):
    """φV[μ(B·B' I + ∂J ∂J'ᵀ) + q ∂²J] of a tetrahedron's ten corner pairs onto ``block`` (189, 16).

    ``weight`` is φVμ.
    """
    for e in range(10):
        u, v, h = 3 * tet_pairs[e, 0], 3 * tet_pairs[e, 1], 9 * slot[e]
        c0, c1, c2 = crosses[e, 0], crosses[e, 1], crosses[e, 2]
        near = dots[e]
        for l in range(LANES):
            m = weight[l]
            d = m * inv[l] * inv[l] * near
            wx = twist[0, l] * c0 + twist[1, l] * c1 + twist[2, l] * c2
            wy = twist[3, l] * c0 + twist[4, l] * c1 + twist[5, l] * c2
            wz = twist[6, l] * c0 + twist[7, l] * c1 + twist[8, l] * c2
            a0, a1, a2 = m * own[u, l], m * own[u + 1, l], m * own[u + 2, l]
            b0, b1, b2 = own[v, l], own[v + 1, l], own[v + 2, l]
            block[h, l] += a0 * b0 + d
            block[h + 1, l] += a0 * b1 + wz
            block[h + 2, l] += a0 * b2 - wy
            block[h + 3, l] += a1 * b0 - wz
            block[h + 4, l] += a1 * b1 + d
            block[h + 5, l] += a1 * b2 + wx
            block[h + 6, l] += a2 * b0 + wy
            block[h + 7, l] += a2 * b1 - wx
            block[h + 8, l] += a2 * b2 + d


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_volume(weight, slope, pairs, block):
    """λV̄ ∂J̄ ∂J̄ᵀ of an octahedron onto all its blocks; ``weight`` is λV / Σφ."""
    for e in range(21):
        u, v = 3 * pairs[e, 0], 3 * pairs[e, 1]
        for i in range(3):
            for k in range(3):
                for l in range(LANES):
                    block[9 * e + 3 * i + k, l] += weight[l] * slope[u + i, l] * slope[v + k, l]


@njit(cache=True, nogil=True, fastmath=FAST)
def hessian_range(lo, hi, nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient,
                  dots, crosses, tet_pairs, slot, pairs, out):
    """Positive semi-definite Hessian blocks of batches lo .. hi into ``out`` (octahedra, 21, 9), N/m."""
    x, state = np.empty((18, LANES), np.float32), np.empty((19, LANES), np.float32)
    block = np.empty((189, LANES), np.float32)
    slope, own = np.empty((18, LANES), np.float32), np.empty((12, LANES), np.float32)
    twist = np.empty((10, LANES), np.float32)
    filled, mean, weight = np.empty(LANES, np.float32), np.empty(LANES, np.float32), np.empty(LANES, np.float32)
    own_mu, own_lam, own_inv = np.empty(LANES, np.float32), np.empty(LANES, np.float32), np.empty(LANES, np.float32)
    for b in range(lo, hi):
        _load(nodes, corner, b, x)
        for l in range(LANES):
            own_mu[l], own_lam[l], own_inv[l] = mu[b, l], lam[b, l], inv[b, l]
        _mean_pressure(x, gradient[axis[b]], tets, fill[b], own_lam, own_inv, state, filled, mean)
        block[:] = 0.0
        slope[:] = 0.0
        for t in range(4):
            a = axis[b]
            _deform(x, gradient[a, t], tets[t], own_inv, state)
            for l in range(LANES):
                weight[l] = fill[b, t, l] * volume[b, l]
            _twist(state, own_mu, mean, weight, own_inv, twist)
            for l in range(LANES):
                weight[l] *= own_mu[l]
            _add_slope(state, gradient[a, t], tets[t], own_inv, fill[b, t], own, slope)
            _add_pairs(weight, own_inv, dots[a, t], crosses[a, t], tet_pairs, slot[t], twist, own, block)
        for l in range(LANES):
            weight[l] = own_lam[l] * volume[b, l] / filled[l]
        _add_volume(weight, slope, pairs, block)
        for l in range(LANES):
            for e in range(21):
                for i in range(9):
                    out[b * LANES + l, e, i] = block[9 * e + i, l]


@njit(cache=True, nogil=True, parallel=True)
def energy_all(nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient, parts):
    """Elastic energy, J; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(corner), len(parts)
    for c in prange(chunks):
        parts[c] = energy_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam,
                                inv, volume, tets, gradient)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total


@njit(cache=True, nogil=True, parallel=True)
def gradient_all(chunks, nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient, out):
    n = len(corner)
    for c in prange(chunks):
        gradient_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam, inv,
                       volume, tets, gradient, out)


@njit(cache=True, nogil=True, parallel=True)
def hessian_all(chunks, nodes, corner, axis, fill, mu, lam, inv, volume, tets, gradient,
                dots, crosses, tet_pairs, slot, pairs, out):
    n = len(corner)
    for c in prange(chunks):
        hessian_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam, inv, volume,
                      tets, gradient, dots, crosses, tet_pairs, slot, pairs, out)


@njit(cache=True, nogil=True)
def gather_nodes(source, ptr, item, out):
    """Sum per-octahedron vectors ``source`` (octahedra·6, 3) into nodes ``out`` (n, 3)."""
    for i in range(len(out)):
        sx, sy, sz = 0.0, 0.0, 0.0
        for k in range(ptr[i], ptr[i + 1]):
            s = item[k]
            sx += source[s, 0]
            sy += source[s, 1]
            sz += source[s, 2]
        out[i, 0], out[i, 1], out[i, 2] = sx, sy, sz


@njit(cache=True, nogil=True, fastmath=FAST)
def stretches(nodes, corner, axis, fill, inv, tets, gradient, out):
    """Largest stretch of each octahedron into ``out`` (octahedra,): the largest singular value of F.

    In closed form from the invariants of FᵀF (Smith 1961); the largest over its tetrahedra that are at least
    half filled: slivers at the skin are stretched most and say least.
    """
    x, state = np.empty((18, LANES)), np.empty((19, LANES))
    for b in range(len(corner)):
        _load(nodes, corner, b, x)
        for l in range(LANES):
            out[b * LANES + l] = 0.0
        for t in range(4):
            _deform(x, gradient[axis[b], t], tets[t], inv[b], state)
            for l in range(LANES):
                f0, f1, f2, f3, f4 = state[0, l], state[1, l], state[2, l], state[3, l], state[4, l]
                f5, f6, f7, f8 = state[5, l], state[6, l], state[7, l], state[8, l]
                d0, d1 = f0 * f0 + f3 * f3 + f6 * f6, f1 * f1 + f4 * f4 + f7 * f7
                d2 = f2 * f2 + f5 * f5 + f8 * f8
                e0, e1, e2 = f0 * f1 + f3 * f4 + f6 * f7, f0 * f2 + f3 * f5 + f6 * f8, f1 * f2 + f4 * f5 + f7 * f8
                middle = (d0 + d1 + d2) / 3.0
                d0, d1, d2 = d0 - middle, d1 - middle, d2 - middle
                r = np.sqrt((d0 * d0 + d1 * d1 + d2 * d2 + 2.0 * (e0 * e0 + e1 * e1 + e2 * e2)) / 6.0)
                half = d0 * (d1 * d2 - e2 * e2) - e0 * (e0 * d2 - e2 * e1) + e1 * (e0 * e2 - d1 * e1)
                angle = np.arccos(min(max(0.5 * half / (r * r * r + 1e-300), -1.0), 1.0)) / 3.0
                if fill[b, t, l] >= 0.5:
                    out[b * LANES + l] = max(out[b * LANES + l], np.sqrt(middle + 2.0 * r * np.cos(angle)))
