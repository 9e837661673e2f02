"""What air that moves does to skins, and how it moves."""

import numpy as np
from numba import njit

DENSITY = 1.2               # kg/m³
FACE, ALONG = 1.2, 0.05     # what a face resists the air across it and along it, as drag coefficients


@njit(cache=True, nogil=True)
def add_air(x, v, triangles, closed, air, presence, force, slope):
    """The force of air on the faces of a skin, added to ``force`` (n, 3), N, and how it grows with speed to ``slope``
    (n,), N s/m.

    x, v : (n, 3) m and m/s, of its points; air : (n, 3) m/s at them; ``presence`` (n,) how much of it there is.
    ρ/2 C A |w_n| w_n across a face and the same along it, w = air - v: so a tilted face is lifted, too (Newton 1687,
    prop. 34, of thin plates).  Of a ``closed`` skin only faces that look into the wind feel it, of others both sides
    are one.
    """
    normal, w, q = np.empty(3), np.empty(3), np.empty(3)
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        here = (presence[a] + presence[b] + presence[c]) / 3.0
        if here <= 0.0:
            continue
        for i in range(3):
            w[i] = (air[a, i] - v[a, i] + air[b, i] - v[b, i] + air[c, i] - v[c, i]) / 3.0
            j, k = (i + 1) % 3, (i + 2) % 3
            normal[i] = 0.5 * ((x[b, j] - x[a, j]) * (x[c, k] - x[a, k]) - (x[b, k] - x[a, k]) * (x[c, j] - x[a, j]))
        area = np.sqrt(normal[0] ** 2 + normal[1] ** 2 + normal[2] ** 2)
        if area <= 1e-14:
            continue
        across = (w[0] * normal[0] + w[1] * normal[1] + w[2] * normal[2]) / area
        if closed and across > 0.0:
            continue
        along = 0.0
        for i in range(3):
            q[i] = w[i] - across * normal[i] / area
            along += q[i] * q[i]
        along = np.sqrt(along)
        third = 0.5 * DENSITY * area * here / 3.0
        for i in range(3):
            push = third * (FACE * abs(across) * across * normal[i] / area + ALONG * along * q[i])
            force[a, i] += push
            force[b, i] += push
            force[c, i] += push
        grows = third * (2.0 * FACE * abs(across) + 2.0 * ALONG * along)
        slope[a] += grows
        slope[b] += grows
        slope[c] += grows


@njit(cache=True, nogil=True)
def stir(x, waves, speeds, phases, out):
    """Turbulent air at points ``x`` (n, 3), m, added to ``out`` (n, 3), m/s: the sum of waves across their way.

    waves : (m, 3) 1/m; ``speeds`` (m, 3), m/s, are each at a right angle to its wave, so that nothing flows together
    (Kraichnan 1970, eq. 3); phases : (m,) rad, at this time.
    """
    for p in range(len(x)):
        for k in range(len(waves)):
            s = np.cos(waves[k, 0] * x[p, 0] + waves[k, 1] * x[p, 1] + waves[k, 2] * x[p, 2] + phases[k])
            out[p, 0] += speeds[k, 0] * s
            out[p, 1] += speeds[k, 1] * s
            out[p, 2] += speeds[k, 2] * s
