"""The coarse space of the linear system: affine motions of a few parts of every body, turned with the body."""

import numpy as np

from rubberquince.kernels import linear
from rubberquince.solver.world import World


class CoarseSpace:
    """The system's matrix between affine motions, of bodies as they were made, turned as they now lie.

    It only guides the solver: that it is not of the deformed bodies costs an iteration now and then.  In return
    it is summed once, not in every frame, and depends on nothing that went before.
    """

    def __init__(self, world: World, blocks: np.ndarray) -> None:
        """``blocks`` (nnz, 9) are the stiffness blocks at rest, N/m."""
        self._world = world
        size = 12 * (int(world.aggregate.max(initial=-1)) + 1)
        self._elastic, self._inertial = np.zeros((size, size)), np.zeros((size, size))
        self.matrix = np.zeros((size, size))
        zero, one, pattern = np.zeros(len(world.mass)), np.ones(len(world.mass)), world.pattern
        rows = (pattern.row_ptr, pattern.col, blocks)
        space = (world.free, world.aggregate, world.mode)
        linear.coarse_elastic(*rows, one, zero, *space, self._elastic)
        linear.coarse_elastic(*rows, zero, world.mass, *space, self._inertial)

    def lay(self, x: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Make the matrix for nodes at ``x`` (n, 3), m; stretch and inertia (n,) as in kernels.linear."""
        world = self._world
        for lo, hi in zip(world.first_node[:-1], world.first_node[1:]):
            rows = slice(12 * world.aggregate[lo:hi].min(), 12 * (world.aggregate[lo:hi].max() + 1))
            size = rows.stop - rows.start
            turn = _rotation(world.start[lo:hi], x[lo:hi])
            turned = turn @ self._elastic[rows, rows].reshape(-1, 3, size)
            turned = turned.reshape(size, -1, 3) @ turn.T
            self.matrix[rows, rows] = (stretch[lo] * turned.reshape(size, size)
                                       + inertia[lo:hi].sum() / world.mass[lo:hi].sum() * self._inertial[rows, rows])


def _rotation(rest: np.ndarray, x: np.ndarray) -> np.ndarray:
    """The orthogonal (3, 3) that takes ``rest`` (n, 3) closest to ``x``, about their means (Schönemann 1966)."""
    u, _, v = np.linalg.svd((x - x.mean(axis=0)).T @ (rest - rest.mean(axis=0)))
    return u @ v
