"""Sets of points on a mesh that grow and shrink along its edges."""

import numpy as np

from rubberquince.shapes.polymesh import edges_of


def grown(chosen: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Points (n,) bool that are chosen, or joined by an edge to one that is."""
    edges, more = edges_of(triangles), chosen.copy()
    for one, other in ((0, 1), (1, 0)):
        more[edges[chosen[edges[:, one]], other]] = True
    return more


def shrunk(chosen: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Those of the chosen points (n,) bool that are joined to chosen ones only."""
    return ~grown(~chosen, triangles)


def in_loop(places: np.ndarray, loop: np.ndarray) -> np.ndarray:
    """Which places (n, 2) are inside a closed loop (k, 2), (n,) bool: a ray from them crosses it an odd number of times
    (Shimrat 1962).
    """
    inside = ((places >= loop.min(axis=0)) & (places <= loop.max(axis=0))).all(axis=1)
    x, y = places[inside].T
    odd = np.zeros(len(x), bool)
    for (ax, ay), (bx, by) in zip(loop, np.roll(loop, -1, axis=0)):
        if ay != by:
            odd ^= ((ay > y) != (by > y)) & (x < ax + (bx - ax) * (y - ay) / (by - ay))
    inside[inside] = odd
    return inside
