"""Bending: edges between two triangles that resist to fold away from their angle at rest.

Energy k/2 (θ - θ0)² of the angle θ between the triangles, 0 where they are flat, with k = D L² / (A1 + A2), N m, from
the bending stiffness D, N m, the length of the edge and the areas (Grinspun et al. 2003; Wardetzky et al. 2007).
"""

import numpy as np
from numba import njit, prange

from rubberquince.kernels import LEAN

PAIRS = np.array([(0, 0), (0, 1), (0, 2), (0, 3), (1, 1), (1, 2), (1, 3), (2, 2), (2, 3), (3, 3)])


@njit(cache=True, nogil=True)
def fold(x, four, slope):
    """The angle, rad, of hinge ``four``: the edge's two ends and the two points opposite; its gradient (4, 3), 1/m.

    It is above zero where both triangles, wound along and against the edge, fold away from their normals.
    """
    a, b, c, d = four[0], four[1], four[2], four[3]
    e0, e1, e2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    c0, c1, c2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    d0, d1, d2 = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
    n0, n1, n2 = e1 * c2 - e2 * c1, e2 * c0 - e0 * c2, e0 * c1 - e1 * c0
    m0, m1, m2 = d1 * e2 - d2 * e1, d2 * e0 - d0 * e2, d0 * e1 - d1 * e0
    length = np.sqrt(e0 * e0 + e1 * e1 + e2 * e2)
    nn, mm = n0 * n0 + n1 * n1 + n2 * n2, m0 * m0 + m1 * m1 + m2 * m2
    if not (length > 0.0 and nn > 0.0 and mm > 0.0):
        slope[:] = 0.0
        return 0.0
    across = ((n1 * m2 - n2 * m1) * e0 + (n2 * m0 - n0 * m2) * e1 + (n0 * m1 - n1 * m0) * e2) / length
    angle = np.arctan2(across, n0 * m0 + n1 * m1 + n2 * m2)
    sc, sd = (c0 * e0 + c1 * e1 + c2 * e2) / (length * length), (d0 * e0 + d1 * e1 + d2 * e2) / (length * length)
    for i in range(3):
        n = (n0, n1, n2)[i] * length / nn
        m = (m0, m1, m2)[i] * length / mm
        slope[2, i], slope[3, i] = -n, -m
        slope[0, i] = (1.0 - sc) * n + (1.0 - sd) * m
        slope[1, i] = sc * n + sd * m
    return angle


@njit(cache=True, nogil=True)
def _turn(angle, rest):
    """From ``rest`` to ``angle``, the short way round."""
    return (angle - rest + np.pi) % (2.0 * np.pi) - np.pi


@njit(cache=True, nogil=True, fastmath={"contract"})
def _angle(x, four):
    """The angle of a hinge alone; see fold."""
    a, b, c, d = four[0], four[1], four[2], four[3]
    e0, e1, e2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    c0, c1, c2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    d0, d1, d2 = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
    n0, n1, n2 = e1 * c2 - e2 * c1, e2 * c0 - e0 * c2, e0 * c1 - e1 * c0
    m0, m1, m2 = d1 * e2 - d2 * e1, d2 * e0 - d0 * e2, d0 * e1 - d1 * e0
    length = np.sqrt(e0 * e0 + e1 * e1 + e2 * e2)
    if not (length > 0.0 and n0 * n0 + n1 * n1 + n2 * n2 > 0.0 and m0 * m0 + m1 * m1 + m2 * m2 > 0.0):
        return 0.0
    across = ((n1 * m2 - n2 * m1) * e0 + (n2 * m0 - n0 * m2) * e1 + (n0 * m1 - n1 * m0) * e2) / length
    return np.arctan2(across, n0 * m0 + n1 * m1 + n2 * m2)


@njit(**LEAN)
def bending_energy(lo, hi, x, hinge, stiffness, rest):
    """Energy, J, of hinges lo .. hi of all (h, 4), of ``stiffness`` (h,), N m, and angles at ``rest`` (h,)."""
    total = 0.0
    for e in range(lo, hi):
        total += 0.5 * stiffness[e] * _turn(_angle(x, hinge[e]), rest[e]) ** 2
    return total


@njit(cache=True, nogil=True, parallel=True)
def bending_energy_all(parts, x, hinge, stiffness, rest):
    """The same of all hinges; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(hinge), len(parts)
    for c in prange(chunks):
        parts[c] = bending_energy(c * n // chunks, (c + 1) * n // chunks, x, hinge, stiffness, rest)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total


@njit(cache=True, nogil=True)
def add_bending_gradient(x, hinge, stiffness, rest, out):
    """Gradient of the energy, N, added to ``out`` (n, 3)."""
    slope = np.empty((4, 3))
    for e in range(len(hinge)):
        moment = stiffness[e] * _turn(fold(x, hinge[e], slope), rest[e])
        for k in range(4):
            for i in range(3):
                out[hinge[e, k], i] += moment * slope[k, i]


@njit(cache=True, nogil=True)
def bending_blocks(lo, hi, x, hinge, stiffness, out):
    """Gauss-Newton second derivatives, N/m, between corners PAIRS of hinges lo .. hi into ``out`` (h, 10, 9)."""
    slope = np.empty((4, 3))
    for e in range(lo, hi):
        fold(x, hinge[e], slope)
        p = 0
        for n in range(4):
            for m in range(n, 4):
                for i in range(3):
                    s = stiffness[e] * slope[n, i]
                    for j in range(3):
                        out[e, p, 3 * i + j] = s * slope[m, j]
                p += 1


@njit(cache=True, nogil=True, parallel=True)
def bending_blocks_all(chunks, x, hinge, stiffness, out):
    n = len(hinge)
    for c in prange(chunks):
        bending_blocks(c * n // chunks, (c + 1) * n // chunks, x, hinge, stiffness, out)


@njit(cache=True, nogil=True)
def angles(x, hinge, out):
    """The angle, rad, of each hinge into ``out`` (h,)."""
    for e in range(len(hinge)):
        out[e] = _angle(x, hinge[e])
