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
