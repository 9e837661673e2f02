"""Where rays meet triangles."""

import igl
import numpy as np


def nearest_hits(points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, along: np.ndarray) -> np.ndarray:
    """Distance (rays,) along each ray, in lengths of ``along``, to the nearest triangle; inf when it meets none.

    points (n, 3), triangles (t, 3); origins, along (rays, 3).
    """
    v, f = np.ascontiguousarray(points, float), np.ascontiguousarray(triangles, np.int64)
    if not len(f):
        return np.full(len(origins), np.inf)
    met = [igl.ray_mesh_intersect(np.ascontiguousarray(start, float), np.ascontiguousarray(way, float), v, f)
           for start, way in zip(origins, along)]
    return np.array([min((hit[1] for hit in hits if hit[1] > 0.0), default=np.inf) for hits in met])


def nearest_hit(points: np.ndarray, triangles: np.ndarray, origin: np.ndarray, along: np.ndarray) -> float:
    """The same of one ray."""
    return float(nearest_hits(points, triangles, origin[None], along[None])[0])
