"""Elastic energy of an embedded lattice and its gradient.

The lattice is body-centred cubic: every pair of neighbouring cube centres spans, with the square face
between them, an octahedron of four tetrahedra.  An octahedron is the unit of work here, because the
volume term is averaged over it (a tetrahedron alone locks when the material hardly compresses).

Energy of one octahedron, with V = a³/12 the rest volume of a tetrahedron and φ its filled fraction::

    Σ φV [ μ/2 (|F|² - 3) + μ/2 ((J - 2)² - 1) + δ/2 max(J₀ - J, 0)² ]  +  λ/2 V̄ (J̄ - 1)²
    V̄ = Σ φV,   J̄ = Σ φV J / V̄

The first part is the stable neo-Hookean energy with a vanishing first Lamé parameter (Smith, de Goes,
Kim 2018, eq. 14 with λ = μ, α = 2); the second is the volume energy on the mean dilatation (Nagtegaal,
Parks, Rice 1974).  Near rest both linearise to Hooke's law with Lamé parameters λ, μ.
Both are finite where a tetrahedron is flat, so weight or a blow could turn it inside out.  What is crushed to less than
J₀ of its volume is dense, as a foam whose walls touch (Gibson, Ashby 1997, ch. 5), and resists that with δ.

Octahedra come in batches of sixteen lanes that lie along the same axis, so that the inner loops run over
lanes and become vector code.  ``corner`` (batches, 6, 16) holds node numbers: two centres, then the four
corners of the face in cyclic order.  A tetrahedron that does not exist has φ = 0 and contributes nothing,
wherever its corners point.  The other lane arrays are (batches, 16): ``mu``, ``lam`` and
``dense`` (δ), Pa, ``inv`` = 1/a, ``volume`` = V.
"""

import numpy as np
from numba import njit, prange, uint64

LANES = 16
DENSE = 0.2                 # J₀, of the volume at rest
FAST = {"contract", "arcp", "nsz"}

# Scratch arrays are flat, rows of lanes one after the other: only with distances between rows that are known
# when compiling does a loop over lanes become vector code.
ROW = tuple(np.uint64(LANES * k) for k in range(20))
ALL = np.uint64(LANES)
MU, LAM, INV, MEAN, FILLED, WEIGHT, STIFF = ROW[:7]     # rows of the values of a batch


@njit(cache=True, nogil=True)
def load_corners(nodes, corner, b, x):
    """Corner positions of batch ``b`` into rows ``x`` (18·16,), relative to each first centre."""
    flat = nodes.reshape(-1)
    for c in range(6):
        for l in range(LANES):
            n, o = uint64(3 * corner[b, c, l]), uint64(3 * corner[b, 0, l])
            for i in range(uint64(3)):
                x[uint64(48 * c + l) + ROW[1] * i] = flat[n + i] - flat[o + i]


@njit(cache=True, nogil=True, fastmath=FAST)
def deform(x, gradient, tet, value, state):
    """Deformation gradient F (rows 0-8 of ``state``), its cofactor (9-17) and J (18) of one tetrahedron."""
    p, q = ROW[3] * uint64(tet[2]), ROW[3] * uint64(tet[3])
    a0, a1, a2 = gradient[0, 0], gradient[0, 1], gradient[0, 2]
    b0, b1, b2 = gradient[1, 0], gradient[1, 1], gradient[1, 2]
    c0, c1, c2 = gradient[2, 0], gradient[2, 1], gradient[2, 2]
    d0, d1, d2 = gradient[3, 0], gradient[3, 1], gradient[3, 2]
    for l in range(ALL):
        s = value[l + INV]
        u0, u1, u2 = s * x[l], s * x[l + ROW[1]], s * x[l + ROW[2]]
        v0, v1, v2 = s * x[l + ROW[3]], s * x[l + ROW[4]], s * x[l + ROW[5]]
        w0, w1, w2 = s * x[l + p], s * x[l + p + ROW[1]], s * x[l + p + ROW[2]]
        z0, z1, z2 = s * x[l + q], s * x[l + q + ROW[1]], s * x[l + q + ROW[2]]
        f0, f1 = u0 * a0 + v0 * b0 + w0 * c0 + z0 * d0, u0 * a1 + v0 * b1 + w0 * c1 + z0 * d1
        f2, f3 = u0 * a2 + v0 * b2 + w0 * c2 + z0 * d2, u1 * a0 + v1 * b0 + w1 * c0 + z1 * d0
        f4, f5 = u1 * a1 + v1 * b1 + w1 * c1 + z1 * d1, u1 * a2 + v1 * b2 + w1 * c2 + z1 * d2
        f6, f7 = u2 * a0 + v2 * b0 + w2 * c0 + z2 * d0, u2 * a1 + v2 * b1 + w2 * c1 + z2 * d1
        f8 = u2 * a2 + v2 * b2 + w2 * c2 + z2 * d2
        h0, h1, h2 = f4 * f8 - f5 * f7, f5 * f6 - f3 * f8, f3 * f7 - f4 * f6
        state[l], state[l + ROW[1]], state[l + ROW[2]], state[l + ROW[3]] = f0, f1, f2, f3
        state[l + ROW[4]], state[l + ROW[5]], state[l + ROW[6]], state[l + ROW[7]] = f4, f5, f6, f7
        state[l + ROW[8]], state[l + ROW[9]], state[l + ROW[10]], state[l + ROW[11]] = f8, h0, h1, h2
        state[l + ROW[12]], state[l + ROW[13]] = f2 * f7 - f1 * f8, f0 * f8 - f2 * f6
        state[l + ROW[14]], state[l + ROW[15]] = f1 * f6 - f0 * f7, f1 * f5 - f2 * f4
        state[l + ROW[16]], state[l + ROW[17]] = f2 * f3 - f0 * f5, f0 * f4 - f1 * f3
        state[l + ROW[18]] = f0 * h0 + f1 * h1 + f2 * h2


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_energy(x, gradient, tet, inv, fill, sums):
    """Sums over tetrahedra, rows of ``sums``: φ(|F|² + (J-2)² - 4), φ, φ(J-1) and φ max(DENSE-J, 0)².

    All in one loop and in registers: storing F and its cofactor on the way costs more than the arithmetic.
    """
    p, q = ROW[3] * uint64(tet[2]), ROW[3] * uint64(tet[3])
    a0, a1, a2 = gradient[0, 0], gradient[0, 1], gradient[0, 2]
    b0, b1, b2 = gradient[1, 0], gradient[1, 1], gradient[1, 2]
    c0, c1, c2 = gradient[2, 0], gradient[2, 1], gradient[2, 2]
    d0, d1, d2 = gradient[3, 0], gradient[3, 1], gradient[3, 2]
    for l in range(ALL):
        s, filled = inv[l], fill[l]
        u0, u1, u2 = s * x[l], s * x[l + ROW[1]], s * x[l + ROW[2]]
        v0, v1, v2 = s * x[l + ROW[3]], s * x[l + ROW[4]], s * x[l + ROW[5]]
        w0, w1, w2 = s * x[l + p], s * x[l + p + ROW[1]], s * x[l + p + ROW[2]]
        z0, z1, z2 = s * x[l + q], s * x[l + q + ROW[1]], s * x[l + q + ROW[2]]
        f0, f1 = u0 * a0 + v0 * b0 + w0 * c0 + z0 * d0, u0 * a1 + v0 * b1 + w0 * c1 + z0 * d1
        f2, f3 = u0 * a2 + v0 * b2 + w0 * c2 + z0 * d2, u1 * a0 + v1 * b0 + w1 * c0 + z1 * d0
        f4, f5 = u1 * a1 + v1 * b1 + w1 * c1 + z1 * d1, u1 * a2 + v1 * b2 + w1 * c2 + z1 * d2
        f6, f7 = u2 * a0 + v2 * b0 + w2 * c0 + z2 * d0, u2 * a1 + v2 * b1 + w2 * c1 + z2 * d1
        f8 = u2 * a2 + v2 * b2 + w2 * c2 + z2 * d2
        away = f0 * (f4 * f8 - f5 * f7) + f1 * (f5 * f6 - f3 * f8) + f2 * (f3 * f7 - f4 * f6) - 2.0
        norm = f0 * f0 + f1 * f1 + f2 * f2 + f3 * f3 + f4 * f4 + f5 * f5 + f6 * f6 + f7 * f7 + f8 * f8
        sums[l] += filled * (norm + away * away - 4.0)
        sums[l + ROW[1]] += filled
        sums[l + ROW[2]] += filled * (away + 1.0)
        less = max(DENSE - 2.0 - away, 0.0)
        sums[l + ROW[3]] += filled * less * less


@njit(cache=True, nogil=True, fastmath=FAST)
def energy_range(lo, hi, nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient):
    """Elastic energy, J, of batches lo .. hi."""
    x, sums = np.empty(18 * LANES), np.empty(4 * LANES)
    total = 0.0
    for b in range(lo, hi):
        load_corners(nodes, corner, b, x)
        for l in range(ALL):
            sums[l], sums[l + ROW[1]], sums[l + ROW[2]], sums[l + ROW[3]] = 0.0, 1e-300, 0.0, 0.0
        for t in range(4):
            _add_energy(x, gradient[axis[b], t], tets[t], inv[b], fill[b, t], sums)
        for l in range(LANES):
            change = sums[l + 2 * LANES]
            total += 0.5 * volume[b, l] * (mu[b, l] * sums[l] + lam[b, l] * change * change / sums[l + LANES]
                                           + dense[b, l] * sums[l + 3 * LANES])
    return total


@njit(cache=True, nogil=True, fastmath=FAST)
def _add_force(x, gradient, tet, value, part, force):
    """Force of one tetrahedron's stress onto ``force`` (18·16,): φV/a times μF + (μ(J-2) + λ(J̄-1) - δ max(J₀-J, 0)) ∂J.

    It is made in ``part`` (12·16,): stores to rows that may be any are not made vector code.
    """
    p, q = ROW[3] * uint64(tet[2]), ROW[3] * uint64(tet[3])
    a0, a1, a2 = gradient[0, 0], gradient[0, 1], gradient[0, 2]
    b0, b1, b2 = gradient[1, 0], gradient[1, 1], gradient[1, 2]
    c0, c1, c2 = gradient[2, 0], gradient[2, 1], gradient[2, 2]
    d0, d1, d2 = gradient[3, 0], gradient[3, 1], gradient[3, 2]
    for l in range(ALL):
        s = value[l + INV]
        u0, u1, u2 = s * x[l], s * x[l + ROW[1]], s * x[l + ROW[2]]
        v0, v1, v2 = s * x[l + ROW[3]], s * x[l + ROW[4]], s * x[l + ROW[5]]
        w0, w1, w2 = s * x[l + p], s * x[l + p + ROW[1]], s * x[l + p + ROW[2]]
        z0, z1, z2 = s * x[l + q], s * x[l + q + ROW[1]], s * x[l + q + ROW[2]]
        f0, f1 = u0 * a0 + v0 * b0 + w0 * c0 + z0 * d0, u0 * a1 + v0 * b1 + w0 * c1 + z0 * d1
        f2, f3 = u0 * a2 + v0 * b2 + w0 * c2 + z0 * d2, u1 * a0 + v1 * b0 + w1 * c0 + z1 * d0
        f4, f5 = u1 * a1 + v1 * b1 + w1 * c1 + z1 * d1, u1 * a2 + v1 * b2 + w1 * c2 + z1 * d2
        f6, f7 = u2 * a0 + v2 * b0 + w2 * c0 + z2 * d0, u2 * a1 + v2 * b1 + w2 * c1 + z2 * d1
        f8 = u2 * a2 + v2 * b2 + w2 * c2 + z2 * d2
        h0, h1, h2 = f4 * f8 - f5 * f7, f5 * f6 - f3 * f8, f3 * f7 - f4 * f6
        m = value[l + WEIGHT] * value[l + MU]
        j = f0 * h0 + f1 * h1 + f2 * h2
        t = m * (j - 2.0) + value[l + WEIGHT] * (value[l + MEAN] - value[l + STIFF] * max(DENSE - j, 0.0))
        p0, p1, p2 = m * f0 + t * h0, m * f1 + t * h1, m * f2 + t * h2
        p3, p4 = m * f3 + t * (f2 * f7 - f1 * f8), m * f4 + t * (f0 * f8 - f2 * f6)
        p5, p6 = m * f5 + t * (f1 * f6 - f0 * f7), m * f6 + t * (f1 * f5 - f2 * f4)
        p7, p8 = m * f7 + t * (f2 * f3 - f0 * f5), m * f8 + t * (f0 * f4 - f1 * f3)
        e0, e1, e2 = p0 * b0 + p1 * b1 + p2 * b2, p3 * b0 + p4 * b1 + p5 * b2, p6 * b0 + p7 * b1 + p8 * b2
        g0, g1, g2 = p0 * c0 + p1 * c1 + p2 * c2, p3 * c0 + p4 * c1 + p5 * c2, p6 * c0 + p7 * c1 + p8 * c2
        k0, k1, k2 = p0 * d0 + p1 * d1 + p2 * d2, p3 * d0 + p4 * d1 + p5 * d2, p6 * d0 + p7 * d1 + p8 * d2
        part[l], part[l + ROW[1]], part[l + ROW[2]] = -(e0 + g0 + k0), -(e1 + g1 + k1), -(e2 + g2 + k2)
        part[l + ROW[3]], part[l + ROW[4]], part[l + ROW[5]] = e0, e1, e2
        part[l + ROW[6]], part[l + ROW[7]], part[l + ROW[8]] = g0, g1, g2
        part[l + ROW[9]], part[l + ROW[10]], part[l + ROW[11]] = k0, k1, k2
    for c in range(4):
        to, at = ROW[3] * uint64(c), ROW[3] * uint64(tet[c])
        for l in range(ROW[3]):
            force[l + at] += part[l + to]


@njit(cache=True, nogil=True, fastmath=FAST)
def gradient_range(lo, hi, nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient, out):
    """Energy gradient of batches lo .. hi into ``out`` (octahedra, 6, 3), N."""
    x, sums, force, value = np.empty(18 * LANES), np.empty(4 * LANES), np.empty(18 * LANES), np.empty(7 * LANES)
    part, flat = np.empty(12 * LANES), out.reshape(-1)
    for b in range(lo, hi):
        load_corners(nodes, corner, b, x)
        for l in range(ALL):
            value[l + MU], value[l + INV], value[l + STIFF] = mu[b, l], inv[b, l], dense[b, l]
            sums[l + ROW[1]], sums[l + ROW[2]] = 1e-30, 0.0
        for t in range(4):
            _add_energy(x, gradient[axis[b], t], tets[t], inv[b], fill[b, t], sums)
        for l in range(ALL):
            value[l + MEAN] = lam[b, l] * sums[l + ROW[2]] / sums[l + ROW[1]]
        force[:] = 0.0
        for t in range(4):
            for l in range(ALL):
                value[l + WEIGHT] = fill[b, t, l] * volume[b, l] * inv[b, l]
            _add_force(x, gradient[axis[b], t], tets[t], value, part, force)
        for l in range(LANES):
            for r in range(18):
                flat[uint64(18 * (LANES * b + l) + r)] = force[uint64(LANES * r + l)]


@njit(cache=True, nogil=True, parallel=True)
def energy_all(nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient, parts):
    """Elastic energy, J; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(corner), len(parts)
    for c in prange(chunks):
        parts[c] = energy_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam, dense,
                                inv, volume, tets, gradient)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total


@njit(cache=True, nogil=True, parallel=True)
def gradient_all(chunks, nodes, corner, axis, fill, mu, lam, dense, inv, volume, tets, gradient, out):
    n = len(corner)
    for c in prange(chunks):
        gradient_range(c * n // chunks, (c + 1) * n // chunks, nodes, corner, axis, fill, mu, lam, dense, inv,
                       volume, tets, gradient, out)


@njit(cache=True, nogil=True)
def gather_nodes(source, ptr, item, out):
    """Add the sums of per-octahedron vectors ``source`` (octahedra·6, 3) to nodes ``out`` (n, 3)."""
    for i in range(len(out)):
        sx, sy, sz = 0.0, 0.0, 0.0
        for k in range(ptr[i], ptr[i + 1]):
            s = item[k]
            sx += source[s, 0]
            sy += source[s, 1]
            sz += source[s, 2]
        out[i, 0], out[i, 1], out[i, 2] = out[i, 0] + sx, out[i, 1] + sy, out[i, 2] + sz


@njit(cache=True, nogil=True, fastmath=FAST)
def stretches(nodes, corner, axis, fill, inv, tets, gradient, out):
    """Largest stretch of each octahedron into ``out`` (octahedra,): the largest singular value of F.

    In closed form from the invariants of FᵀF (Smith 1961); the largest over its tetrahedra that are at least
    half filled: slivers at the skin are stretched most and say least.
    """
    x, state, value = np.empty(18 * LANES), np.empty(19 * LANES), np.empty(6 * LANES)
    for b in range(len(corner)):
        load_corners(nodes, corner, b, x)
        for l in range(ALL):
            value[l + INV], out[b * LANES + l] = inv[b, l], 0.0
        for t in range(4):
            deform(x, gradient[axis[b], t], tets[t], value, state)
            for l in range(LANES):
                f0, f1, f2, f3, f4, f5, f6, f7, f8 = (state[l], state[l + LANES], state[l + 2 * LANES],
                                                      state[l + 3 * LANES], state[l + 4 * LANES],
                                                      state[l + 5 * LANES], state[l + 6 * LANES],
                                                      state[l + 7 * LANES], state[l + 8 * LANES])
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


@njit(cache=True, nogil=True)
def inside_out(nodes, corner, axis, fill, inv, body, flat, tets, gradient, out):
    """The filled part of each body whose volume is below ``flat`` of that at rest, times tetrahedra, into ``out``
    (bodies, 2), and the filled part of all.
    """
    x, state, value = np.empty(18 * LANES), np.empty(19 * LANES), np.empty(6 * LANES)
    out[:] = 0.0
    for b in range(len(corner)):
        load_corners(nodes, corner, b, x)
        value[INV: INV + LANES] = inv[b]
        for t in range(4):
            deform(x, gradient[axis[b], t], tets[t], value, state)
            for l in range(LANES):
                out[body[b, l], 1] += fill[b, t, l]
                if state[18 * LANES + l] < flat:
                    out[body[b, l], 0] += fill[b, t, l]
