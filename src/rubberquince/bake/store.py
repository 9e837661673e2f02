"""The reading end of a run's frames: what came from the solver just now, and what lies on disk."""

import os
import shutil
from pathlib import Path

import numpy as np

from rubberquince.bake.cache import ABSENT, READINGS, FrameCache
from rubberquince.document.bodies import Meshes, unit_mesh
from rubberquince.document.scene import Scene
from rubberquince.errors import RunError
from rubberquince.solver.state import State

MOST_RUNS = 6               # folders of frames kept for going back to
MOST_BYTES = 512 * 1024 ** 2


def folder_of(root: Path, topology: int) -> Path:
    """Where the frames of a topology lie, if there are any."""
    return root / f"{topology:016x}.frames"


def fresh_folder(root: Path, topology: int) -> Path:
    """The folder of frames for a topology; the least used of the others are thrown away.

    Raises RunError when it cannot be made.
    """
    folder = folder_of(root, topology)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        os.utime(folder)
        runs = sorted(root.glob("*.frames"), key=lambda f: f.stat().st_mtime, reverse=True)
    except OSError as error:
        raise RunError(f"Frames cannot be kept in “{root}”: {(error.strerror or 'unknown error').lower()}.") from None
    for old in runs[MOST_RUNS:]:
        shutil.rmtree(old, ignore_errors=True)
    return folder


class FrameStore:
    """Frames of one folder, by number.

    ``stamps`` (frames,) int64 says what each was computed from; ``efforts`` (frames, 2) what it took: iterations
    of the linear solver, and seconds; NaN where there is none.
    """

    def __init__(self, folder: Path, scene: Scene, meshes: Meshes) -> None:
        self.folder = folder
        self.stamps = np.zeros(0, np.int64)
        solids = [p for p in scene.pieces if p.role == "solid"]
        self._ids = [piece.id for piece in solids]
        self._ends = np.cumsum([len(unit_mesh(piece.shape, meshes).points) for piece in solids], dtype=np.int64)
        self._cache: FrameCache | None = None
        self._fresh: dict[int, np.ndarray] = {}
        self._bytes = 0
        self._readings = np.zeros((0, len(solids), len(READINGS)))
        self.efforts = np.zeros((0, 2))
        self.open()

    def open(self) -> None:
        """Read what is on disk, if it is of this scene."""
        cache = FrameCache.reader(self.folder)
        if cache is None or cache.layout["solids"] != len(self._ids) or cache.layout["points"] != sum(self._ends[-1:]):
            return
        self._cache = cache
        self._fresh.clear()
        self._bytes = 0
        self.refresh()
        self.efforts[: cache.frames] = cache.efforts()
        for number in np.flatnonzero(self.stamps != ABSENT):
            row = cache.readings(int(number))
            if row is not None:
                self._readings[number] = row

    def refresh(self) -> None:
        """Look again at what is on disk: it can hold more frames than came by in this session."""
        if self._cache is not None:
            self._cache.reopen()
            on_disk = self._cache.stamps()
            self._grow(len(on_disk))
            self.stamps[: len(on_disk)] = np.where(on_disk != ABSENT, on_disk, self.stamps[: len(on_disk)])

    def put(self, number: int, stamp: int, skin: np.ndarray, readings: np.ndarray, effort: np.ndarray) -> None:
        """A frame that the solver has just computed; it may not be on disk yet."""
        self._grow(number + 1)
        self.stamps[number] = stamp
        self._readings[number], self.efforts[number] = readings, effort
        self._fresh[number] = skin
        self._bytes += skin.nbytes
        while self._bytes > MOST_BYTES:
            self._bytes -= self._fresh.pop(next(iter(self._fresh))).nbytes

    def skins(self, number: int) -> dict[str, np.ndarray] | None:
        """Skin points (n, 3) m of each solid, by piece id; None when the frame cannot be had."""
        skin = self._fresh.get(number)
        if skin is None and self._cache is not None:
            skin = self._cache.skin(number)
            if skin is not None:
                self._fresh[number] = skin
                self._bytes += skin.nbytes
        if skin is None:
            return None
        return dict(zip(self._ids, np.split(skin, self._ends[:-1])))

    @property
    def bytes_a_frame(self) -> int:
        """On disk; 0 before anything is known."""
        return 0 if self._cache is None else 4 * 3 * self._cache.layout["points"] + 8 * self._cache.layout["state"]

    def nodes(self, number: int) -> np.ndarray | None:
        """Lattice nodes (n, 3) m of all solids at a frame."""
        state = self._cache.state(number) if self._cache is not None else None
        return None if state is None else State.unpacked(state).x

    def readings_of(self, piece_id: str) -> np.ndarray:
        """(frames, readings) of a solid, NaN where there are none."""
        if piece_id not in self._ids:
            return np.zeros((0, len(READINGS)))
        return self._readings[:, self._ids.index(piece_id)]

    def _grow(self, frames: int) -> None:
        more = frames - len(self.stamps)
        if more > 0:
            self.stamps = np.concatenate([self.stamps, np.full(more, ABSENT)])
        more = frames - len(self._readings)
        if more > 0:
            width = (more, len(self._ids), len(READINGS))
            old = self._readings.reshape(len(self._readings), *width[1:])
            self._readings = np.concatenate([old, np.full(width, np.nan)])
            self.efforts = np.concatenate([self.efforts, np.full((more, 2), np.nan)])
