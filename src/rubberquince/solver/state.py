"""What a run carries from frame to frame."""

from dataclasses import dataclass

import numpy as np

ASLEEP = np.inf             # frames that a body has been still: it is left alone


@dataclass
class State:
    """Everything a run needs to go on exactly where it was.  Positions m, velocities m/s, (n, 3).

    ``force`` is what pushed the nodes last, m/s², and ``push`` the same, evened out over some substeps by the scheme.
    ``idle`` (bodies,) is for how many frames each body has been still; see solver.islands.
    """

    x: np.ndarray
    v: np.ndarray
    push: np.ndarray
    force: np.ndarray
    idle: np.ndarray

    @staticmethod
    def at_rest(x: np.ndarray, bodies: int) -> "State":
        zero = np.zeros_like(x)
        return State(x, zero, zero, zero, np.zeros(bodies)).copy()

    def copy(self) -> "State":
        return State.unpacked(self.packed())

    def packed(self) -> np.ndarray:
        """One flat float64 row."""
        parts = self.x, self.v, self.push, self.force, self.idle, np.array([len(self.idle)], float)
        return np.concatenate([part.reshape(-1) for part in parts])

    @staticmethod
    def unpacked(row: np.ndarray) -> "State":
        bodies = int(row[-1])
        nodes, idle = row[:-1 - bodies], row[-1 - bodies:-1]
        x, v, push, force = nodes.reshape(4, -1, 3).copy()
        return State(x, v, push, force, idle.copy())
