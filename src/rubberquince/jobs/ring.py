"""Frames from one process to another through shared pages: a few slots used in turn."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import numpy as np

SLOTS = 8
_HEADER = 2                 # int64: frames written, frames read


class Ring:
    """``SLOTS`` slots of (points, 3) float32 in a mapped file.  One writer, one reader."""

    def __init__(self, path: Path, points: int, create: bool) -> None:
        mode: Literal["w+", "r+"] = "w+" if create else "r+"
        self.path = path
        self._data = np.memmap(path, np.uint8, mode, shape=(8 * _HEADER + SLOTS * max(points, 1) * 12,))
        self._count = self._data[: 8 * _HEADER].view(np.int64)
        self._frames = self._data[8 * _HEADER:].view(np.float32).reshape(SLOTS, -1, 3)[:, :points]

    def write(self, points: np.ndarray, give_up: Callable[[], bool]) -> int | None:
        """Put a frame in the next slot, waiting while the reader is behind; None when told to give up."""
        while self._count[0] - self._count[1] >= SLOTS:
            if give_up():
                return None
            time.sleep(0.002)
        slot = int(self._count[0]) % SLOTS
        self._frames[slot] = points
        self._count[0] += 1
        return slot

    def read(self, slot: int) -> np.ndarray:
        """A copy of the frame in ``slot``; frees the slot."""
        points = np.array(self._frames[slot])
        self._count[1] += 1
        return points


class StopFlag:
    """One byte that the window sets and the solver looks at in every Newton step."""

    def __init__(self, path: Path, create: bool) -> None:
        self._byte = np.memmap(path, np.uint8, "w+" if create else "r+", shape=(1,))

    def set(self) -> None:
        self._byte[0] = 1

    def clear(self) -> None:
        self._byte[0] = 0

    def is_set(self) -> bool:
        return bool(self._byte[0])
