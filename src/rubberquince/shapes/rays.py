"""Where rays meet triangles."""

import igl
import numpy as np

LEAST_SIDE = 1e-2           # of a usual triangle: igl overlooks triangles whose sides are below a thousandth


class RayTree:
    """Triangles (t, 3) over points (n, 3), for rays to meet."""

    def __init__(self, points: np.ndarray, triangles: np.ndarray) -> None:
        self._corners, self._sides = np.ascontiguousarray(points, float), np.ascontiguousarray(triangles, np.int64)
        self._unit, self._tree = 1.0, igl.AABB()
        if len(self._sides):
            a, b, c = (self._corners[self._sides[:, k]] for k in range(3))
            self._unit = LEAST_SIDE * np.sqrt(np.median(np.linalg.norm(np.cross(b - a, c - a), axis=1))) or 1.0
            self._corners = self._corners / self._unit
            self._tree.init(self._corners, self._sides)

    def hits(self, origins: np.ndarray, along: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Distance (rays,), in lengths of ``along``, to the first triangle on each ray, and its number; inf and -1 when
        it meets none.  origins, along (rays, 3).
        """
        if not len(self._sides):
            return np.full(len(origins), np.inf), np.full(len(origins), -1)
        length = np.maximum(np.linalg.norm(along, axis=1), 1e-300)
        met = self._tree.intersect_ray(self._corners, self._sides, np.asarray(origins, float) / self._unit,
                                       along / length[:, None])
        first = [min(((hit[1], hit[0]) for hit in hits if hit[1] > 0.0), default=(np.inf, -1)) for hits in met]
        distance, triangle = np.array([hit[0] for hit in first]), np.array([hit[1] for hit in first])
        return distance * self._unit / length, triangle

    def distance(self, origin: np.ndarray, along: np.ndarray) -> float:
        """The same of one ray."""
        return float(self.hits(origin[None], along[None])[0][0])

    def spot(self, origin: np.ndarray, along: np.ndarray) -> tuple[int, np.ndarray] | None:
        """The triangle that a ray meets first, and what its corners weigh (3,) where it does; None when it meets none.
        """
        (distance,), (triangle,) = self.hits(origin[None], along[None])
        if not np.isfinite(distance):
            return None
        a, b, c = self._unit * self._corners[self._sides[triangle]]
        weights = np.linalg.lstsq(np.column_stack([b - a, c - a]), origin + distance * along - a, rcond=None)[0]
        return int(triangle), np.array([1.0 - weights.sum(), *weights])


def nearest_hits(points: np.ndarray, triangles: np.ndarray, origins: np.ndarray, along: np.ndarray) -> np.ndarray:
    """Distance (rays,), in lengths of ``along``, to the first triangle (t, 3) on each ray; inf when it meets none.

    points (n, 3); origins, along (rays, 3).
    """
    return RayTree(points, triangles).hits(origins, along)[0]
