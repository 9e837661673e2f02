"""What air that moves does to skins, how it moves, and what pulls."""

import numpy as np
from numba import njit, uint64

from rubberquince.kernels import LEAN

DENSITY = 1.2               # kg/m³
FACE, ALONG = 1.2, 0.05     # what a face resists the air across it and along it, as drag coefficients
EVEN, SOFT, STEEP = 0, 1, 2     # how a force fades towards its reach
TINY = 1e-9                 # m: what is so near has no direction


@njit(cache=True, nogil=True)
def clamp(values, most):
    """Bring the first three columns of ``values`` (n, ..) into -most .. most, in place; what is no number becomes 0."""
    for p in range(len(values)):
        for i in range(3):
            value = values[p, i]
            values[p, i] = min(max(value, -most), most) if value == value else 0.0


@njit(**LEAN)
def add_share(air, share, flow):
    """Add ``share`` (n,) 0 .. 1 of ``air`` (n, 3), m/s, to a ``flow`` (n, 4), whose last column is the most of all."""
    for p in range(len(flow)):
        for i in range(3):
            flow[p, i] += share[p] * air[p, i]
        flow[p, 3] = max(flow[p, 3], share[p])


@njit(**LEAN)
def add_air(x, v, triangles, closed, flow, felt):
    """The force of air on the faces of a skin, N, and how it grows with speed, N s/m, added to ``felt`` (n, 4).

    x, v : (n, 3) m and m/s, of its points; flow : (n, 4) m/s, how the air moves at them, and how much of it there is.
    ρ/2 C A |w_n| w_n across a face and the same along it, w = air - v: so a tilted face is lifted, too (Newton 1687,
    prop. 34, of thin plates).  Of a ``closed`` skin only faces that look into the wind feel it, of others both sides
    are one.
    """
    place, speed, air = x.reshape(-1), v.reshape(-1), flow.reshape(-1)
    out, corner = felt.reshape(-1), triangles.reshape(-1)
    one, two, three, four = uint64(1), uint64(2), uint64(3), uint64(4)
    third = 1.0 / 3.0
    for t in range(uint64(len(triangles))):
        p, q, r = uint64(corner[three * t]), uint64(corner[three * t + one]), uint64(corner[three * t + two])
        a, b, c, i, j, k = three * p, three * q, three * r, four * p, four * q, four * r
        here = third * (air[i + three] + air[j + three] + air[k + three])
        if here <= 0.0:
            continue
        u0, u1, u2 = place[b] - place[a], place[b + one] - place[a + one], place[b + two] - place[a + two]
        s0, s1, s2 = place[c] - place[a], place[c + one] - place[a + one], place[c + two] - place[a + two]
        n0, n1, n2 = 0.5 * (u1 * s2 - u2 * s1), 0.5 * (u2 * s0 - u0 * s2), 0.5 * (u0 * s1 - u1 * s0)
        area = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
        if area <= 1e-14:
            continue
        w0 = third * (air[i] + air[j] + air[k] - speed[a] - speed[b] - speed[c])
        w1 = third * (air[i + one] + air[j + one] + air[k + one] - speed[a + one] - speed[b + one] - speed[c + one])
        w2 = third * (air[i + two] + air[j + two] + air[k + two] - speed[a + two] - speed[b + two] - speed[c + two])
        scale = 1.0 / area
        n0, n1, n2 = n0 * scale, n1 * scale, n2 * scale
        across = w0 * n0 + w1 * n1 + w2 * n2
        if closed and across > 0.0:
            continue
        q0, q1, q2 = w0 - across * n0, w1 - across * n1, w2 - across * n2
        along = np.sqrt(q0 * q0 + q1 * q1 + q2 * q2)
        each = 0.5 * DENSITY * area * here * third
        ahead, aside = each * FACE * abs(across) * across, each * ALONG * along
        f0, f1, f2 = ahead * n0 + aside * q0, ahead * n1 + aside * q1, ahead * n2 + aside * q2
        grows = each * (2.0 * FACE * abs(across) + 2.0 * ALONG * along)
        for m in (i, j, k):
            out[m] += f0
            out[m + one] += f1
            out[m + two] += f2
            out[m + three] += grows


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
