"""Boxes that skin points may move in while a list of close parts holds: in space, and relative to their body."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def body_means(x, start, out):
    """Mean place of each body's points, (bodies, 3): those ``start[b]`` .. ``start[b + 1]`` of ``x`` (n, 3)."""
    for b in range(len(start) - 1):
        for i in range(3):
            total = 0.0
            for p in range(start[b], start[b + 1]):
                total += x[p, i]
            out[b, i] = total / max(start[b + 1] - start[b], 1)


@njit(cache=True, nogil=True)
def stay_within(x, move, start, mean, low, high, near_low, near_high):
    """Which boxes hold points ``x`` (n, 3) and ``x + move``: (those in space, those within each body).

    In space they are ``low`` .. ``high`` (n, 3); within a body ``near_low`` .. ``near_high``, once it is put back
    to its ``mean`` (bodies, 3): what a body does as a whole changes nothing between its own parts.
    """
    in_space, in_body = True, True
    drift = np.empty(3)
    for time in range(2):
        for b in range(len(start) - 1):
            for i in range(3):
                total = 0.0
                for p in range(start[b], start[b + 1]):
                    total += x[p, i] + time * move[p, i]
                drift[i] = total / max(start[b + 1] - start[b], 1) - mean[b, i]
            for p in range(start[b], start[b + 1]):
                for i in range(3):
                    at = x[p, i] + time * move[p, i]
                    if at < low[p, i] or at > high[p, i]:
                        in_space = False
                    if at - drift[i] < near_low[p, i] or at - drift[i] > near_high[p, i]:
                        in_body = False
                if not in_space and not in_body:
                    return False, False
    return in_space, in_body
