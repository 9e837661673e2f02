"""Springs between two nodes each, that resist being stretched and, by a share of that, being squeezed.

Energy k/2 (l - L)² where a spring is longer than at rest, f k/2 (l - L)² where it is shorter.
"""

import numpy as np
from numba import njit

LEAST = 1e-12               # m: shorter springs have no direction


@njit(cache=True, nogil=True)
def spring_energy(x, pair, length, stiffness, firm):
    """J, of springs between ``pair`` (k, 2) of nodes ``x`` (n, 3), m, of rest ``length`` (k,), ``stiffness`` (k,), N/m,
    and share ``firm`` (k,) of it when squeezed.
    """
    total = 0.0
    for e in range(len(pair)):
        a, b = pair[e, 0], pair[e, 1]
        d0, d1, d2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        lack = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2) - length[e]
        k = stiffness[e] if lack > 0.0 else firm[e] * stiffness[e]
        total += 0.5 * k * lack * lack
    return total


@njit(cache=True, nogil=True)
def add_spring_gradient(x, pair, length, stiffness, firm, out):
    """Gradient of the energy, N, added to ``out`` (n, 3)."""
    for e in range(len(pair)):
        a, b = pair[e, 0], pair[e, 1]
        d0, d1, d2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        now = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2)
        if now < LEAST:
            continue
        lack = now - length[e]
        force = (stiffness[e] if lack > 0.0 else firm[e] * stiffness[e]) * lack / now
        out[a, 0] -= force * d0
        out[a, 1] -= force * d1
        out[a, 2] -= force * d2
        out[b, 0] += force * d0
        out[b, 1] += force * d1
        out[b, 2] += force * d2


@njit(cache=True, nogil=True)
def spring_blocks(x, pair, length, stiffness, firm, out):
    """Second derivatives, N/m, into ``out`` (k, 3, 9): first node, both, second; what would push aside counts as 0."""
    for e in range(len(pair)):
        a, b = pair[e, 0], pair[e, 1]
        d0, d1, d2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        now = max(np.sqrt(d0 * d0 + d1 * d1 + d2 * d2), LEAST)
        k = stiffness[e] if now > length[e] else firm[e] * stiffness[e]
        aside = max(k * (1.0 - length[e] / now), 0.0)
        d = (d0 / now, d1 / now, d2 / now)
        for i in range(3):
            for j in range(3):
                value = (k - aside) * d[i] * d[j] + (aside if i == j else 0.0)
                out[e, 0, 3 * i + j], out[e, 1, 3 * i + j], out[e, 2, 3 * i + j] = value, -value, value
