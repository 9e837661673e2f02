"""The coarse space of the linear system: twelve affine modes an aggregate of nodes; see kernels.linear."""

import numpy as np
from numba import njit, uint64

from rubberquince.kernels.turning import centre_of


@njit(cache=True, nogil=True, fastmath={"contract"})
def coarse_elastic(lo, hi, first, row_ptr, col, blocks, stretch, inertia, free, aggregate, mode, out):
    """Pᵀ(diag(inertia) + stretch·K)P of nodes lo .. hi into ``out`` (12·aggregates, 12·aggregates).

    Their aggregates are numbered from ``first`` on, and no block leads to other ones.

    Row by row: first Σ mode · block over the row for each aggregate met, then its spread over the row's
    own modes; most rows meet one aggregate only.
    """
    out[:] = 0.0
    aggregates = len(out) // 12
    b, modes = blocks.reshape(-1), mode.reshape(-1)
    part, met = np.zeros(36 * aggregates), np.empty(aggregates, np.int64)
    seen = np.zeros(aggregates, np.bool_)
    nine = uint64(9)
    for i in range(uint64(lo), uint64(hi)):
        if free[i] == 0.0:
            continue
        count = 0
        for k in range(row_ptr[i], row_ptr[i + uint64(1)]):
            j = col[k]
            if free[j] == 0.0:
                continue
            at = aggregate[j] - first
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
            _spread(part, met[c], aggregate[i] - first, mode, i, out)
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


@njit(cache=True, nogil=True)
def find_starts(matrix, start):
    """The first column (n,) of each row of a symmetric matrix that is not zero, into ``start``."""
    for i in range(len(matrix)):
        j = 0
        while j < i and matrix[i, j] == 0.0:
            j += 1
        start[i] = j


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def factorise(out, start):
    """The lower half of a symmetric matrix becomes its Cholesky factor, in place.

    Row i is zero before column ``start[i]`` and stays so (an envelope: George, Liu 1981, ch. 4): bodies that do not
    touch cost nothing to each other.
    """
    for i in range(len(out)):
        row, own = out[i], start[i]
        for j in range(own, i):
            other = out[j]
            t = row[j]
            for k in range(max(own, start[j]), j):
                t -= row[k] * other[k]
            row[j] = t / other[j]
        s = row[i]
        floor = 1e-12 * s + 1e-300          # modes that held nodes removed: keep the factor finite
        for k in range(own, i):
            s -= row[k] * row[k]
        row[i] = np.sqrt(max(s, floor))


@njit(cache=True, nogil=True, fastmath={"contract"})
def substitute(factor, start, x):
    """Solve with such a factor, in place of the right side ``x``."""
    m = len(x)
    for i in range(m):
        s, row = x[i], factor[i]
        for k in range(start[i], i):
            s -= row[k] * x[k]
        x[i] = s / row[i]
    for i in range(m - 1, -1, -1):
        row = factor[i]
        c = x[i] / row[i]
        x[i] = c
        for k in range(start[i], i):
            x[k] -= row[k] * c


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def coarse_factor(elastic, rank, pair_ptr, pair_node, pair_coef, firm, free, aggregate, mode, out, start):
    """Cholesky factor (lower) of the coarse matrix with the contact part added, into ``out`` and ``start``.

    In it aggregate a comes as number ``rank[a]``.
    """
    n = len(elastic)
    for a in range(n // 12):
        for c in range(n // 12):
            for i in range(12):
                for j in range(12):
                    out[12 * rank[a] + i, 12 * rank[c] + j] = elastic[12 * a + i, 12 * c + j]
    touched = np.empty(n // 12, np.int64)
    weight = np.empty((n // 12, 4))
    for e in range(len(firm)):
        count = 0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i = pair_node[k]
            if free[i] == 0.0:
                continue
            a = rank[aggregate[i]]
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
        f = firm[e]
        xx, xy, xz, yy, yz, zz = f[0, 0], f[0, 1], f[0, 2], f[1, 1], f[1, 2], f[2, 2]
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
    find_starts(out, start)
    factorise(out, start)


@njit(cache=True, nogil=True, fastmath={"contract"})
def solve_coarse(r, factor, start, part_ptr, part_node, mode, coarse):
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
    substitute(factor, start, coarse)


@njit(cache=True, nogil=True)
def balance(left, x, mass, first, inertia, pair_ptr, pair_node, pair_coef, firm, body, loose, out):
    """Move each body as a whole, in ``out`` (n, 3) m, so that forces ``left`` (n, 3) N have no sum and no torque on it.

    Only bodies that are ``loose`` (bodies,) bool, with no node held, at ``x`` (n, 3): stiffness does not resist their
    moves, so inertia and contact say all.  An inexact solution then still keeps both momenta.
    """
    size = 6 * len(loose)
    matrix, shift, centre = np.zeros((size, size)), np.zeros(size), np.zeros((len(loose), 3))
    start = np.empty(size, np.int64)
    for b in range(len(loose)):
        centre_of(mass, x, first[b], first[b + 1], centre[b])
        if loose[b]:
            _add_body(left, x, inertia, first[b], first[b + 1], centre[b], matrix[6 * b:6 * b + 6, 6 * b:6 * b + 6],
                      shift[6 * b:6 * b + 6])
        else:
            for i in range(6 * b, 6 * b + 6):
                matrix[i, i] = 1.0
    weight, arms, met = np.empty(2), np.empty((2, 3)), np.empty(2, np.int64)
    for e in range(len(firm)):
        met[0], met[1] = body[pair_node[pair_ptr[e]]], body[pair_node[pair_ptr[e + 1] - 1]]
        sides = 1 if met[0] == met[1] else 2
        weight[:] = 0.0
        arms[:] = 0.0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i = pair_node[k]
            side = 0 if body[i] == met[0] else 1
            weight[side] += pair_coef[k]
            for a in range(3):
                arms[side, a] += pair_coef[k] * (x[i, a] - centre[met[side], a])
        for p in range(sides):
            for q in range(sides):
                if loose[met[p]] and loose[met[q]]:
                    _add_rigid(matrix, 6 * met[p], 6 * met[q], firm[e], weight[p], arms[p], weight[q], arms[q])
    find_starts(matrix, start)
    factorise(matrix, start)
    substitute(matrix, start, shift)
    for i in range(len(left)):
        b = body[i]
        t, u = shift[6 * b:6 * b + 3], shift[6 * b + 3:6 * b + 6]
        r0, r1, r2 = x[i, 0] - centre[b, 0], x[i, 1] - centre[b, 1], x[i, 2] - centre[b, 2]
        out[i, 0] += t[0] + u[1] * r2 - u[2] * r1
        out[i, 1] += t[1] + u[2] * r0 - u[0] * r2
        out[i, 2] += t[2] + u[0] * r1 - u[1] * r0


@njit(cache=True, nogil=True)
def _add_body(left, x, inertia, lo, hi, centre, matrix, shift):
    """Add how nodes lo .. hi resist shifts and turns about ``centre`` to ``matrix``, their forces to ``shift``."""
    total, s0, s1, s2 = 0.0, 0.0, 0.0, 0.0
    xx, yy, zz, xy, xz, yz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for i in range(lo, hi):
        m, r0, r1, r2 = inertia[i], x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
        total, s0, s1, s2 = total + m, s0 + m * r0, s1 + m * r1, s2 + m * r2
        xx, yy, zz = xx + m * r0 * r0, yy + m * r1 * r1, zz + m * r2 * r2
        xy, xz, yz = xy + m * r0 * r1, xz + m * r0 * r2, yz + m * r1 * r2
        for a in range(3):
            shift[a] += left[i, a]
        shift[3] += r1 * left[i, 2] - r2 * left[i, 1]
        shift[4] += r2 * left[i, 0] - r0 * left[i, 2]
        shift[5] += r0 * left[i, 1] - r1 * left[i, 0]
    matrix[0, 0] = matrix[1, 1] = matrix[2, 2] = total
    matrix[0, 4] = matrix[4, 0] = s2
    matrix[0, 5] = matrix[5, 0] = -s1
    matrix[1, 3] = matrix[3, 1] = -s2
    matrix[1, 5] = matrix[5, 1] = s0
    matrix[2, 3] = matrix[3, 2] = s1
    matrix[2, 4] = matrix[4, 2] = -s0
    matrix[3, 3], matrix[4, 4], matrix[5, 5] = yy + zz, xx + zz, xx + yy
    matrix[3, 4] = matrix[4, 3] = -xy
    matrix[3, 5] = matrix[5, 3] = -xz
    matrix[4, 5] = matrix[5, 4] = -yz


@njit(cache=True, nogil=True)
def _add_rigid(matrix, row, column, firm, weight, arm, other, reach):
    """Add Jᵀ firm J' to ``matrix`` at (row, column): J moves a point by weight t + θ × arm, J' likewise."""
    one, two, part = np.zeros((6, 3)), np.zeros((6, 3)), np.zeros(3)
    _rigid(weight, arm, one)
    _rigid(other, reach, two)
    for j in range(6):
        for a in range(3):
            part[a] = firm[a, 0] * two[j, 0] + firm[a, 1] * two[j, 1] + firm[a, 2] * two[j, 2]
        for i in range(6):
            matrix[row + i, column + j] += one[i, 0] * part[0] + one[i, 1] * part[1] + one[i, 2] * part[2]


@njit(cache=True, nogil=True)
def _rigid(weight, arm, out):
    """How a point moves with each of six rigid motions (6, 3): three shifts, three turns about the centre."""
    for a in range(3):
        out[a, a] = weight
    out[3, 1], out[3, 2] = -arm[2], arm[1]
    out[4, 0], out[4, 2] = arm[2], -arm[0]
    out[5, 0], out[5, 1] = -arm[1], arm[0]
