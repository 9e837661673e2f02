"""The linear system of one Newton step: block rows, a coarse space, preconditioned conjugate gradients.

The matrix is  A = diag(inertia) + stretch·K + Cᵀ firm C,  with K in 3x3 block rows (float32) and the contact part kept
as a short list of pairs.  A pair is one point-to-point relation ``Σ coef·x[node]`` of at most sixteen nodes, with its
stiffness firm (3, 3).  A gas adds  firm g gᵀ,  with the slope g of its volume at all nodes of its body.

Preconditioner: the exact 3x3 diagonal blocks, with gases (Sherman, Morrison 1950), plus an additive coarse space of
twelve affine modes an aggregate of nodes (a two-level additive Schwarz method, e.g. Smith, Bjørstad, Gropp 1996,
ch. 2).  Without the coarse space the count of iterations grows with stiffness and with the size of a body.
"""

import numpy as np
from numba import float32, njit, prange, uint64

from rubberquince.kernels.coarse import solve_coarse

SINGULAR = 1e-15            # determinant of a diagonal block, of the cube of its mean


@njit(cache=True, nogil=True, fastmath={"contract"})
def gather_blocks_range(lo, hi, source, upper, mirror, ptr, item, flip, out):
    """Sum per-octahedron blocks ``source`` (·, 9) into matrix blocks of ``out`` (nnz, 9): ``upper`` lo .. hi of them.

    The matrix is symmetric: each goes, turned over, into its mirror image too.
    """
    parts, flat, nine = source.reshape(-1), out.reshape(-1), uint64(9)
    one, two, three, four, five = uint64(1), uint64(2), uint64(3), uint64(4), uint64(5)
    six, seven, eight, none = uint64(6), uint64(7), uint64(8), float32(0.0)
    for k in range(uint64(lo), uint64(hi)):
        a0, a1, a2, a3, a4, a5, a6, a7, a8 = none, none, none, none, none, none, none, none, none
        b1, b2, b3, b5, b6, b7 = none, none, none, none, none, none
        for e in range(uint64(ptr[k]), uint64(ptr[k + one])):
            s = nine * uint64(item[e])
            a0, a4, a8 = a0 + parts[s], a4 + parts[s + four], a8 + parts[s + eight]
            if flip[e]:
                b1, b2, b3 = b1 + parts[s + one], b2 + parts[s + two], b3 + parts[s + three]
                b5, b6, b7 = b5 + parts[s + five], b6 + parts[s + six], b7 + parts[s + seven]
            else:
                a1, a2, a3 = a1 + parts[s + one], a2 + parts[s + two], a3 + parts[s + three]
                a5, a6, a7 = a5 + parts[s + five], a6 + parts[s + six], a7 + parts[s + seven]
        a1, a2, a3, a5, a6, a7 = a1 + b3, a2 + b6, a3 + b1, a5 + b7, a6 + b2, a7 + b5
        m, q = nine * uint64(mirror[k]), nine * uint64(upper[k])
        flat[m], flat[m + one], flat[m + two], flat[m + three], flat[m + four] = a0, a3, a6, a1, a4
        flat[m + five], flat[m + six], flat[m + seven], flat[m + eight] = a7, a2, a5, a8
        flat[q], flat[q + one], flat[q + two], flat[q + three], flat[q + four] = a0, a1, a2, a3, a4
        flat[q + five], flat[q + six], flat[q + seven], flat[q + eight] = a5, a6, a7, a8


@njit(cache=True, nogil=True, parallel=True)
def gather_blocks(chunks, source, upper, mirror, ptr, item, flip, out):
    n = len(upper)
    for c in prange(chunks):
        gather_blocks_range(c * n // chunks, (c + 1) * n // chunks, source, upper, mirror, ptr, item, flip, out)


@njit(cache=True, nogil=True, fastmath={"contract"})
def _row(b, x, col, begin, end):
    """Product of one block row with ``x``.

    Flat arrays and unsigned indices: signed ones cost a test for "counted from the end" at every access.
    """
    one, two = uint64(1), uint64(2)
    sx, sy, sz = float32(0.0), float32(0.0), float32(0.0)
    for k in range(begin, end):
        j, q = uint64(3) * col[k], uint64(9) * k
        px, py, pz = x[j], x[j + one], x[j + two]
        sx += b[q] * px + b[q + one] * py + b[q + two] * pz
        sy += b[q + uint64(3)] * px + b[q + uint64(4)] * py + b[q + uint64(5)] * pz
        sz += b[q + uint64(6)] * px + b[q + uint64(7)] * py + b[q + uint64(8)] * pz
    return sx, sy, sz


@njit(cache=True, nogil=True, fastmath={"contract"})
def product_range(lo, hi, row_ptr, col, blocks, stretch, inertia, p, y):
    """y = (diag(inertia) + stretch·K) p for rows lo .. hi; ``p`` and ``y`` are (n, 3) float32."""
    b, x, out = blocks.reshape(-1), p.reshape(-1), y.reshape(-1)
    one, two = uint64(1), uint64(2)
    for i in range(uint64(lo), uint64(hi)):
        sx, sy, sz = _row(b, x, col, row_ptr[i], row_ptr[i + one])
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
def add_pair_product(pair_ptr, pair_node, pair_coef, firm, p, y):
    """y += Cᵀ firm C p."""
    for e in range(len(firm)):
        tx, ty, tz = 0.0, 0.0, 0.0
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i, c = pair_node[k], pair_coef[k]
            tx += c * p[i, 0]
            ty += c * p[i, 1]
            tz += c * p[i, 2]
        f = firm[e]
        fx = f[0, 0] * tx + f[0, 1] * ty + f[0, 2] * tz
        fy = f[1, 0] * tx + f[1, 1] * ty + f[1, 2] * tz
        fz = f[2, 0] * tx + f[2, 1] * ty + f[2, 2] * tz
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            i, c = pair_node[k], pair_coef[k]
            y[i, 0] += c * fx
            y[i, 1] += c * fy
            y[i, 2] += c * fz


@njit(cache=True, nogil=True)
def diagonal_inverse(diagonal, blocks, stretch, inertia, pair_ptr, pair_node, pair_coef, firm, free, out):
    """Inverses of the exact 3x3 diagonal blocks of A into ``out`` (n, 9); held nodes get zero."""
    n = uint64(len(diagonal))
    flat, values, nine, four = out.reshape(-1), blocks.reshape(-1), uint64(9), uint64(4)
    for i in range(n):
        at, own = nine * uint64(diagonal[i]), nine * i
        for j in range(nine):
            flat[own + j] = stretch[i] * values[at + j]
        for j in range(uint64(3)):
            flat[own + four * j] += inertia[i]
    for e in range(len(firm)):
        for k in range(pair_ptr[e], pair_ptr[e + 1]):
            own, c2 = nine * uint64(pair_node[k]), pair_coef[k] * pair_coef[k]
            for a in range(3):
                for b in range(3):
                    flat[own + uint64(3 * a + b)] += c2 * firm[e, a, b]
    for i in range(n):
        q = nine * i
        a, b, c, d, e_, f = flat[q], flat[q + uint64(1)], flat[q + uint64(2)], flat[q + uint64(3)], \
            flat[q + four], flat[q + uint64(5)]
        g, h, k_ = flat[q + uint64(6)], flat[q + uint64(7)], flat[q + uint64(8)]
        c0, c1, c2 = e_ * k_ - f * h, f * g - d * k_, d * h - e_ * g
        det, mean = a * c0 + b * c1 + c * c2, (a + e_ + k_) / 3.0
        if not det > SINGULAR * mean * mean * mean:         # so stiff in one direction that rounding took the others
            for j in range(nine):
                flat[q + j] = 0.0
            flat[q] = flat[q + four] = flat[q + uint64(8)] = free[i] / max(mean, 1e-300)
            continue
        r = free[i] / det
        flat[q], flat[q + uint64(1)], flat[q + uint64(2)] = c0 * r, (c * h - b * k_) * r, (b * f - c * e_) * r
        flat[q + uint64(3)], flat[q + four], flat[q + uint64(5)] = c1 * r, (a * k_ - c * g) * r, (c * d - a * f) * r
        flat[q + uint64(6)], flat[q + uint64(7)] = c2 * r, (b * g - a * h) * r
        flat[q + uint64(8)] = (a * e_ - b * d) * r


@njit(cache=True, nogil=True)
def compliance(diagonal, blocks, stretch, inertia, free, out):
    """What each node gives way to a force, m/N, into ``out`` (n,): from the mean of its diagonal block; held: 0."""
    for i in range(len(diagonal)):
        k = diagonal[i]
        out[i] = free[i] / (inertia[i] + stretch[i] * (blocks[k, 0] + blocks[k, 4] + blocks[k, 8]) / 3.0)


@njit(cache=True, nogil=True)
def softened(ranges, slope, firm, inverse, soft, give):
    """What gases leave of the inverse: D⁻¹ - Σ give·soft softᵀ, with ``soft`` (n, 3) = D⁻¹ slope and ``give`` (gases,).

    Gas e has the nodes ``ranges[e, 0] .. ranges[e, 1]``, none of which belongs to another.
    """
    for e in range(len(firm)):
        met = 0.0
        for i in range(ranges[e, 0], ranges[e, 1]):
            for a in range(3):
                soft[i, a] = (inverse[i, 3 * a] * slope[i, 0] + inverse[i, 3 * a + 1] * slope[i, 1]
                              + inverse[i, 3 * a + 2] * slope[i, 2])
                met += slope[i, a] * soft[i, a]
        give[e] = firm[e] / (1.0 + firm[e] * met)


@njit(cache=True, nogil=True)
def add_along(ranges, slope, firm, x, y):
    """y += Σ firm·slope slopeᵀ x, a range of nodes each; ``x`` and ``y`` are (n, 3)."""
    for e in range(len(firm)):
        along = 0.0
        for i in range(ranges[e, 0], ranges[e, 1]):
            along += slope[i, 0] * x[i, 0] + slope[i, 1] * x[i, 1] + slope[i, 2] * x[i, 2]
        along *= firm[e]
        for i in range(ranges[e, 0], ranges[e, 1]):
            y[i, 0] += along * slope[i, 0]
            y[i, 1] += along * slope[i, 1]
            y[i, 2] += along * slope[i, 2]


@njit(cache=True, nogil=True, fastmath={"contract"})
def precondition(r, inverse, factor, start, part_ptr, part_node, mode, coarse, z):
    """z = D⁻¹ r + P (PᵀAP)⁻¹ Pᵀ r; ``r`` and ``z`` are flat (3n,), ``coarse`` (12·aggregates,) is scratch.

    Aggregate a holds the nodes ``part_node[part_ptr[a]:part_ptr[a + 1]]``; ``mode`` (n, 4) is zero at held ones.
    """
    d, modes = inverse.reshape(-1), mode.reshape(-1)
    one, two, three, four, nine = uint64(1), uint64(2), uint64(3), uint64(4), uint64(9)
    solve_coarse(r, factor, start, part_ptr, part_node, mode, coarse)
    for a in range(len(part_ptr) - 1):
        own = coarse[12 * a:12 * a + 12]
        s00, s01, s02, s10, s11, s12 = own[0], own[1], own[2], own[3], own[4], own[5]
        s20, s21, s22, s30, s31, s32 = own[6], own[7], own[8], own[9], own[10], own[11]
        for k in range(uint64(part_ptr[a]), uint64(part_ptr[a + 1])):
            i = uint64(part_node[k])
            x, y, w, q, v = r[three * i], r[three * i + one], r[three * i + two], four * i, nine * i
            c0, c1, c2, c3 = modes[q], modes[q + one], modes[q + two], modes[q + three]
            z[three * i] = (d[v] * x + d[v + one] * y + d[v + two] * w
                            + c0 * s00 + c1 * s10 + c2 * s20 + c3 * s30)
            z[three * i + one] = (d[v + three] * x + d[v + four] * y + d[v + uint64(5)] * w
                                  + c0 * s01 + c1 * s11 + c2 * s21 + c3 * s31)
            z[three * i + two] = (d[v + uint64(6)] * x + d[v + uint64(7)] * y + d[v + uint64(8)] * w
                                  + c0 * s02 + c1 * s12 + c2 * s22 + c3 * s32)


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def dot(a, b):
    """Sum of products of two flat arrays, in double precision."""
    s = 0.0
    for i in range(uint64(len(a))):
        s += np.float64(a[i]) * np.float64(b[i])
    return s


@njit(cache=True, nogil=True, fastmath={"contract"})
def _advance(step, p, y, out, r):
    """One step along ``p`` (flat, float32), of which the matrix makes ``y``."""
    for i in range(uint64(len(p))):
        out[i] += step * p[i]
        r[i] -= step * y[i]


@njit(cache=True, nogil=True, fastmath={"contract"})
def _turn(z, grow, p):
    for i in range(uint64(len(p))):
        p[i] = z[i] + grow * p[i]


@njit(cache=True, nogil=True)
def conjugate_gradients(chunks, rhs, tolerance, limit, row_ptr, col, blocks, stretch, inertia, pair_ptr, pair_node,
                        pair_coef, firm, ranges, slope, gas, inverse, factor, start, part_ptr, part_node, mode, out,
                        left):
    """Solve A·out = rhs to a relative residual (in the preconditioned norm); returns the iterations.

    Parameters
    ----------
    rhs : (n, 3) float64, N.  gas : (gases,) N/m⁵, with ``slope`` (n, 3), m², of nodes in ``ranges`` (gases, 2).
    out : (n, 3) float64, m, overwritten; held nodes stay at zero, because the preconditioner gives them none of the
    residual.  left : (n, 3) float64, N, what is left of it.
    """
    n = len(rhs)
    r, z = rhs.copy().reshape(-1), np.empty(3 * n)
    p, y = np.empty((n, 3), np.float32), np.empty((n, 3), np.float32)
    flat_p, flat_y, flat_out = p.reshape(-1), y.reshape(-1), out.reshape(-1)
    coarse, soft, give = np.empty(len(factor)), np.empty(slope.shape), np.empty(len(gas))
    node_r, node_z = r.reshape(n, 3), z.reshape(n, 3)
    softened(ranges, slope, gas, inverse, soft, give)
    flat_out[:] = 0.0
    precondition(r, inverse, factor, start, part_ptr, part_node, mode, coarse, z)
    add_along(ranges, soft, -give, node_r, node_z)
    flat_p[:] = z
    rz = dot(r, z)
    goal = rz * tolerance * tolerance
    iterations = 0
    while iterations < limit:
        if rz <= goal or rz <= 0.0:
            break
        if chunks == 1:
            product_range(0, n, row_ptr, col, blocks, stretch, inertia, p, y)
        else:
            product_all(chunks, row_ptr, col, blocks, stretch, inertia, p, y)
        add_pair_product(pair_ptr, pair_node, pair_coef, firm, p, y)
        add_along(ranges, slope, gas, p, y)
        py = dot(flat_p, flat_y)
        if py <= 0.0:
            break
        _advance(rz / py, flat_p, flat_y, flat_out, r)
        precondition(r, inverse, factor, start, part_ptr, part_node, mode, coarse, z)
        add_along(ranges, soft, -give, node_r, node_z)
        fresh = dot(r, z)
        _turn(z, fresh / rz, flat_p)
        rz = fresh
        iterations += 1
    left[:] = r.reshape(n, 3)
    return iterations


@njit(cache=True, nogil=True, fastmath={"contract"})
def quadratic_form_range(lo, hi, row_ptr, col, blocks, stretch, p):
    """Σ pᵢ · stretch·(K p)ᵢ over rows lo .. hi; ``p`` (n, 3) float32."""
    b, x = blocks.reshape(-1), p.reshape(-1)
    one, two = uint64(1), uint64(2)
    total = 0.0
    for i in range(uint64(lo), uint64(hi)):
        sx, sy, sz = _row(b, x, col, row_ptr[i], row_ptr[i + one])
        r = uint64(3) * i
        total += stretch[i] * (x[r] * sx + x[r + one] * sy + x[r + two] * sz)
    return total


@njit(cache=True, nogil=True, parallel=True)
def quadratic_form_all(row_ptr, col, blocks, stretch, p, parts):
    """The whole form; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(row_ptr) - 1, len(parts)
    for c in prange(chunks):
        parts[c] = quadratic_form_range(c * n // chunks, (c + 1) * n // chunks, row_ptr, col, blocks, stretch, p)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total
