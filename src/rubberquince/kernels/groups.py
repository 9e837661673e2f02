"""What is joined directly or by way of others."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def groups(one, two, count):
    """The group of each of ``count`` things, of which ``one[k]`` and ``two[k]`` are joined; numbered by their first.

    Union and find with halved paths (Tarjan, van Leeuwen 1984).
    """
    above = np.arange(count)
    for k in range(len(one)):
        a, b = one[k], two[k]
        while above[a] != a:
            above[a] = above[above[a]]
            a = above[a]
        while above[b] != b:
            above[b] = above[above[b]]
            b = above[b]
        above[max(a, b)] = min(a, b)
    number, out = 0, np.empty(count, np.int64)
    for k in range(count):
        if above[k] == k:
            out[k] = number
            number += 1
        else:
            out[k] = out[above[k]]          # what is above comes before
    return out
