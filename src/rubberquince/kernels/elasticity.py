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

All arrays are flat lists of octahedra.  ``corner`` holds six node numbers: two centres, then the four
corners of the face in cyclic order; tetrahedra that do not exist have φ = 0 and are never looked at.
"""

import numpy as np
from numba import njit, prange

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
SLOT = _slot_table()                            # (tet, pair) -> which of the 21 blocks it adds to


@njit(cache=True, nogil=True)
def tet_state(x, corner, o, tet, gradient, inv, out):
    """Deformation gradient F (out[0:9], row major), its cofactor (out[9:18]) and J (out[18])."""
    for i in range(9):
        out[i] = 0.0
    for k in range(4):
        n = corner[o, tet[k]]
        gx, gy, gz = gradient[k, 0] * inv, gradient[k, 1] * inv, gradient[k, 2] * inv
        for i in range(3):
            xi = x[n, i]
            out[3 * i] += xi * gx
            out[3 * i + 1] += xi * gy
            out[3 * i + 2] += xi * gz
    f0, f1, f2, f3, f4, f5, f6, f7, f8 = (
        out[0], out[1], out[2], out[3], out[4], out[5], out[6], out[7], out[8])
    out[9], out[10], out[11] = f4 * f8 - f5 * f7, f5 * f6 - f3 * f8, f3 * f7 - f4 * f6
    out[12], out[13], out[14] = f2 * f7 - f1 * f8, f0 * f8 - f2 * f6, f1 * f6 - f0 * f7
    out[15], out[16], out[17] = f1 * f5 - f2 * f4, f2 * f3 - f0 * f5, f0 * f4 - f1 * f3
    out[18] = f0 * out[9] + f1 * out[10] + f2 * out[11]


@njit(cache=True, nogil=True)
def energy_range(lo, hi, x, corner, axis, fill, scale, body, mu, lam, cell, tets, gradient):
    """Elastic energy, J, of octahedra lo .. hi."""
    state = np.empty(19)
    total = 0.0
    for o in range(lo, hi):
        b = body[o]
        m_, l_ = mu[b] * scale[o], lam[b] * scale[o]
        inv = 1.0 / cell[b]
        volume = cell[b] * cell[b] * cell[b] / 12.0
        part, filled, mean = 0.0, 0.0, 0.0
        for t in range(4):
            w = fill[o, t]
            if w == 0.0:
                continue
            tet_state(x, corner, o, tets[t], gradient[axis[o], t], inv, state)
            norm = 0.0
            for i in range(9):
                norm += state[i] * state[i]
            j = state[18]
            part += w * (norm - 3.0 + (j - 2.0) * (j - 2.0) - 1.0)
            filled += w
            mean += w * j
        dilation = mean / filled - 1.0
        total += volume * (0.5 * m_ * part + 0.5 * l_ * filled * dilation * dilation)
    return total


@njit(cache=True, nogil=True)
def gradient_range(lo, hi, x, corner, axis, fill, scale, body, mu, lam, cell, tets, gradient, out):
    """Energy gradient of octahedra lo .. hi into ``out`` (octahedra, 6, 3), N."""
    state = np.empty((4, 19))
    for o in range(lo, hi):
        b = body[o]
        m_, l_ = mu[b] * scale[o], lam[b] * scale[o]
        inv = 1.0 / cell[b]
        volume = cell[b] * cell[b] * cell[b] / 12.0
        filled, mean = 0.0, 0.0
        for t in range(4):
            if fill[o, t] != 0.0:
                tet_state(x, corner, o, tets[t], gradient[axis[o], t], inv, state[t])
                filled += fill[o, t]
                mean += fill[o, t] * state[t, 18]
        pressure = l_ * (mean / filled - 1.0)
        for a in range(6):
            out[o, a, 0] = 0.0
            out[o, a, 1] = 0.0
            out[o, a, 2] = 0.0
        for t in range(4):
            w = fill[o, t] * volume * inv
            if w == 0.0:
                continue
            s = state[t]
            q = m_ * (s[18] - 2.0) + pressure
            for k in range(4):
                g = gradient[axis[o], t, k]
                a = tets[t, k]
                for i in range(3):
                    row = 3 * i
                    out[o, a, i] += w * ((m_ * s[row] + q * s[9 + row]) * g[0]
                                         + (m_ * s[row + 1] + q * s[10 + row]) * g[1]
                                         + (m_ * s[row + 2] + q * s[11 + row]) * g[2])


@njit(cache=True, nogil=True)
def hessian_range(lo, hi, x, corner, axis, fill, scale, body, mu, lam, cell,
                  tets, gradient, dots, crosses, tet_pairs, slot, pairs, out):
    """Positive semi-definite Hessian blocks of octahedra lo .. hi into ``out`` (octahedra, 21, 9), N/m.

    The one indefinite part, q ∂²J with q = μ(J-2) + λ(J̄-1), has eigenvalues within ±|q|σ of F's
    largest singular value σ; scaled to at most μ it is outweighed by the μ identity of the first part.
    σ² is bounded by mean + √2 · deviation of the eigenvalues of FᵀF (Samuelson 1968), exact at rest.
    """
    state = np.empty((4, 19))
    cof = np.empty((4, 3))
    total = np.empty((6, 3))
    for o in range(lo, hi):
        b = body[o]
        m_, l_ = mu[b] * scale[o], lam[b] * scale[o]
        inv = 1.0 / cell[b]
        volume = cell[b] * cell[b] * cell[b] / 12.0
        filled, mean = 0.0, 0.0
        for t in range(4):
            if fill[o, t] != 0.0:
                tet_state(x, corner, o, tets[t], gradient[axis[o], t], inv, state[t])
                filled += fill[o, t]
                mean += fill[o, t] * state[t, 18]
        pressure = l_ * (mean / filled - 1.0)
        for k in range(21):
            for i in range(9):
                out[o, k, i] = 0.0
        for a in range(6):
            for i in range(3):
                total[a, i] = 0.0
        for t in range(4):
            w = fill[o, t]
            if w == 0.0:
                continue
            s = state[t]
            norm, dev = 0.0, 0.0
            for i in range(3):
                for j in range(3):
                    c = s[i] * s[j] + s[3 + i] * s[3 + j] + s[6 + i] * s[6 + j]
                    dev += c * c
                    if i == j:
                        norm += c
            norm /= 3.0
            sigma = np.sqrt(norm + np.sqrt(2.0 * max(dev / 3.0 - norm * norm, 0.0)))
            q = m_ * (s[18] - 2.0) + pressure
            q *= min(1.0, m_ / max(abs(q) * sigma, 1e-300))
            for k in range(4):
                g = gradient[axis[o], t, k]
                for i in range(3):
                    row = 9 + 3 * i
                    cof[k, i] = inv * (s[row] * g[0] + s[row + 1] * g[1] + s[row + 2] * g[2])
                    total[tets[t, k], i] += w * cof[k, i]
            wv = w * volume
            for k in range(10):
                p, r = tet_pairs[k, 0], tet_pairs[k, 1]
                c = crosses[axis[o], t, k]
                f = wv * q * inv * inv
                wx = f * (s[0] * c[0] + s[1] * c[1] + s[2] * c[2])
                wy = f * (s[3] * c[0] + s[4] * c[1] + s[5] * c[2])
                wz = f * (s[6] * c[0] + s[7] * c[1] + s[8] * c[2])
                d = wv * m_ * inv * inv * dots[axis[o], t, k]
                e = wv * m_
                h = out[o, slot[t, k]]
                h[0] += d + e * cof[p, 0] * cof[r, 0]
                h[1] += e * cof[p, 0] * cof[r, 1] + wz
                h[2] += e * cof[p, 0] * cof[r, 2] - wy
                h[3] += e * cof[p, 1] * cof[r, 0] - wz
                h[4] += d + e * cof[p, 1] * cof[r, 1]
                h[5] += e * cof[p, 1] * cof[r, 2] + wx
                h[6] += e * cof[p, 2] * cof[r, 0] + wy
                h[7] += e * cof[p, 2] * cof[r, 1] - wx
                h[8] += d + e * cof[p, 2] * cof[r, 2]
        e = l_ * volume / filled
        for k in range(21):
            p, r = pairs[k, 0], pairs[k, 1]
            for i in range(3):
                for j in range(3):
                    out[o, k, 3 * i + j] += e * total[p, i] * total[r, j]


@njit(cache=True, nogil=True, parallel=True)
def energy_all(x, corner, axis, fill, scale, body, mu, lam, cell, tets, gradient, parts):
    """Elastic energy, J; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(corner), len(parts)
    for c in prange(chunks):
        parts[c] = energy_range(c * n // chunks, (c + 1) * n // chunks, x, corner, axis, fill, scale,
                                body, mu, lam, cell, tets, gradient)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total


@njit(cache=True, nogil=True, parallel=True)
def gradient_all(chunks, x, corner, axis, fill, scale, body, mu, lam, cell, tets, gradient, out):
    n = len(corner)
    for c in prange(chunks):
        gradient_range(c * n // chunks, (c + 1) * n // chunks, x, corner, axis, fill, scale,
                       body, mu, lam, cell, tets, gradient, out)


@njit(cache=True, nogil=True, parallel=True)
def hessian_all(chunks, x, corner, axis, fill, scale, body, mu, lam, cell,
                tets, gradient, dots, crosses, tet_pairs, slot, pairs, out):
    n = len(corner)
    for c in prange(chunks):
        hessian_range(c * n // chunks, (c + 1) * n // chunks, x, corner, axis, fill, scale, body, mu, lam,
                      cell, tets, gradient, dots, crosses, tet_pairs, slot, pairs, out)


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


@njit(cache=True, nogil=True)
def stretch_range(x, corner, axis, fill, body, cell, tets, gradient, steps):
    """Largest stretch of each octahedron, (octahedra,): largest singular value of F over its tets.

    By power iteration on FᵀF, started from its largest column; ``steps`` passes.
    """
    state = np.empty(19)
    out = np.zeros(len(corner), dtype=np.float32)
    for o in range(len(corner)):
        best = 0.0
        for t in range(4):
            if fill[o, t] == 0.0:
                continue
            tet_state(x, corner, o, tets[t], gradient[axis[o], t], 1.0 / cell[body[o]], state)
            a, b, c = 1.0, 0.7, 0.4
            length = 1.0
            for _ in range(steps):
                u = state[0] * a + state[1] * b + state[2] * c
                v = state[3] * a + state[4] * b + state[5] * c
                w = state[6] * a + state[7] * b + state[8] * c
                a = state[0] * u + state[3] * v + state[6] * w
                b = state[1] * u + state[4] * v + state[7] * w
                c = state[2] * u + state[5] * v + state[8] * w
                length = np.sqrt(a * a + b * b + c * c) + 1e-300
                a /= length
                b /= length
                c /= length
            best = max(best, np.sqrt(length))
        out[o] = best
    return out
