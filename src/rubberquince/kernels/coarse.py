"""The coarse space of the linear system: twelve affine modes an aggregate of nodes; see kernels.linear."""

import numpy as np
from numba import njit, uint64


@njit(cache=True, nogil=True, fastmath={"contract"})
def coarse_elastic(row_ptr, col, blocks, stretch, inertia, free, aggregate, mode, out):
    """Pᵀ(diag(inertia) + stretch·K)P into ``out`` (12·aggregates, 12·aggregates).

    Row by row: first Σ mode · block over the row for each aggregate met, then its spread over the row's
    own modes; most rows meet one aggregate only.
    """
    out[:] = 0.0
    aggregates = len(out) // 12
    b, modes = blocks.reshape(-1), mode.reshape(-1)
    part, met = np.zeros(36 * aggregates), np.empty(aggregates, np.int64)
    seen = np.zeros(aggregates, np.bool_)
    nine = uint64(9)
    for i in range(uint64(len(row_ptr) - 1)):
        if free[i] == 0.0:
            continue
        count = 0
        for k in range(row_ptr[i], row_ptr[i + uint64(1)]):
            j = col[k]
            if free[j] == 0.0:
                continue
            at = aggregate[j]
            if not seen[at]:
                seen[at], met[count] = True, at
                count += 1
            own = 1.0 if i == j else 0.0
            for v in range(uint64(4)):
                m = modes[uint64(4) * j + v]
                w, base = m * stretch[i], uint64(36) * uint64(at) + nine * v
                for q in range(nine):
                    part[base + q] += w * b[nine * k + q]
                for a in range(uint64(3)):
                    part[base + uint64(4) * a] += own * m * inertia[i]
        for c in range(count):
            _spread(part, met[c], aggregate[i], mode, i, out)
            seen[met[c]] = False


@njit(cache=True, nogil=True)
def _spread(part, at, own, mode, i, out):
    """Add a row's sums over aggregate ``at`` to the coarse matrix and clear them."""
    for v in range(4):
        for a in range(3):
            for b in range(3):
                value = part[36 * at + 9 * v + 3 * a + b]
                part[36 * at + 9 * v + 3 * a + b] = 0.0
                for u in range(4):
                    out[12 * own + 3 * u + a, 12 * at + 3 * v + b] += mode[i, u] * value


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def _factorise(out):
    """The lower half of a symmetric matrix becomes its Cholesky factor, in place."""
    n = len(out)
    for j in range(n):
        s = out[j, j]
        floor = 1e-12 * s + 1e-300          # modes that held nodes removed: keep the factor finite
        for k in range(j):
            s -= out[j, k] * out[j, k]
        d = np.sqrt(max(s, floor))
        out[j, j] = d
        for i in range(j + 1, n):
            t = out[i, j]
            for k in range(j):
                t -= out[i, k] * out[j, k]
            out[i, j] = t / d


@njit(cache=True, nogil=True, fastmath={"contract"})
def _substitute(factor, x):
    """Solve with such a factor, in place of the right side ``x``."""
    m = len(x)
    for i in range(m):
        s = x[i]
        for k in range(i):
            s -= factor[i, k] * x[k]
        x[i] = s / factor[i, i]
    for i in range(m - 1, -1, -1):
        c = x[i] / factor[i, i]
        x[i] = c
        for k in range(i):
            x[k] -= factor[i, k] * c


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def coarse_factor(elastic, pair_ptr, pair_node, pair_coef, normal, curve, hold, free, aggregate, mode, out):
    """Cholesky factor (lower) of the coarse matrix with the contact part added, into ``out``."""
    n = len(elastic)
    out[:] = elastic
    touched = np.empty(n // 12, np.int64)
    weight = np.empty((n // 12, 4))
    for e in range(len(curve)):
        count = 0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i = pair_node[k]
            if free[i] == 0.0:
                continue
            a = aggregate[i]
            at = -1
            for t in range(count):
                if touched[t] == a:
                    at = t
            if at < 0:
                at = count
                touched[at] = a
                weight[at] = 0.0
                count += 1
            for u in range(4):
                weight[at, u] += pair_coef[k] * mode[i, u]
        x, y, z, along, across = normal[e, 0], normal[e, 1], normal[e, 2], curve[e] - hold[e], hold[e]
        xx, xy, xz = along * x * x + across, along * x * y, along * x * z
        yy, yz, zz = along * y * y + across, along * y * z, along * z * z + across
        for s in range(count):
            for t in range(count):
                if touched[t] > touched[s]:         # only the lower half is read
                    continue
                for u in range(4):
                    row, column = 12 * touched[s] + 3 * u, 12 * touched[t]
                    for v in range(4):
                        w, c = weight[s, u] * weight[t, v], column + 3 * v
                        out[row, c] += w * xx
                        out[row, c + 1] += w * xy
                        out[row, c + 2] += w * xz
                        out[row + 1, c] += w * xy
                        out[row + 1, c + 1] += w * yy
                        out[row + 1, c + 2] += w * yz
                        out[row + 2, c] += w * xz
                        out[row + 2, c + 1] += w * yz
                        out[row + 2, c + 2] += w * zz
    _factorise(out)


@njit(cache=True, nogil=True, fastmath={"contract"})
def solve_coarse(r, factor, part_ptr, part_node, mode, coarse):
    """(PᵀAP)⁻¹ Pᵀ r into ``coarse`` (12·aggregates,); see precondition."""
    modes = mode.reshape(-1)
    one, two, three, four = uint64(1), uint64(2), uint64(3), uint64(4)
    for a in range(len(part_ptr) - 1):
        s00, s01, s02, s10, s11, s12 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        s20, s21, s22, s30, s31, s32 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for k in range(uint64(part_ptr[a]), uint64(part_ptr[a + 1])):
            i = uint64(part_node[k])
            x, y, w, q = r[three * i], r[three * i + one], r[three * i + two], four * i
            c0, c1, c2, c3 = modes[q], modes[q + one], modes[q + two], modes[q + three]
            s00, s01, s02 = s00 + c0 * x, s01 + c0 * y, s02 + c0 * w
            s10, s11, s12 = s10 + c1 * x, s11 + c1 * y, s12 + c1 * w
            s20, s21, s22 = s20 + c2 * x, s21 + c2 * y, s22 + c2 * w
            s30, s31, s32 = s30 + c3 * x, s31 + c3 * y, s32 + c3 * w
        own = coarse[12 * a:12 * a + 12]
        own[0], own[1], own[2], own[3], own[4], own[5] = s00, s01, s02, s10, s11, s12
        own[6], own[7], own[8], own[9], own[10], own[11] = s20, s21, s22, s30, s31, s32
    _substitute(factor, coarse)


@njit(cache=True, nogil=True)
def balance(left, inertia, pair_ptr, pair_node, pair_coef, normal, curve, hold, body, loose, out):
    """Shift each body as a whole, in ``out`` (n, 3) m, so that the forces ``left`` (n, 3) N on it come to nothing.

    Only bodies that are ``loose`` (bodies,) bool, with no node held: stiffness does not resist their shifts, so
    inertia and contact say all.  An inexact solution then still keeps the momentum of bodies that push each other.
    """
    size = 3 * len(loose)
    matrix, shift, weight = np.zeros((size, size)), np.zeros(size), np.zeros(len(loose))
    for i in range(len(left)):
        if loose[body[i]]:
            for a in range(3):
                matrix[3 * body[i] + a, 3 * body[i] + a] += inertia[i]
                shift[3 * body[i] + a] += left[i, a]
    for e in range(len(curve)):
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            weight[body[pair_node[k]]] = 0.0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            weight[body[pair_node[k]]] += pair_coef[k]
        one, two = body[pair_node[pair_ptr[e]]], body[pair_node[pair_ptr[e + 1] - 1]]
        for b in range(min(one, two), max(one, two) + 1, max(abs(one - two), 1)):
            for c in range(min(one, two), max(one, two) + 1, max(abs(one - two), 1)):
                if loose[b] and loose[c]:
                    for i in range(3):
                        matrix[3 * b + i, 3 * c + i] += weight[b] * weight[c] * hold[e]
                        for j in range(3):
                            matrix[3 * b + i, 3 * c + j] += (weight[b] * weight[c] * (curve[e] - hold[e])
                                                             * normal[e, i] * normal[e, j])
    for i in range(size):
        if not loose[i // 3]:
            matrix[i, i] = 1.0
    _factorise(matrix)
    _substitute(matrix, shift)
    for i in range(len(left)):
        for a in range(3):
            out[i, a] += shift[3 * body[i] + a]
