"""What a run carries from frame to frame."""

from dataclasses import dataclass

import numpy as np


@dataclass
class State:
    """Everything a run needs to go on exactly where it was.  Positions m, velocities m/s, (n, 3).

    ``force`` is what pushed the nodes last, m/s², and ``push`` the same, evened out over some substeps by the scheme.
    """

    x: np.ndarray
    v: np.ndarray
    push: np.ndarray
    force: np.ndarray

    @staticmethod
    def at_rest(x: np.ndarray) -> "State":
        zero = np.zeros_like(x)
        return State(x, zero, zero, zero).copy()

    def copy(self) -> "State":
        return State.unpacked(self.packed())

    def packed(self) -> np.ndarray:
        """One flat float64 row."""
        parts = self.x, self.v, self.push, self.force
        return np.concatenate([part.reshape(-1) for part in parts])

    @staticmethod
    def unpacked(row: np.ndarray) -> "State":
        return State(*row.reshape(4, -1, 3).copy())
