"""The reading end of a run's frames: what came from the solver just now, and what lies on disk."""

from pathlib import Path

import numpy as np

from rubberquince.bake.cache import ABSENT, FrameCache
from rubberquince.bake.layout import READINGS, Layout
from rubberquince.solver.state import State

MOST_BYTES = 512 * 1024 ** 2


class FrameStore:
    """Frames of one folder, by number.

    ``layout`` says whose they are; None before there are any.  ``stamps`` (frames,) int64 says what each was computed
    from; ``efforts`` (frames, 2) what it took: iterations of the linear solver, and seconds; NaN where there is none.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.stamps = np.zeros(0, np.int64)
        self.efforts = np.zeros((0, 2))
        self.layout: Layout | None = None
        self._cache: FrameCache | None = None
        self._recent: dict[int, np.ndarray] = {}        # skins, the last seen last
        self._bytes = 0
        self._readings = np.zeros((0, 0, len(READINGS)))
        self.refresh()

    def refresh(self) -> None:
        """Look again at what is on disk: it can hold other frames than came by in this session."""
        cache = FrameCache.reader(self.folder)
        if cache is None:
            return
        if cache.layout != self.layout:
            self._forget(cache.layout)
        self._cache = cache
        self._grow(cache.frames)
        for number, stamp in enumerate(cache.stamps()):
            if stamp != ABSENT and stamp != self.stamps[number]:
                self._drop(number)
                self.stamps[number] = stamp
                self._readings[number], self.efforts[number] = cache.readings(number), cache.effort(number)

    def put(self, number: int, stamp: int, skin: np.ndarray, readings: np.ndarray, effort: np.ndarray) -> None:
        """A frame that the solver has just computed; it may not be on disk yet."""
        self._grow(number + 1)
        self.stamps[number] = stamp
        self._readings[number], self.efforts[number] = readings, effort
        self._remember(number, skin)

    def skins(self, number: int) -> dict[str, np.ndarray] | None:
        """Skin points (n, 3) m of each solid, by piece id; None when the frame cannot be had."""
        if self.layout is None or not 0 <= number < len(self.stamps) or self.stamps[number] == ABSENT:
            return None
        skin = self._recent.get(number)
        if skin is None:
            skin = self._cache.skin(number) if self._cache is not None else None
            if skin is None:
                self.stamps[number] = ABSENT            # it is damaged: who plays will have it computed again
                return None
        self._remember(number, skin)
        return self.layout.skins(skin)

    @property
    def bytes_a_frame(self) -> int:
        """On disk; 0 before anything is known."""
        return 0 if self.layout is None else 4 * 3 * self.layout.points + 8 * self.layout.state

    def nodes(self, number: int) -> dict[str, tuple[str, np.ndarray]]:
        """Carrier key and nodes (n, 3) m of each solid at a frame, by piece id; empty when it is not on disk."""
        state = self._cache.state(number) if self._cache is not None else None
        if state is None or self.layout is None:
            return {}
        nodes = self.layout.nodes(State.unpacked(state).x)
        return {entry.piece: (entry.carrier, nodes[entry.piece]) for entry in self.layout.entries
                if entry.piece in nodes}

    def readings_of(self, piece_id: str) -> np.ndarray:
        """(frames, readings) of a solid, NaN where there are none."""
        row = self.layout.row(piece_id) if self.layout is not None else None
        return np.zeros((0, len(READINGS))) if row is None else self._readings[:, row]

    # --- what is kept ---------------------------------------------------------------------------------

    def _forget(self, layout: Layout) -> None:
        """The folder has frames of other pieces now."""
        self.layout, self.stamps, self.efforts = layout, np.zeros(0, np.int64), np.zeros((0, 2))
        self._readings = np.zeros((0, len(layout.entries), len(layout.columns)))
        self._recent.clear()
        self._bytes = 0

    def _remember(self, number: int, skin: np.ndarray) -> None:
        self._drop(number)
        self._recent[number] = skin
        self._bytes += skin.nbytes
        while self._bytes > MOST_BYTES:
            self._drop(next(iter(self._recent)))

    def _drop(self, number: int) -> None:
        old = self._recent.pop(number, None)
        if old is not None:
            self._bytes -= old.nbytes

    def _grow(self, frames: int) -> None:
        more = frames - len(self.stamps)
        if more > 0:
            self.stamps = np.concatenate([self.stamps, np.full(more, ABSENT)])
            self._readings = np.concatenate([self._readings, np.full((more, *self._readings.shape[1:]), np.nan)])
            self.efforts = np.concatenate([self.efforts, np.full((more, 2), np.nan)])
