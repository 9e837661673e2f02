"""What a run carries from frame to frame."""

from dataclasses import dataclass

import numpy as np


@dataclass
class State:
    """Everything a run needs to go on exactly where it was.  Positions m, velocities m/s, (n, 3).

    ``force`` is what pushed the nodes last, m/s², and ``push`` the same, evened out over some substeps by the scheme.

    ``apart_at`` and ``own_at`` are where the nodes were when the lists of what is close were made: what a list holds
    besides what touches changes the last bits.
    """

    x: np.ndarray
    v: np.ndarray
    push: np.ndarray
    force: np.ndarray
    apart_at: np.ndarray
    own_at: np.ndarray

    @staticmethod
    def at_rest(x: np.ndarray) -> "State":
        zero = np.zeros_like(x)
        return State(x, zero, zero, zero, x, x).copy()

    def copy(self) -> "State":
        return State.unpacked(self.packed())

    def packed(self) -> np.ndarray:
        """One flat float64 row."""
        parts = self.x, self.v, self.push, self.force, self.apart_at, self.own_at
        return np.concatenate([part.reshape(-1) for part in parts])

    @staticmethod
    def unpacked(row: np.ndarray) -> "State":
        return State(*row.reshape(6, -1, 3).copy())
