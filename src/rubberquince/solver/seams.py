"""Seams: skin points of two bodies that are drawn to each other.

They stand beside contact, not among the terms: what they do passes from body to body, and the balance of whole bodies
must know of it.  Energy k/2 (d - L)² of each pair at distance d; L goes from where they start to nothing.
"""

import numpy as np
from numba import njit

from rubberquince.solver.system import Pairs
from rubberquince.solver.world import World

LEAST = 1e-9                # m: pairs that are nearer have no direction


class Seams:
    """The seams of a world.  Positions are those of its nodes, (n, 3) m."""

    def __init__(self, world: World) -> None:
        skin, specs = world.skin, world.spec.seams
        first = np.searchsorted(skin.piece[: skin.moving], np.arange(world.bodies + 1))
        self.bodies = [(seam.one, seam.two) for seam in specs]
        points = np.concatenate([seam.pairs + first[[seam.one, seam.two]] for seam in specs]) if specs else \
            np.zeros((0, 2), np.int64)
        self.points = points.astype(np.int64)
        self._of = np.repeat(np.arange(len(specs)), [len(seam.pairs) for seam in specs]).astype(np.int64)
        width = skin.bind_node.shape[1]
        self._node = skin.bind_node[self.points].reshape(-1, 2 * width)
        sides = np.array([1.0, -1.0])[:, None]
        self._coef = (skin.bind_weight[self.points] * sides).reshape(-1, 2 * width)
        self._start = np.linalg.norm(self._apart(world.start), axis=1)
        self._stiffness = np.array([seam.stiffness for seam in specs], float)
        self._closes = np.array([seam.closes for seam in specs], float)
        self._length = np.zeros(len(self.points))
        self.tell(np.inf)

    def set_seam(self, number: int, stiffness: float, closes: float) -> None:
        """Change how a seam draws while the run goes on."""
        self._stiffness[number], self._closes[number] = stiffness, closes

    def values(self) -> list[tuple[float, float]]:
        """Of each seam, N/m and s, as set last."""
        return [(float(k), float(s)) for k, s in zip(self._stiffness, self._closes)]

    def tell(self, since: float) -> None:
        """It is now ``since``, s, after the start."""
        left = 1.0 - np.minimum(since / np.maximum(self._closes, 1e-9), 1.0)
        self._length = self._start * left[self._of]

    def _apart(self, x: np.ndarray) -> np.ndarray:
        return np.einsum("kc,kci->ki", self._coef, x[self._node])

    def energy(self, x: np.ndarray) -> float:
        """J."""
        if not len(self.points):
            return 0.0
        lack = np.linalg.norm(self._apart(x), axis=1) - self._length
        return 0.5 * float((self._stiffness[self._of] * lack) @ lack)

    def add_slope(self, x: np.ndarray, slope: np.ndarray, pairs: Pairs) -> Pairs:
        """Add the energy's gradient to ``slope`` (n, 3), N; returns the pairs of the linear system with its own."""
        if not len(self.points):
            return pairs
        firm = np.empty((len(self.points), 3, 3))
        _pull(self._apart(x), self._length, self._stiffness[self._of], self._node, self._coef, slope, firm)
        ptr, node, coef, others = pairs
        width = self._node.shape[1]
        return (np.concatenate([ptr, ptr[-1] + width * np.arange(1, len(firm) + 1)]),
                np.concatenate([node, self._node.reshape(-1)]), np.concatenate([coef, self._coef.reshape(-1)]),
                np.concatenate([others, firm]))


@njit(cache=True, nogil=True)
def _pull(apart, length, stiffness, node, coef, slope, firm):
    """Forces of pairs onto ``slope`` (n, 3), and their stiffness (k, 3, 3), never negative, into ``firm``."""
    for e in range(len(apart)):
        d = np.sqrt((apart[e] ** 2).sum())
        if d < LEAST:
            for a in range(3):
                for b in range(3):
                    firm[e, a, b] = stiffness[e] if a == b else 0.0
            continue
        across = max(1.0 - length[e] / d, 0.0)
        for a in range(3):
            n = apart[e, a] / d
            for b in range(3):
                firm[e, a, b] = stiffness[e] * ((1.0 - across) * n * apart[e, b] / d + (across if a == b else 0.0))
            force = stiffness[e] * (d - length[e]) * n
            for c in range(node.shape[1]):
                slope[node[e, c], a] += coef[e, c] * force
