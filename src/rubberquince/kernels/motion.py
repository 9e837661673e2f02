"""Inertia, and one step of motion."""

from numba import njit, uint64


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc"})
def inertia_energy(inertia, x, target):
    """Σ inertia |x - target|² / 2, J: inertia (n,) N/m; x, target (n, 3) m."""
    total, flat, wanted = 0.0, x.reshape(-1), target.reshape(-1)
    for i in range(uint64(len(inertia))):
        r = uint64(3) * i
        a, b = flat[r] - wanted[r], flat[r + uint64(1)] - wanted[r + uint64(1)]
        c = flat[r + uint64(2)] - wanted[r + uint64(2)]
        total += inertia[i] * (a * a + b * b + c * c)
    return 0.5 * total


@njit(cache=True, nogil=True)
def add_inertia_force(inertia, x, target, out):
    """Gradient of that energy, N, added to ``out`` (n, 3)."""
    for i in range(len(inertia)):
        for a in range(3):
            out[i, a] += inertia[i] * (x[i, a] - target[i, a])


@njit(cache=True, nogil=True)
def aim(going, pushed, forced, swing, pull, even, flies, met, h, alpha, body, mass, base, target, inertia):
    """What the nodes of a step of ``h``, s, are drawn to.

    x = base + gain h² e is where an acceleration e, m/s², brings a node, by the generalised-α scheme of its ``body``
    (n,): ``alpha`` (bodies, 4) has lag α_m, back α_f, grow γ, reach β; what is ``met`` (n,) bool has a gain of 1, as in
    implicit Euler.
    target : base with ``swing`` and ``pull`` (n, 3), m/s², in it; what ``flies`` (n,) bool is drawn to where it falls
    exactly by what its body has of the pull as a whole, ``even`` (bodies, 3).  inertia : mass / (gain h²), N/m.
    """
    for i in range(len(mass)):
        lag, back, reach = alpha[body[i], 0], alpha[body[i], 1], alpha[body[i], 3]
        part = reach / (1.0 - lag)
        gain, keep, hold = ((1.0, 0.5 - back, back) if met[i]
                            else (part * (1.0 - back), 0.5 - part, part * back))
        inertia[i] = mass[i] / (gain * h * h)
        for a in range(3):
            base[i, a] = going[i, a] + h * h * (keep * pushed[i, a] + hold * forced[i, a])
            whole = even[body[i], a] if flies[i] else 0.0
            base[i, a] += 0.5 * h * h * whole
            target[i, a] = base[i, a] + h * h * gain * (swing[i, a] + pull[i, a] - whole)


@njit(cache=True, nogil=True)
def change_of_shape(x, pose, going, pushed, forced, base, met, h, alpha, body, v, push, force):
    """How fast nodes move in the frame of their body, ``v`` (n, 3), m/s, and what pushes them, m/s².

    By ``alpha`` (Chung, Hulbert 1993): (1 - lag) push + lag pushed = (1 - back) force + back forced, and the speed
    grows by h((1 - grow) pushed + grow push).
    Nodes that are ``met`` (n,) bool have the speed of this step, and nothing of it is left for the next ones.
    """
    for i in range(len(x)):
        lag, back, grow, reach = alpha[body[i], 0], alpha[body[i], 1], alpha[body[i], 2], alpha[body[i], 3]
        part = reach * (1.0 - back) / (1.0 - lag)
        for a in range(3):
            if met[i]:
                v[i, a] = (x[i, a] - pose[i, a]) / h
                push[i, a] = force[i, a] = 0.0
            else:
                e = (x[i, a] - base[i, a]) / (part * h * h)
                push[i, a] = ((1.0 - back) * e + back * forced[i, a] - lag * pushed[i, a]) / (1.0 - lag)
                force[i, a] = e
                v[i, a] = (going[i, a] - pose[i, a]) / h + h * ((1.0 - grow) * pushed[i, a] + grow * push[i, a])
