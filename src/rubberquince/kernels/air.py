"""What air that moves does to skins, how it moves, and what pulls."""

import numpy as np
from numba import njit

DENSITY = 1.2               # kg/m³
FACE, ALONG = 1.2, 0.05     # what a face resists the air across it and along it, as drag coefficients
EVEN, SOFT, STEEP = 0, 1, 2     # how a force fades towards its reach
TINY = 1e-9                 # m: what is so near has no direction


@njit(cache=True, nogil=True)
def clamp(values, most):
    """Bring ``values`` (n, 3) into -most .. most, in place; what is no number becomes 0."""
    for p in range(len(values)):
        for i in range(3):
            value = values[p, i]
            values[p, i] = min(max(value, -most), most) if value == value else 0.0


@njit(cache=True, nogil=True)
def add_share(flow, share, air, there):
    """Add ``share`` (n,) 0 .. 1 of a ``flow`` (n, 3), m/s, to the ``air`` (n, 3); ``there`` (n,) is the most of all."""
    for p in range(len(air)):
        for i in range(3):
            air[p, i] += share[p] * flow[p, i]
        there[p] = max(there[p], share[p])


@njit(cache=True, nogil=True)
def add_air(x, v, triangles, closed, air, presence, force, slope):
    """The force of air on the faces of a skin, added to ``force`` (n, 3), N, and how it grows with speed to ``slope``
    (n,), N s/m.

    x, v : (n, 3) m and m/s, of its points; air : (n, 3) m/s at them; ``presence`` (n,) how much of it there is.
    ρ/2 C A |w_n| w_n across a face and the same along it, w = air - v: so a tilted face is lifted, too (Newton 1687,
    prop. 34, of thin plates).  Of a ``closed`` skin only faces that look into the wind feel it, of others both sides
    are one.
    """
    for t in range(len(triangles)):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        here = (presence[a] + presence[b] + presence[c]) / 3.0
        if here <= 0.0:
            continue
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        s0, s1, s2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        n0, n1, n2 = 0.5 * (u1 * s2 - u2 * s1), 0.5 * (u2 * s0 - u0 * s2), 0.5 * (u0 * s1 - u1 * s0)
        area = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        if area <= 1e-14:
            continue
        one = 1.0 / area
        n0, n1, n2 = n0 * one, n1 * one, n2 * one
        w0 = (air[a, 0] - v[a, 0] + air[b, 0] - v[b, 0] + air[c, 0] - v[c, 0]) / 3.0
        w1 = (air[a, 1] - v[a, 1] + air[b, 1] - v[b, 1] + air[c, 1] - v[c, 1]) / 3.0
        w2 = (air[a, 2] - v[a, 2] + air[b, 2] - v[b, 2] + air[c, 2] - v[c, 2]) / 3.0
        across = w0 * n0 + w1 * n1 + w2 * n2
        if closed and across > 0.0:
            continue
        q0, q1, q2 = w0 - across * n0, w1 - across * n1, w2 - across * n2
        along = np.sqrt(q0 * q0 + q1 * q1 + q2 * q2)
        third = 0.5 * DENSITY * area * here / 3.0
        ahead, aside = third * FACE * abs(across) * across, third * ALONG * along
        f0, f1, f2 = ahead * n0 + aside * q0, ahead * n1 + aside * q1, ahead * n2 + aside * q2
        grows = third * (2.0 * FACE * abs(across) + 2.0 * ALONG * along)
        for k in range(3):
            p = triangles[t, k]
            force[p, 0] += f0
            force[p, 1] += f1
            force[p, 2] += f2
            slope[p] += grows


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


@njit(cache=True, nogil=True)
def whirl(x, place, axis, strength, core, inflow, lift, out):
    """Air that turns round an ``axis`` (3,) through a ``place`` (3,), into ``out`` (n, 3), m/s, at points ``x`` (n, 3).

    It turns fastest, with the ``strength``, at the edge of its ``core``, m, as ``inflow`` draws in, and rises in its
    middle with the ``lift``.
    """
    for p in range(len(x)):
        d0, d1, d2 = x[p, 0] - place[0], x[p, 1] - place[1], x[p, 2] - place[2]
        along = d0 * axis[0] + d1 * axis[1] + d2 * axis[2]
        d0, d1, d2 = d0 - along * axis[0], d1 - along * axis[1], d2 - along * axis[2]
        far = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2)
        scale = 1.0 / max(far, TINY)
        d0, d1, d2 = d0 * scale, d1 * scale, d2 * scale
        share = far / core
        inner = 1.0 / (1.0 + share * share)
        swirl = 2.0 * share * inner
        out[p, 0] = swirl * (strength * (axis[1] * d2 - axis[2] * d1) - inflow * d0) + lift * inner * axis[0]
        out[p, 1] = swirl * (strength * (axis[2] * d0 - axis[0] * d2) - inflow * d1) + lift * inner * axis[1]
        out[p, 2] = swirl * (strength * (axis[0] * d1 - axis[1] * d0) - inflow * d2) + lift * inner * axis[2]


@njit(cache=True, nogil=True)
def fade_out(x, place, reach, fade, out):
    """How much is left, into ``out`` (n,) 0 .. 1, at points ``x`` (n, 3) of what fades to nothing at a ``reach``, m."""
    for p in range(len(x)):
        d0, d1, d2 = x[p, 0] - place[0], x[p, 1] - place[1], x[p, 2] - place[2]
        share = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) / reach
        inside = min(max(1.0 - share, 0.0), 1.0)
        if fade == EVEN:
            out[p] = 1.0 if share <= 1.0 else 0.0
        elif fade == SOFT:
            out[p] = inside * inside * (3.0 - 2.0 * inside)
        else:
            out[p] = inside * inside * inside


@njit(cache=True, nogil=True)
def draw(x, v, to, strength, rest, width, limit, out):
    """What pulls at points ``x`` with speeds ``v`` (n, 3) towards places ``to`` (n, 3), into ``out`` (n, 3), m/s².

    ``strength``, m/s², from the ``rest`` distance and a ``width``, m, outwards; nearer it fades, and pushes away below
    it.  What already comes at the speed ``limit``, m/s, is not sped up further.
    """
    for p in range(len(x)):
        w0, w1, w2 = to[p, 0] - x[p, 0], to[p, 1] - x[p, 1], to[p, 2] - x[p, 2]
        far = np.sqrt(w0 * w0 + w1 * w1 + w2 * w2)
        scale = 1.0 / max(far, TINY)
        w0, w1, w2 = w0 * scale, w1 * scale, w2 * scale
        pull = strength * min(max((far - rest) / width, -1.0), 1.0)
        if limit < np.inf:
            coming = (v[p, 0] * w0 + v[p, 1] * w1 + v[p, 2] * w2) * np.sign(pull)
            pull *= min(max(1.0 - coming / limit, 0.0), 1.0)
        out[p, 0], out[p, 1], out[p, 2] = pull * w0, pull * w1, pull * w2
