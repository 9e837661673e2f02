"""What a run carries from frame to frame."""

from dataclasses import dataclass

import numpy as np

ASLEEP = np.inf             # frames that a body has been still: it is left alone


@dataclass
class State:
    """Everything a run needs to go on exactly where it was.  Positions m, velocities m/s, (n, 3).

    ``force`` is what pushed the nodes last, m/s², and ``push`` the same, evened out over some substeps by the scheme.
    ``memory`` (cells, 7) is what of cells that keep dents has flowed; see kernels.flow.
    ``idle`` (bodies,) is for how many frames each body has been still; see solver.islands.
    """

    x: np.ndarray
    v: np.ndarray
    push: np.ndarray
    force: np.ndarray
    memory: np.ndarray
    idle: np.ndarray

    @staticmethod
    def at_rest(x: np.ndarray, cells: int, bodies: int) -> "State":
        zero = np.zeros_like(x)
        return State(x, zero, zero, zero, np.zeros((cells, 7)), np.zeros(bodies)).copy()

    def copy(self) -> "State":
        return State.unpacked(self.packed())

    def packed(self) -> np.ndarray:
        """One flat float64 row."""
        sizes = np.array([len(self.memory), len(self.idle)], float)
        parts = self.x, self.v, self.push, self.force, self.memory, self.idle, sizes
        return np.concatenate([part.reshape(-1) for part in parts])

    @staticmethod
    def unpacked(row: np.ndarray) -> "State":
        cells, bodies = int(row[-2]), int(row[-1])
        nodes, memory, idle = np.split(row[:-2], [len(row) - 2 - bodies - 7 * cells, len(row) - 2 - bodies])
        x, v, push, force = nodes.reshape(4, -1, 3).copy()
        return State(x, v, push, force, memory.reshape(-1, 7).copy(), idle.copy())
