"""Where rays meet triangles."""

import igl
import numpy as np

LEAST_SIDE = 1e-2           # of a usual triangle: igl overlooks triangles whose sides are below a thousandth


def nearest_hits(points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, along: np.ndarray) -> np.ndarray:
    """Distance (rays,) along each ray, in lengths of ``along``, to the nearest triangle; inf when it meets none.

    points (n, 3), triangles (t, 3); origins, along (rays, 3).
    """
    f = np.ascontiguousarray(triangles, np.int64)
    if not len(f):
        return np.full(len(origins), np.inf)
    v, length = np.ascontiguousarray(points, float), np.linalg.norm(along, axis=1)
    a, b, c = (v[f[:, k]] for k in range(3))
    unit = LEAST_SIDE * np.sqrt(np.median(np.linalg.norm(np.cross(b - a, c - a), axis=1))) or 1.0
    v, starts, ways = v / unit, np.asarray(origins, float) / unit, along / np.maximum(length, 1e-300)[:, None]
    tree = igl.AABB()
    tree.init(v, f)
    met = tree.intersect_ray(v, f, starts, ways)
    distance = np.array([min((hit[1] for hit in hits if hit[1] > 0.0), default=np.inf) for hits in met])
    return distance * unit / np.maximum(length, 1e-300)


def nearest_hit(points: np.ndarray, triangles: np.ndarray, origin: np.ndarray, along: np.ndarray) -> float:
    """The same of one ray."""
    return float(nearest_hits(points, triangles, origin[None], along[None])[0])
