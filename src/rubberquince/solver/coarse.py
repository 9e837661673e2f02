"""The coarse space of the linear system: affine motions of a few parts of every body, turned with the body."""

import numpy as np

from rubberquince.kernels.coarse import coarse_elastic
from rubberquince.kernels.isometry import fit_isometry
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
        self.mode = world.mode * world.free[:, None]
        self.part_node = np.argsort(world.aggregate, kind="stable")
        self.part_ptr = np.searchsorted(world.aggregate[self.part_node], np.arange(size // 12 + 1))
        zero, one, pattern = np.zeros(len(world.mass)), np.ones(len(world.mass)), world.pattern
        rows = (pattern.row_ptr, pattern.col, blocks)
        space = (world.free, world.aggregate, world.mode)
        coarse_elastic(*rows, one, zero, *space, self._elastic)
        coarse_elastic(*rows, zero, world.mass, *space, self._inertial)

    def lay(self, x: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Make the matrix for nodes at ``x`` (n, 3), m; stretch and inertia (n,) as in kernels.linear."""
        world, back, shift = self._world, np.empty((3, 3)), np.empty(3)
        for lo, hi in zip(world.first_node[:-1], world.first_node[1:]):
            rows = slice(12 * world.aggregate[lo:hi].min(), 12 * (world.aggregate[lo:hi].max() + 1))
            size = rows.stop - rows.start
            fit_isometry(x, lo, hi, world.start, back, shift)
            turn = back.T
            turned = turn @ self._elastic[rows, rows].reshape(-1, 3, size)
            turned = turned.reshape(size, -1, 3) @ turn.T
            self.matrix[rows, rows] = (stretch[lo] * turned.reshape(size, size)
                                       + inertia[lo:hi].sum() / world.mass[lo:hi].sum() * self._inertial[rows, rows])

