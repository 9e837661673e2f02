"""Where rays meet triangles."""

import igl
import numpy as np

LEAST_SIDE = 1e-2           # of a usual triangle: igl overlooks triangles whose sides are below a thousandth


def nearest_hits(points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, along: np.ndarray) -> np.ndarray:
    """Distance (rays,) along each ray, in lengths of ``along``, to the nearest triangle; inf when it meets none.

    points (n, 3), triangles (t, 3); origins, along (rays, 3).
    """
    return _hits(points, triangles, origins, along)[0]


def nearest_spot(points: np.ndarray, triangles: np.ndarray, origin: np.ndarray,
                 along: np.ndarray) -> tuple[int, np.ndarray] | None:
    """The triangle that a ray meets first, and what its corners weigh (3,) where it does; None when it meets none."""
    (distance,), (triangle,) = _hits(points, triangles, origin[None], along[None])
    if not np.isfinite(distance):
        return None
    a, b, c = np.asarray(points, float)[triangles[triangle]]
    weights = np.linalg.lstsq(np.column_stack([b - a, c - a]), origin + distance * along - a, rcond=None)[0]
    return int(triangle), np.array([1.0 - weights.sum(), *weights])


def _hits(points: np.ndarray, triangles: np.ndarray, origins: np.ndarray,
          along: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Distance and triangle (rays,) of each ray's first hit."""
    f = np.ascontiguousarray(triangles, np.int64)
    if not len(f):
        return np.full(len(origins), np.inf), np.full(len(origins), -1)
    v, length = np.ascontiguousarray(points, float), np.linalg.norm(along, axis=1)
    a, b, c = (v[f[:, k]] for k in range(3))
    unit = LEAST_SIDE * np.sqrt(np.median(np.linalg.norm(np.cross(b - a, c - a), axis=1))) or 1.0
    v, starts, ways = v / unit, np.asarray(origins, float) / unit, along / np.maximum(length, 1e-300)[:, None]
    tree = igl.AABB()
    tree.init(v, f)
    met = tree.intersect_ray(v, f, starts, ways)
    first = [min(((hit[1], hit[0]) for hit in hits if hit[1] > 0.0), default=(np.inf, -1)) for hits in met]
    distance, triangle = np.array([hit[0] for hit in first]), np.array([hit[1] for hit in first])
    return distance * unit / np.maximum(length, 1e-300), triangle


def nearest_hit(points: np.ndarray, triangles: np.ndarray, origin: np.ndarray, along: np.ndarray) -> float:
    """The same of one ray."""
    return float(nearest_hits(points, triangles, origin[None], along[None])[0])
