"""The tree of boxes over one piece's skin."""

import numpy as np

from rubberquince.kernels.tree import build_tree, overlapping_triangles, refit, refit_cones

EVERY = np.iinfo(np.int64).max


class SkinTree:
    """Built once over ``triangles`` (t, 3) of skin points (n, 3) m, then fitted to where the points may be."""

    def __init__(self, triangles: np.ndarray, points: np.ndarray) -> None:
        self.triangles = triangles
        self._centre = points[triangles].mean(axis=1)
        self._order, self._child, self._span = build_tree(self._centre)
        self._box = np.zeros((len(self._child), 6))
        self._axis, self._spread = np.zeros((len(self._child), 3)), np.zeros(len(self._child))
        self.fit(points, points)
        self._rest = self._box.copy()

    def fit(self, low: np.ndarray, high: np.ndarray) -> None:
        """Fit the boxes to those of the points, ``low`` .. ``high`` (n, 3)."""
        refit(self.triangles, self._order, self._child, self._span, low, high, self._box)

    def _walked(self) -> tuple[np.ndarray, ...]:
        return (self.triangles, self._order, self._child, self._span, self._box, self._axis, self._spread,
                self._rest, self._centre)

    def near(self, other: "SkinTree", low: np.ndarray, high: np.ndarray) -> np.ndarray:
        """Pairs (k, 2) of triangles, of this skin and of another, whose boxes overlap."""
        return overlapping_triangles(-1.0, EVERY, *self._walked(), *other._walked(), low, high)

    def near_itself(self, apart: float, most: int, x: np.ndarray, low: np.ndarray,
                    high: np.ndarray) -> np.ndarray | None:
        """The same within this skin, at points ``x`` (n, 3), for parts that are ``apart``, m, or more at rest.

        None where there are more than ``most`` pairs.
        """
        refit_cones(self.triangles, self._order, self._child, self._span, x, self._axis, self._spread)
        pairs = overlapping_triangles(apart, most, *self._walked(), *self._walked(), low, high)
        return pairs if len(pairs) <= most else None
