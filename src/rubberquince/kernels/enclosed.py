"""The volume that a skin encloses, and how it changes with each of its points."""

from numba import njit


@njit(cache=True, nogil=True)
def enclosed_volume(x, tri, about):
    """m³ between triangles (t, 3) of points ``x`` (n, 3), m, and ``about`` (3,), by the divergence theorem."""
    total = 0.0
    for t in range(len(tri)):
        a, b, c = tri[t]
        a0, a1, a2 = x[a, 0] - about[0], x[a, 1] - about[1], x[a, 2] - about[2]
        b0, b1, b2 = x[b, 0] - about[0], x[b, 1] - about[1], x[b, 2] - about[2]
        c0, c1, c2 = x[c, 0] - about[0], x[c, 1] - about[1], x[c, 2] - about[2]
        total += a0 * (b1 * c2 - b2 * c1) + a1 * (b2 * c0 - b0 * c2) + a2 * (b0 * c1 - b1 * c0)
    return total / 6.0


@njit(cache=True, nogil=True)
def add_volume_gradient(x, tri, scale, out):
    """``scale`` times the gradient of that volume, m², added to ``out`` (n, 3): exact where the skin is closed.

    Each corner gets a third of its triangle's area vector, which has no net force on a triangle's own plane.
    """
    for t in range(len(tri)):
        a, b, c = tri[t]
        u0, u1, u2 = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        v0, v1, v2 = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        n0, n1, n2 = (scale / 6.0 * (u1 * v2 - u2 * v1), scale / 6.0 * (u2 * v0 - u0 * v2),
                      scale / 6.0 * (u0 * v1 - u1 * v0))
        for i in (a, b, c):
            out[i, 0] += n0
            out[i, 1] += n1
            out[i, 2] += n2
