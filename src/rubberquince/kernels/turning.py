"""How whole bodies turn: their spin, where it takes them, and giving them the angular momentum they should have.

Nodes of a body lie one after another: body k owns first[k] .. first[k + 1].
"""

import numpy as np
from numba import njit

THIN = 1e-9         # of the largest moment of inertia: a body as thin as a line has no less about its axis

SAME = 0.05                 # of a spin: less is a difference of the scheme


@njit(cache=True, nogil=True)
def cross(a, b, out):
    """a × b into ``out`` (3,)."""
    out[0] = a[1] * b[2] - a[2] * b[1]
    out[1] = a[2] * b[0] - a[0] * b[2]
    out[2] = a[0] * b[1] - a[1] * b[0]


@njit(cache=True, nogil=True)
def centre_of(mass, values, lo, hi, out):
    """Mass-weighted mean of ``values`` (n, 3) between nodes lo and hi into ``out`` (3,)."""
    total = 0.0
    out[:] = 0.0
    for i in range(lo, hi):
        total += mass[i]
        for a in range(3):
            out[a] += mass[i] * values[i, a]
    out /= max(total, 1e-300)


@njit(cache=True, nogil=True)
def inertia_of(mass, x, lo, hi, centre, out):
    """Moment of inertia (3, 3), kg m², about ``centre`` of the nodes between lo and hi."""
    out[:] = 0.0
    for i in range(lo, hi):
        r0, r1, r2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
        out[0, 0] += mass[i] * (r1 * r1 + r2 * r2)
        out[1, 1] += mass[i] * (r0 * r0 + r2 * r2)
        out[2, 2] += mass[i] * (r0 * r0 + r1 * r1)
        out[0, 1] -= mass[i] * r0 * r1
        out[0, 2] -= mass[i] * r0 * r2
        out[1, 2] -= mass[i] * r1 * r2
    out[1, 0], out[2, 0], out[2, 1] = out[0, 1], out[0, 2], out[1, 2]


@njit(cache=True, nogil=True)
def solve_spin(inertia, momentum, out):
    """ω of  I ω = L  by Cramer's rule, into ``out`` (3,); zero where nothing has an extent."""
    least = THIN * (inertia[0, 0] + inertia[1, 1] + inertia[2, 2])
    a, b, c = inertia[0, 0] + least, inertia[1, 1] + least, inertia[2, 2] + least
    d, e, f = inertia[0, 1], inertia[0, 2], inertia[1, 2]
    p, q, r = b * c - f * f, e * f - d * c, d * f - e * b
    det = a * p + d * q + e * r
    if not det > 0.0:
        out[:] = 0.0
        return
    x, y, z = momentum
    out[0] = (p * x + q * y + r * z) / det
    out[1] = (q * x + (a * c - e * e) * y + (d * e - a * f) * z) / det
    out[2] = (r * x + (d * e - a * f) * y + (a * b - d * d) * z) / det


@njit(cache=True, nogil=True)
def momentum_of(mass, x, v, lo, hi, centre, out):
    """Angular momentum (3,), kg m²/s, about ``centre`` of the nodes between lo and hi."""
    out[:] = 0.0
    for i in range(lo, hi):
        r0, r1, r2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
        out[0] += mass[i] * (r1 * v[i, 2] - r2 * v[i, 1])
        out[1] += mass[i] * (r2 * v[i, 0] - r0 * v[i, 2])
        out[2] += mass[i] * (r0 * v[i, 1] - r1 * v[i, 0])


@njit(cache=True, nogil=True)
def turned_on(mass, x, v, due, flies, push, force, first, h, turns, pose, going, pushed, forced, swing, spin):
    """Where bodies come in ``h``, s, that nothing pushes: each turns as a whole, and goes on changing its shape.

    due : (n, 3) m/s, the speeds that ``v`` come to: those have the momentum by which what ``flies`` (bodies,) bool
    turns on, if that is nearly what it has; where something is touched, forces may take it back.
    pose : (n, 3) m, moved rigidly.  going : with the change of shape going on, too.  pushed : ``push`` (n, 3) m/s²,
    turned.  swing : what parts feel in a frame that turns with the body at ω = I⁻¹ L, -ω×(ω×r) - 2ω×u, m/s²
    (Goldstein 1980, §4-10).  spin : (bodies, 3) ω, rad/s.  Bodies that do not ``turns`` (bodies,) bool stay.
    """
    centre, speed, momentum = np.empty(3), np.empty(3), np.empty(3)
    inertia, r, u, w, s = np.empty((3, 3)), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    p, f, now, turned = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for body in range(len(first) - 1):
        lo, hi = first[body], first[body + 1]
        omega = spin[body]
        omega[:] = 0.0
        if not turns[body]:
            for i in range(lo, hi):
                for a in range(3):
                    pose[i, a] = x[i, a]
                    going[i, a] = x[i, a] + h * v[i, a]
                    pushed[i, a], forced[i, a] = push[i, a], force[i, a]
                    swing[i, a] = 0.0
            continue
        centre_of(mass, x, lo, hi, centre)
        centre_of(mass, v, lo, hi, speed)
        inertia_of(mass, x, lo, hi, centre, inertia)
        momentum_of(mass, x, v, lo, hi, centre, momentum)
        solve_spin(inertia, momentum, now)
        omega[:] = now
        if flies[body]:
            momentum_of(mass, x, due, lo, hi, centre, turned)
            solve_spin(inertia, turned, omega)
            r[:] = omega - now
            if (r * r).sum() < SAME * SAME * (now * now).sum():
                momentum[:] = turned
            else:                               # what shakes as much as it turns has no such momentum
                omega[:] = now
        half_way(omega, inertia, momentum, h, r, w, s)
        size = np.sqrt((omega * omega).sum())
        angle = h * size
        sine = np.sin(angle) / size if size > 1e-12 else h
        versine = (1.0 - np.cos(angle)) / (size * size) if size > 1e-12 else 0.5 * h * h
        for i in range(lo, hi):
            for a in range(3):
                r[a], u[a], p[a], f[a] = x[i, a] - centre[a], v[i, a] - speed[a], push[i, a], force[i, a]
            cross(now, r, w)
            u -= w
            turn(omega, sine, versine, r, w, s)
            turn(omega, sine, versine, u, w, s)
            turn(omega, sine, versine, p, w, s)
            turn(omega, sine, versine, f, w, s)
            for a in range(3):
                pose[i, a] = centre[a] + h * speed[a] + r[a]
                going[i, a] = pose[i, a] + h * u[a]
                pushed[i, a], forced[i, a] = p[a], f[a]
            cross(omega, r, w)
            cross(omega, w, s)
            cross(omega, u, w)
            for a in range(3):
                swing[i, a] = -s[a] - 2.0 * w[a]


@njit(cache=True, nogil=True)
def half_way(omega, inertia, momentum, h, r, w, s):
    """Make ``omega`` (3,), rad/s, that of the middle of a step of ``h``, s, in which ``momentum`` stays and ``inertia``
    turns along; r, w, s (3,) are scratch.
    """
    size = np.sqrt((omega * omega).sum())
    if size * h < 1e-9:
        return
    sine, versine = np.sin(0.5 * h * size) / size, (1.0 - np.cos(0.5 * h * size)) / (size * size)
    r[:] = momentum
    turn(omega, -sine, versine, r, w, s)            # seen from the body, the momentum turns back
    middle = np.empty(3)
    solve_spin(inertia, r, middle)
    turn(omega, sine, versine, middle, w, s)
    omega[:] = middle


@njit(cache=True, nogil=True)
def turn(omega, sine, versine, r, w, s):
    """Turn ``r`` (3,) in place about ``omega``, by Rodrigues' formula (1840); w and s (3,) are scratch."""
    cross(omega, r, w)
    cross(omega, w, s)
    for a in range(3):
        r[a] += sine * w[a] + versine * s[a]


@njit(cache=True, nogil=True)
def add_rigid(mass, x, speed, first, turns, spin, v):
    """Add to speeds ``v`` (n, 3), m/s, of nodes at ``x`` what bodies that ``turns`` have as a whole: the mean of
    ``speed`` (n, 3) and ``spin`` (bodies, 3), rad/s.
    """
    centre, mean = np.empty(3), np.empty(3)
    for body in range(len(first) - 1):
        if turns[body]:
            lo, hi = first[body], first[body + 1]
            centre_of(mass, x, lo, hi, centre)
            centre_of(mass, speed, lo, hi, mean)
            turn_nodes(x, lo, hi, centre, spin[body], v)
            for i in range(lo, hi):
                for a in range(3):
                    v[i, a] += mean[a]


@njit(cache=True, nogil=True)
def keep_momentum(mass, before, due, x, now, target, inertia, pull, first, turns, h, v):
    """Give bodies that ``turns`` the momenta, linear and angular, that forces left them in a step of ``h``, s.

    Forces inertia (x - target) and ``pull`` (n, 3), m/s², change the speeds ``due`` (n, 3) at ``before``; where these
    are something else ``now`` at ``x``, ``v`` (n, 3), m/s, is changed for each body as a whole.
    """
    centre, start, lack = np.empty(3), np.empty(3), np.empty(3)
    drift, impulse, arm, turn = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    omega, moment = np.empty(3), np.empty((3, 3))
    for body in range(len(first) - 1):
        if not turns[body]:
            continue
        lo, hi = first[body], first[body + 1]
        centre_of(mass, before, lo, hi, start)
        centre_of(mass, x, lo, hi, centre)
        momentum_of(mass, before, due, lo, hi, start, lack)
        momentum_of(mass, x, now, lo, hi, centre, turn)
        lack -= turn
        drift[:] = 0.0
        total = 0.0
        for i in range(lo, hi):
            total += mass[i]
            for a in range(3):
                arm[a] = x[i, a] - centre[a]
                impulse[a] = h * (inertia[i] * (x[i, a] - target[i, a]) + mass[i] * pull[i, a])
                drift[a] += impulse[a] + mass[i] * (due[i, a] - now[i, a])
            cross(arm, impulse, turn)
            lack += turn
        inertia_of(mass, x, lo, hi, centre, moment)
        solve_spin(moment, lack, omega)
        for i in range(lo, hi):
            for a in range(3):
                v[i, a] += drift[a] / total
        turn_nodes(x, lo, hi, centre, omega, v)


@njit(cache=True, nogil=True)
def fade_shape(mass, x, first, turns, left, led, v):
    """Leave of ``v`` (n, 3), m/s, the part ``left`` (bodies,); of bodies that ``turns``, of their change of shape.

    Of the others it is what differs from the speeds ``led`` (n, 3) that they are led with.
    """
    centre, speed, momentum = np.empty(3), np.empty(3), np.empty(3)
    inertia, omega, r, w = np.empty((3, 3)), np.empty(3), np.empty(3), np.empty(3)
    for body in range(len(first) - 1):
        lo, hi = first[body], first[body + 1]
        if left[body] == 1.0:
            continue
        if not turns[body]:
            for i in range(lo, hi):
                for a in range(3):
                    v[i, a] = led[i, a] + left[body] * (v[i, a] - led[i, a])
            continue
        centre_of(mass, x, lo, hi, centre)
        centre_of(mass, v, lo, hi, speed)
        inertia_of(mass, x, lo, hi, centre, inertia)
        momentum_of(mass, x, v, lo, hi, centre, momentum)
        solve_spin(inertia, momentum, omega)
        for i in range(lo, hi):
            for a in range(3):
                r[a] = x[i, a] - centre[a]
            cross(omega, r, w)
            for a in range(3):
                whole = speed[a] + w[a]
                v[i, a] = whole + left[body] * (v[i, a] - whole)


@njit(cache=True, nogil=True)
def turn_nodes(x, lo, hi, centre, omega, v):
    """v += ω × (x - centre) between nodes lo and hi."""
    for i in range(lo, hi):
        r0, r1, r2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
        v[i, 0] += omega[1] * r2 - omega[2] * r1
        v[i, 1] += omega[2] * r0 - omega[0] * r2
        v[i, 2] += omega[0] * r1 - omega[1] * r0


@njit(cache=True, nogil=True)
def without_motion(mass, x, origin, first, turns, out):
    """x - origin less what each body moves as a whole, into ``out`` (n, 3) float32; of bodies that ``turns`` also less
    their turning.

    That is taken out first because single precision would blur what damping sees under a long fall.
    """
    mean, centre, momentum, omega = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    inertia, r, w = np.empty((3, 3)), np.empty(3), np.empty(3)
    for body in range(len(first) - 1):
        lo, hi = first[body], first[body + 1]
        mean[:] = 0.0
        total = 0.0
        for i in range(lo, hi):
            total += mass[i]
            for a in range(3):
                mean[a] += mass[i] * (x[i, a] - origin[i, a])
        mean /= max(total, 1e-300)
        omega[:] = 0.0
        if turns[body]:
            centre_of(mass, x, lo, hi, centre)
            inertia_of(mass, x, lo, hi, centre, inertia)
            momentum[:] = 0.0
            for i in range(lo, hi):
                for a in range(3):
                    r[a], w[a] = x[i, a] - centre[a], x[i, a] - origin[i, a] - mean[a]
                momentum[0] += mass[i] * (r[1] * w[2] - r[2] * w[1])
                momentum[1] += mass[i] * (r[2] * w[0] - r[0] * w[2])
                momentum[2] += mass[i] * (r[0] * w[1] - r[1] * w[0])
            solve_spin(inertia, momentum, omega)
        for i in range(lo, hi):
            for a in range(3):
                r[a] = x[i, a] - centre[a] if turns[body] else 0.0
            cross(omega, r, w)
            for a in range(3):
                out[i, a] = x[i, a] - origin[i, a] - mean[a] - w[a]


@njit(cache=True, nogil=True)
def without_torque(mass, x, first, turns, force):
    """Take the net torque of ``force`` (n, 3), N, on each body that ``turns`` out of it, spread as inertia has it."""
    centre, torque, omega, inertia = np.empty(3), np.empty(3), np.empty(3), np.empty((3, 3))
    for body in range(len(first) - 1):
        if not turns[body]:
            continue
        lo, hi = first[body], first[body + 1]
        centre_of(mass, x, lo, hi, centre)
        inertia_of(mass, x, lo, hi, centre, inertia)
        torque[:] = 0.0
        for i in range(lo, hi):
            r0, r1, r2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
            torque[0] += r1 * force[i, 2] - r2 * force[i, 1]
            torque[1] += r2 * force[i, 0] - r0 * force[i, 2]
            torque[2] += r0 * force[i, 1] - r1 * force[i, 0]
        solve_spin(inertia, torque, omega)
        for i in range(lo, hi):
            r0, r1, r2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
            force[i, 0] -= mass[i] * (omega[1] * r2 - omega[2] * r1)
            force[i, 1] -= mass[i] * (omega[2] * r0 - omega[0] * r2)
            force[i, 2] -= mass[i] * (omega[0] * r1 - omega[1] * r0)


@njit(cache=True, nogil=True)
def turned_from(mass, x, pose, lo, hi, out):
    """How far, rad, ``x`` is turned from ``pose`` as a whole between nodes lo and hi, as a vector into ``out`` (3,)."""
    centre, middle, torque, inertia = np.empty(3), np.empty(3), np.zeros(3), np.empty((3, 3))
    centre_of(mass, x, lo, hi, centre)
    centre_of(mass, pose, lo, hi, middle)
    inertia_of(mass, pose, lo, hi, middle, inertia)
    for i in range(lo, hi):
        r0, r1, r2 = pose[i, 0] - middle[0], pose[i, 1] - middle[1], pose[i, 2] - middle[2]
        d0, d1, d2 = x[i, 0] - centre[0], x[i, 1] - centre[1], x[i, 2] - centre[2]
        torque[0] += mass[i] * (r1 * d2 - r2 * d1)
        torque[1] += mass[i] * (r2 * d0 - r0 * d2)
        torque[2] += mass[i] * (r0 * d1 - r1 * d0)
    solve_spin(inertia, torque, out)


@njit(cache=True, nogil=True)
def turn_back(mass, x, lo, hi, angle):
    """Turn the nodes between lo and hi about their centre by minus ``angle`` (3,), rad, in place."""
    centre, r, w, s = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    centre_of(mass, x, lo, hi, centre)
    size = np.sqrt((angle * angle).sum())
    sine, versine = -np.sin(size) / size, (1.0 - np.cos(size)) / (size * size)
    for i in range(lo, hi):
        for a in range(3):
            r[a] = x[i, a] - centre[a]
        cross(angle, r, w)
        cross(angle, w, s)
        for a in range(3):
            x[i, a] += sine * w[a] + versine * s[a]


@njit(cache=True, nogil=True)
def along_arcs(mass, x, first, which, move):
    """Make what ``move`` (n, 3), m, turns of bodies ``which`` (bodies,) bool a rotation, in place.

    Straight on, nodes at ``x`` (n, 3) would come apart by the square of the angle.
    """
    centre, drift, momentum, omega = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    inertia, r, u, w, s = np.empty((3, 3)), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for body in np.flatnonzero(which):
        lo, hi = first[body], first[body + 1]
        centre_of(mass, x, lo, hi, centre)
        centre_of(mass, move, lo, hi, drift)
        inertia_of(mass, x, lo, hi, centre, inertia)
        momentum_of(mass, x, move, lo, hi, centre, momentum)
        solve_spin(inertia, momentum, omega)
        angle = np.sqrt((omega * omega).sum())
        if not angle > 1e-12:
            continue
        sine, versine = np.sin(angle) / angle, (1.0 - np.cos(angle)) / (angle * angle)
        for i in range(lo, hi):
            for a in range(3):
                r[a], u[a] = x[i, a] - centre[a], move[i, a] - drift[a]
            cross(omega, r, w)
            u += r - w
            turn(omega, sine, versine, u, w, s)
            for a in range(3):
                move[i, a] = drift[a] + u[a] - r[a]
