"""Membranes: triangles that resist stretching and shear in their plane, and squeezing as much as they are told to.

St. Venant-Kirchhoff in principal stretches s1 >= s2, with e = (s² - 1) / 2, Y in N/m and Poisson's ratio ν::

    full     Y / (2 (1 - ν²)) (e1² + 2 ν e1 e2 + e2²)
    slack    0 where e1 <= 0,  Y / 2 e1² where e2 < -ν e1,  else full          (Pipkin 1986)

    beyond   HARD Y / 2 (s - most)² more, of either stretch s that is above ``most``

A skin that buckles finer than its triangles is slack when squeezed; ``firm`` 0 .. 1 is the share of the full energy.
Blocks are positive semidefinite: eigenvalues below zero are taken as zero, in closed form (Poya, Gil, Ortigosa 2023).
"""

import numpy as np
from numba import njit, prange

from rubberquince.kernels import LEAN

HARD = 50.0                 # how much stiffer a skin is beyond the most that it stretches
PAIRS = np.array([(0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2)])      # corners of the blocks of a triangle


@njit(**LEAN)
def _law(s1, s2, y, nu, firm, most):
    """Slopes p1, p2 of the energy per area by the stretches, N/m, and second slopes h11, h12, h22."""
    e1, e2 = 0.5 * (s1 * s1 - 1.0), 0.5 * (s2 * s2 - 1.0)
    k = y / (1.0 - nu * nu)
    share, alone = firm, 0.0            # of the full law, and of that of one stretched direction
    if e1 > 0.0:
        if e2 < -nu * e1:
            alone = 1.0 - firm
        else:
            share = 1.0
    g1, g2 = share * k * (e1 + nu * e2) + alone * y * e1, share * k * (e2 + nu * e1)
    d11, d12, d22 = share * k + alone * y, share * k * nu, share * k
    p1, p2, h11, h22 = g1 * s1, g2 * s2, d11 * s1 * s1 + g1, d22 * s2 * s2 + g2
    if s1 > most:
        p1, h11 = p1 + HARD * y * (s1 - most), h11 + HARD * y
    if s2 > most:
        p2, h22 = p2 + HARD * y * (s2 - most), h22 + HARD * y
    return p1, p2, h11, d12 * s1 * s2, h22


@njit(**LEAN)
def _stretches(x, tri, shape, u, v):
    """Principal stretches (s1 >= s2); ``u`` (3, 3) gets their directions and the normal, ``v`` (2, 2) those at rest."""
    a, b, c = 0.0, 0.0, 0.0
    for i in range(3):
        p, q, r = x[tri[0], i], x[tri[1], i], x[tri[2], i]
        f = p * shape[0, 0] + q * shape[1, 0] + r * shape[2, 0]
        g = p * shape[0, 1] + q * shape[1, 1] + r * shape[2, 1]
        u[0, i], u[1, i] = f, g
        a, b, c = a + f * f, b + f * g, c + g * g
    half = 0.5 * (a - c)
    root = np.sqrt(half * half + b * b)
    s1 = np.sqrt(max(0.5 * (a + c) + root, 0.0))
    s2 = np.sqrt(max(0.5 * (a + c) - root, 0.0))
    double = half / root if root > 1e-30 else 1.0            # cosine of twice the angle of the first direction
    v[0, 0] = np.sqrt(max(0.5 * (1.0 + double), 0.0))
    v[0, 1] = np.sqrt(max(0.5 * (1.0 - double), 0.0)) * (1.0 if b >= 0.0 else -1.0)
    v[1, 0], v[1, 1] = -v[0, 1], v[0, 0]
    for i in range(3):
        f, g = u[0, i], u[1, i]
        u[0, i] = (f * v[0, 0] + g * v[0, 1]) / max(s1, 1e-12)
        u[1, i] = (f * v[1, 0] + g * v[1, 1]) / max(s2, 1e-12)
    u[2, 0] = u[0, 1] * u[1, 2] - u[0, 2] * u[1, 1]
    u[2, 1] = u[0, 2] * u[1, 0] - u[0, 0] * u[1, 2]
    u[2, 2] = u[0, 0] * u[1, 1] - u[0, 1] * u[1, 0]
    return s1, s2


@njit(**LEAN, fastmath={"contract"})
def _energy(x, tri, shape, y, nu, firm, most):
    """Energy per area of one triangle, N/m, from its squared stretches alone."""
    a, b, c = 0.0, 0.0, 0.0
    for i in range(3):
        f = x[tri[0], i] * shape[0, 0] + x[tri[1], i] * shape[1, 0] + x[tri[2], i] * shape[2, 0]
        g = x[tri[0], i] * shape[0, 1] + x[tri[1], i] * shape[1, 1] + x[tri[2], i] * shape[2, 1]
        a, b, c = a + f * f, b + f * g, c + g * g
    half = 0.5 * (a - c)
    root = np.sqrt(half * half + b * b)
    e1, e2 = 0.5 * (0.5 * (a + c) + root - 1.0), 0.5 * (0.5 * (a + c) - root - 1.0)
    k = y / (1.0 - nu * nu)
    full = 0.5 * k * (e1 * e1 + 2.0 * nu * e1 * e2 + e2 * e2)
    slack = 0.0 if e1 <= 0.0 else (0.5 * y * e1 * e1 if e2 < -nu * e1 else full)
    over1, over2 = np.sqrt(max(2.0 * e1 + 1.0, 0.0)) - most, np.sqrt(max(2.0 * e2 + 1.0, 0.0)) - most
    over = max(over1, 0.0) ** 2 + max(over2, 0.0) ** 2
    return firm * full + (1.0 - firm) * slack + 0.5 * HARD * y * over


@njit(**LEAN)
def membrane_energy(lo, hi, x, tri, shape, area, y, nu, firm, most):
    """Energy, J, of triangles lo .. hi of all (t, 3) at nodes ``x`` (n, 3), m.

    shape : (t, 3, 2), 1/m, gradients of the corners' hat functions in the plane at rest.  area : (t,) m².
    y : (t,) N/m, nu : (t,), firm : (t,), most : (t,), infinite where nothing ends the stretching.
    """
    total = 0.0
    for t in range(lo, hi):
        total += area[t] * _energy(x, tri[t], shape[t], y[t], nu[t], firm[t], most[t])
    return total


@njit(cache=True, nogil=True)
def add_membrane_gradient(x, tri, shape, area, y, nu, firm, most, out):
    """Gradient of the energy, N, added to ``out`` (n, 3)."""
    u, v = np.empty((3, 3)), np.empty((2, 2))
    for t in range(len(tri)):
        s1, s2 = _stretches(x, tri[t], shape[t], u, v)
        p1, p2, _, _, _ = _law(s1, s2, y[t], nu[t], firm[t], most[t])
        for k in range(3):
            a = area[t] * p1 * (shape[t, k, 0] * v[0, 0] + shape[t, k, 1] * v[0, 1])
            b = area[t] * p2 * (shape[t, k, 0] * v[1, 0] + shape[t, k, 1] * v[1, 1])
            for i in range(3):
                out[tri[t, k], i] += a * u[0, i] + b * u[1, i]


@njit(cache=True, nogil=True)
def membrane_blocks(lo, hi, x, tri, shape, area, y, nu, firm, most, out):
    """Second derivatives, N/m, between corners PAIRS of triangles lo .. hi into ``out`` (t, 6, 9) float32."""
    u, v, outer = np.empty((3, 3)), np.empty((2, 2)), np.empty((5, 9))
    along, across = np.empty(3), np.empty(3)
    for t in range(lo, hi):
        s1, s2 = _stretches(x, tri[t], shape[t], u, v)
        p1, p2, h11, h12, h22 = _law(s1, s2, y[t], nu[t], firm[t], most[t])
        twist = max((p1 + p2) / max(s1 + s2, 1e-12), 0.0)
        flip = (p1 - p2) / (s1 - s2) if s1 - s2 > 1e-9 else h11 - h12
        flip = max(flip, 0.0)
        k1, k2 = max(p1 / max(s1, 1e-12), 0.0), max(p2 / max(s2, 1e-12), 0.0)
        mean, half = 0.5 * (h11 + h22), np.sqrt((0.5 * (h11 - h22)) ** 2 + h12 * h12)      # clamp the 2x2 part
        if mean - half < 0.0:
            top = max(mean + half, 0.0)
            c, s = 0.5 * (h11 - h22), h12
            length = max(half, 1e-300)
            h11, h12, h22 = 0.5 * top * (1.0 + c / length), 0.5 * top * s / length, 0.5 * top * (1.0 - c / length)
        plus, minus = 0.5 * (flip + twist), 0.5 * (flip - twist)
        for i in range(3):
            for j in range(3):
                k = 3 * i + j
                outer[0, k], outer[1, k], outer[2, k] = u[0, i] * u[0, j], u[1, i] * u[1, j], u[0, i] * u[1, j]
                outer[3, k], outer[4, k] = u[1, i] * u[0, j], u[2, i] * u[2, j]
        for n in range(3):
            an = shape[t, n, 0] * v[0, 0] + shape[t, n, 1] * v[0, 1]
            bn = shape[t, n, 0] * v[1, 0] + shape[t, n, 1] * v[1, 1]
            along[n], across[n] = an, bn
        e = 0
        for n in range(3):
            an, bn = area[t] * along[n], area[t] * across[n]
            for m in range(n, 3):
                am, bm = along[m], across[m]
                c11, c22 = h11 * an * am + plus * bn * bm, h22 * bn * bm + plus * an * am
                c12, c21 = h12 * an * bm + minus * bn * am, h12 * bn * am + minus * an * bm
                cnn = k1 * an * am + k2 * bn * bm
                for k in range(9):
                    out[t, e, k] = (c11 * outer[0, k] + c22 * outer[1, k] + c12 * outer[2, k] + c21 * outer[3, k]
                                    + cnn * outer[4, k])
                e += 1


@njit(cache=True, nogil=True, parallel=True)
def membrane_energy_all(parts, x, tri, shape, area, y, nu, firm, most):
    """The same of all triangles; ``parts`` (chunks,) is scratch, summed in order so that the bits repeat."""
    n, chunks = len(tri), len(parts)
    for c in prange(chunks):
        parts[c] = membrane_energy(c * n // chunks, (c + 1) * n // chunks, x, tri, shape, area, y, nu, firm, most)
    total = 0.0
    for c in range(chunks):
        total += parts[c]
    return total


@njit(cache=True, nogil=True, parallel=True)
def membrane_blocks_all(chunks, x, tri, shape, area, y, nu, firm, most, out):
    n = len(tri)
    for c in prange(chunks):
        membrane_blocks(c * n // chunks, (c + 1) * n // chunks, x, tri, shape, area, y, nu, firm, most, out)


@njit(cache=True, nogil=True)
def principal_stretches(x, tri, shape, out):
    """The stretches (t, 2) of triangles, the larger first, into ``out``; 1 is as at rest."""
    u, v = np.empty((3, 3)), np.empty((2, 2))
    for t in range(len(tri)):
        out[t, 0], out[t, 1] = _stretches(x, tri[t], shape[t], u, v)
