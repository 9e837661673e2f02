"""What a run carries from frame to frame."""

from dataclasses import dataclass

import numpy as np


@dataclass
class State:
    """Everything a run needs to go on exactly where it was.  Positions m, velocities m/s, (n, 3).

    ``apart_at`` and ``own_at`` are where the nodes were when the lists of what is close were made: what a list holds
    besides what touches changes the last bits.
    """

    x: np.ndarray
    v: np.ndarray
    x_before: np.ndarray
    v_before: np.ndarray
    apart_at: np.ndarray
    own_at: np.ndarray
    restart: bool = True

    @staticmethod
    def at_rest(x: np.ndarray) -> "State":
        zero = np.zeros_like(x)
        return State(x, zero, x, zero, x, x).copy()

    def copy(self) -> "State":
        return State.unpacked(self.packed())

    def packed(self) -> np.ndarray:
        """One flat float64 row."""
        return np.concatenate([a.reshape(-1) for a in (self.x, self.v, self.x_before, self.v_before, self.apart_at,
                                                       self.own_at)] + [[float(self.restart)]])

    @staticmethod
    def unpacked(row: np.ndarray) -> "State":
        x, v, x_before, v_before, apart_at, own_at = row[:-1].reshape(6, -1, 3).copy()
        return State(x, v, x_before, v_before, apart_at, own_at, bool(row[-1]))
