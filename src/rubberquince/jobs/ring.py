"""Frames from one process to another through shared pages: a few slots used in turn."""

import time
from collections.abc import Callable
from contextlib import suppress
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

    def remove(self) -> None:
        """Take the file away; who has it mapped may go on reading."""
        with suppress(OSError):
            self.path.unlink()


class Signals:
    """Shared by the two ends of the link: whether to stop, and what part 0 .. 1 of a frame is done."""

    def __init__(self, path: Path, create: bool) -> None:
        data = np.memmap(path, np.float64, "w+" if create else "r+", shape=(2,))
        self._stop, self._share = data[:1], data[1:]

    def set_stop(self) -> None:
        self._stop[0] = 1.0

    def clear(self) -> None:
        self._stop[0], self._share[0] = 0.0, 0.0

    def stopped(self) -> bool:
        return bool(self._stop[0])

    def tell(self, share: float) -> None:
        self._share[0] = share

    def share(self) -> float:
        return float(self._share[0])
