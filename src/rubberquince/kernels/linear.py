"""The linear system of one Newton step: block rows, a coarse space, preconditioned conjugate gradients.

The matrix is  A = diag(inertia) + stretch·K + Cᵀ(kn n nᵀ + kf (I - n nᵀ))C,  with K in 3x3 block rows
(float32) and the contact part kept as a short list of pairs.  A pair is one point-to-point relation
``Σ coef·x[node]`` with a normal n; it touches at most sixteen nodes.

Preconditioner: the exact 3x3 diagonal blocks plus an additive coarse space of twelve affine modes an
aggregate of nodes (a two-level additive Schwarz method, e.g. Smith, Bjørstad, Gropp 1996, ch. 2).
Without the coarse space the count of iterations grows with stiffness and with the size of a body.
"""

import numpy as np
from numba import float32, njit, prange, uint64


@njit(cache=True, nogil=True)
def gather_blocks_range(lo, hi, source, ptr, item, flip, out):
    """Sum per-octahedron blocks ``source`` (·, 9) into matrix blocks lo .. hi of ``out`` (nnz, 9)."""
    for k in range(lo, hi):
        for i in range(9):
            out[k, i] = 0.0
        for e in range(ptr[k], ptr[k + 1]):
            s = source[item[e]]
            if flip[e]:
                for i in range(3):
                    for j in range(3):
                        out[k, 3 * i + j] += s[3 * j + i]
            else:
                for i in range(9):
                    out[k, i] += s[i]


@njit(cache=True, nogil=True, parallel=True)
def gather_blocks(chunks, source, ptr, item, flip, out):
    n = len(out)
    for c in prange(chunks):
        gather_blocks_range(c * n // chunks, (c + 1) * n // chunks, source, ptr, item, flip, out)


@njit(cache=True, nogil=True, fastmath={"contract"})
def product_range(lo, hi, row_ptr, col, blocks, stretch, inertia, p, y):
    """y = (diag(inertia) + stretch·K) p for rows lo .. hi; ``p`` and ``y`` are (n, 3) float32.

    Flat arrays and unsigned indices: signed ones cost a test for "counted from the end" at every access.
    """
    b, x, out = blocks.reshape(-1), p.reshape(-1), y.reshape(-1)
    one, two = uint64(1), uint64(2)
    for i in range(uint64(lo), uint64(hi)):
        sx, sy, sz = float32(0.0), float32(0.0), float32(0.0)
        for k in range(row_ptr[i], row_ptr[i + one]):
            j, q = uint64(3) * col[k], uint64(9) * k
            px, py, pz = x[j], x[j + one], x[j + two]
            sx += b[q] * px + b[q + one] * py + b[q + two] * pz
            sy += b[q + uint64(3)] * px + b[q + uint64(4)] * py + b[q + uint64(5)] * pz
            sz += b[q + uint64(6)] * px + b[q + uint64(7)] * py + b[q + uint64(8)] * pz
        s, m, r = stretch[i], inertia[i], uint64(3) * i
        out[r] = s * sx + m * x[r]
        out[r + one] = s * sy + m * x[r + one]
        out[r + two] = s * sz + m * x[r + two]


@njit(cache=True, nogil=True, parallel=True)
def product_all(chunks, row_ptr, col, blocks, stretch, inertia, p, y):
    n = len(row_ptr) - 1
    for c in prange(chunks):
        product_range(c * n // chunks, (c + 1) * n // chunks, row_ptr, col, blocks, stretch, inertia, p, y)


@njit(cache=True, nogil=True)
def add_pair_product(pair_ptr, pair_node, pair_coef, normal, kn, kf, p, y):
    """y += Cᵀ(kn n nᵀ + kf (I - n nᵀ))C p."""
    for e in range(len(kn)):
        tx, ty, tz = 0.0, 0.0, 0.0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i, c = pair_node[k], pair_coef[k]
            tx += c * p[i, 0]
            ty += c * p[i, 1]
            tz += c * p[i, 2]
        nx, ny, nz = normal[e, 0], normal[e, 1], normal[e, 2]
        along = (kn[e] - kf[e]) * (nx * tx + ny * ty + nz * tz)
        fx, fy, fz = along * nx + kf[e] * tx, along * ny + kf[e] * ty, along * nz + kf[e] * tz
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i, c = pair_node[k], pair_coef[k]
            y[i, 0] += c * fx
            y[i, 1] += c * fy
            y[i, 2] += c * fz


@njit(cache=True, nogil=True)
def diagonal_inverse(diagonal, blocks, stretch, inertia, pair_ptr, pair_node, pair_coef, normal, kn, kf, free,
                     out):
    """Inverses of the exact 3x3 diagonal blocks of A into ``out`` (n, 9); held nodes get zero."""
    n = len(diagonal)
    for i in range(n):
        for j in range(9):
            out[i, j] = stretch[i] * blocks[diagonal[i], j]
        out[i, 0] += inertia[i]
        out[i, 4] += inertia[i]
        out[i, 8] += inertia[i]
    for e in range(len(kn)):
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            c2 = pair_coef[k] * pair_coef[k]
            d = out[pair_node[k]]
            for i in range(3):
                d[4 * i] += c2 * kf[e]
                for j in range(3):
                    d[3 * i + j] += c2 * (kn[e] - kf[e]) * normal[e, i] * normal[e, j]
    for i in range(n):
        a, b, c, d, e_, f, g, h, k_ = (out[i, 0], out[i, 1], out[i, 2], out[i, 3], out[i, 4],
                                       out[i, 5], out[i, 6], out[i, 7], out[i, 8])
        c0, c1, c2 = e_ * k_ - f * h, f * g - d * k_, d * h - e_ * g
        r = free[i] / (a * c0 + b * c1 + c * c2)
        out[i, 0], out[i, 1], out[i, 2] = c0 * r, (c * h - b * k_) * r, (b * f - c * e_) * r
        out[i, 3], out[i, 4], out[i, 5] = c1 * r, (a * k_ - c * g) * r, (c * d - a * f) * r
        out[i, 6], out[i, 7], out[i, 8] = c2 * r, (b * g - a * h) * r, (a * e_ - b * d) * r


@njit(cache=True, nogil=True)
def coarse_elastic(row_ptr, col, blocks, stretch, inertia, free, aggregate, mode, out):
    """Pᵀ(diag(inertia) + stretch·K)P into ``out`` (12·aggregates, 12·aggregates).

    Row by row: first Σ block · mode over the row for each aggregate met, then its spread over the row's
    own modes; most rows meet one aggregate only.
    """
    out[:] = 0.0
    part = np.zeros((len(out) // 12, 4, 3, 3))
    for i in range(len(row_ptr) - 1):
        if free[i] == 0.0:
            continue
        for k in range(row_ptr[i], row_ptr[i + 1]):
            j = col[k]
            if free[j] == 0.0:
                continue
            sums = part[aggregate[j]]
            for v in range(4):
                w = mode[j, v] * stretch[i]
                for a in range(3):
                    for b in range(3):
                        sums[v, a, b] += w * blocks[k, 3 * a + b]
                if i == j:
                    for a in range(3):
                        sums[v, a, a] += mode[j, v] * inertia[i]
        for k in range(row_ptr[i], row_ptr[i + 1]):
            at = aggregate[col[k]]
            sums = part[at]
            if sums[0, 0, 0] == 0.0:
                continue                    # spread already
            for u in range(4):
                w = mode[i, u]
                for v in range(4):
                    for a in range(3):
                        for b in range(3):
                            out[12 * aggregate[i] + 3 * u + a, 12 * at + 3 * v + b] += w * sums[v, a, b]
            sums[:] = 0.0


@njit(cache=True, nogil=True)
def coarse_factor(elastic, pair_ptr, pair_node, pair_coef, normal, kn, kf, free, aggregate, mode, out):
    """Cholesky factor (lower) of the coarse matrix with the contact part added, into ``out``."""
    n = len(elastic)
    out[:] = elastic
    touched = np.empty(16, np.int64)
    weight = np.empty((16, 4))
    for e in range(len(kn)):
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
        for s in range(count):
            for t in range(count):
                for u in range(4):
                    for v in range(4):
                        w = weight[s, u] * weight[t, v]
                        row, column = 12 * touched[s] + 3 * u, 12 * touched[t] + 3 * v
                        for i in range(3):
                            out[row + i, column + i] += w * kf[e]
                            for j in range(3):
                                out[row + i, column + j] += w * (kn[e] - kf[e]) * normal[e, i] * normal[e, j]
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


@njit(cache=True, nogil=True)
def precondition(r, inverse, factor, aggregate, mode, free, coarse, z):
    """z = D⁻¹ r + P (PᵀAP)⁻¹ Pᵀ r; ``coarse`` (12·aggregates,) is scratch."""
    n, m = len(r), len(coarse)
    for k in range(m):
        coarse[k] = 0.0
    for i in range(n):
        if free[i] == 0.0:
            continue
        base = 12 * aggregate[i]
        for u in range(4):
            w = mode[i, u]
            coarse[base + 3 * u] += w * r[i, 0]
            coarse[base + 3 * u + 1] += w * r[i, 1]
            coarse[base + 3 * u + 2] += w * r[i, 2]
    for i in range(m):
        s = coarse[i]
        for k in range(i):
            s -= factor[i, k] * coarse[k]
        coarse[i] = s / factor[i, i]
    for i in range(m - 1, -1, -1):
        c = coarse[i] / factor[i, i]
        coarse[i] = c
        for k in range(i):
            coarse[k] -= factor[i, k] * c
    for i in range(n):
        base = 12 * aggregate[i]
        d = inverse[i]
        for a in range(3):
            s = d[3 * a] * r[i, 0] + d[3 * a + 1] * r[i, 1] + d[3 * a + 2] * r[i, 2]
            if free[i] != 0.0:
                for u in range(4):
                    s += mode[i, u] * coarse[base + 3 * u + a]
            z[i, a] = s


@njit(cache=True, nogil=True)
def dot(a, b):
    s = 0.0
    for i in range(len(a)):
        s += a[i, 0] * b[i, 0] + a[i, 1] * b[i, 1] + a[i, 2] * b[i, 2]
    return s


@njit(cache=True, nogil=True)
def conjugate_gradients(chunks, rhs, tolerance, limit, row_ptr, col, blocks, stretch, inertia, free,
                        pair_ptr, pair_node, pair_coef, normal, kn, kf, inverse, factor, aggregate, mode, out):
    """Solve A·out = rhs to a relative residual (in the preconditioned norm); returns the iterations.

    Parameters
    ----------
    rhs : (n, 3) float64, N.  out : (n, 3) float64, m, overwritten; held nodes (free = 0) stay at zero.
    """
    n = len(rhs)
    r, z = np.empty_like(rhs), np.empty_like(rhs)
    p, y = np.empty((n, 3), np.float32), np.empty((n, 3), np.float32)
    coarse = np.empty(len(factor))
    for i in range(n):
        for a in range(3):
            r[i, a] = rhs[i, a] * free[i]
            out[i, a] = 0.0
    precondition(r, inverse, factor, aggregate, mode, free, coarse, z)
    p[:] = z
    rz = dot(r, z)
    goal = rz * tolerance * tolerance
    for iteration in range(limit):
        if rz <= goal or rz <= 0.0:
            return iteration
        if chunks == 1:
            product_range(0, n, row_ptr, col, blocks, stretch, inertia, p, y)
        else:
            product_all(chunks, row_ptr, col, blocks, stretch, inertia, p, y)
        add_pair_product(pair_ptr, pair_node, pair_coef, normal, kn, kf, p, y)
        py = dot(p, y)
        if py <= 0.0:
            return iteration
        step = rz / py
        for i in range(n):
            f = free[i]
            for a in range(3):
                out[i, a] += step * p[i, a]
                r[i, a] = f * (r[i, a] - step * y[i, a])
        precondition(r, inverse, factor, aggregate, mode, free, coarse, z)
        fresh = dot(r, z)
        grow = fresh / rz
        rz = fresh
        for i in range(n):
            for a in range(3):
                p[i, a] = z[i, a] + grow * p[i, a]
    return limit
