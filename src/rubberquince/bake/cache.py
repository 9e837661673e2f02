"""Frames on disk: one checksummed chunk a frame, so that a kill or a torn write costs one frame at most.

Skin points and solver states are Zarr arrays; the few figures of a frame, its stamp among them, are rows of
one mapped file, because all of them are wanted at once and often.  A frame counts once its stamp is
written, and the stamp is written last.  The stamp is the run key of the scene that the frame was computed
from, or MIXED when a value changed on the way.
"""

import json
import os
import queue
import shutil
import threading
import warnings
import zlib
from pathlib import Path

import numpy as np
import zarr
from zarr.codecs import Crc32cCodec

from rubberquince.errors import RunError

FORMAT = 4
ABSENT, MIXED = 0, 1
READINGS = ("volume", "stretch", "contact", "speed", "height", "centre")
MOST_WAITING = 8            # frames on their way to disk: a stop waits for them


class FrameCache:
    """Skin points (float32), solver state (float64) and readings of every frame of one run.

    Raises RunError when the folder cannot be used.  One process writes; others may read.
    """

    def __init__(self, folder: Path, layout: dict[str, int], frames: int, write: bool = True) -> None:
        self.folder = folder
        self._layout = {"format": FORMAT, **layout}
        self._write = write
        self._row = np.dtype([("stamp", "<i8"), ("check", "<u4"), ("effort", "<f8", (2,)),
                              ("readings", "<f8", (layout["solids"], len(READINGS)))])
        try:
            if write and not self._fits():
                shutil.rmtree(folder, ignore_errors=True)
                folder.mkdir(parents=True, exist_ok=True)
                self._create(frames)
            self.reopen()
            if write and frames > self.frames:
                self._skin.resize((frames, *self._skin.shape[1:]))
                self._state.resize((frames, *self._state.shape[1:]))
                self._map_rows(frames)
        except OSError as error:
            raise RunError(f"Frames cannot be kept in “{folder}”: "
                           f"{(error.strerror or 'unknown error').lower()}.") from None

    @classmethod
    def reader(cls, folder: Path) -> "FrameCache | None":
        """The frames of a folder as they are; None when there are none that can be read."""
        try:
            layout = json.loads((folder / "layout.json").read_text())
            if layout.pop("format") != FORMAT:
                return None
            return cls(folder, layout, 0, write=False)
        except (OSError, ValueError, KeyError, TypeError, AttributeError, RunError):
            return None

    def _fits(self) -> bool:
        """True when the folder holds a cache of just this layout."""
        try:
            return json.loads((self.folder / "layout.json").read_text()) == self._layout
        except (OSError, ValueError):
            return False

    def _create(self, frames: int) -> None:
        for name, width, kind in (("skin", (self._layout["points"], 3), "float32"),
                                  ("state", (self._layout["state"],), "float64")):
            zarr.create_array(store=self.folder / name, shape=(frames, *width), chunks=(1, *(max(w, 1) for w in width)),
                              dtype=kind, fill_value=np.nan, compressors=[Crc32cCodec()])
        self._map_rows(frames)
        part = self.folder / "layout.json.part"
        part.write_text(json.dumps(self._layout))
        os.replace(part, self.folder / "layout.json")

    def reopen(self) -> None:
        """See what another process has added."""
        mode = "r+" if self._write else "r"
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                self._skin, self._state = (zarr.open_array(self.folder / name, mode=mode) for name in ("skin", "state"))
            self._map_rows((self.folder / "rows").stat().st_size // self._row.itemsize)
        except (OSError, ValueError, KeyError) as error:
            raise RunError(f"The frames in “{self.folder}” cannot be read: {type(error).__name__}.") from None

    def _map_rows(self, frames: int) -> None:
        path = self.folder / "rows"
        if self._write:
            with open(path, "ab") as file:
                os.posix_fallocate(file.fileno(), 0, frames * self._row.itemsize)     # a full disk shows now
        self._rows = np.memmap(path, self._row, "r+" if self._write else "r", shape=(frames,))

    @property
    def layout(self) -> dict[str, int]:
        return self._layout

    @property
    def frames(self) -> int:
        return len(self._rows)

    def write(self, frame: int, stamp: int, skin: np.ndarray, state: np.ndarray, readings: np.ndarray,
              effort: np.ndarray) -> None:
        row = self._rows[frame]
        row["stamp"] = ABSENT
        self._skin[frame] = skin
        self._state[frame] = state
        row["readings"], row["effort"] = readings, effort
        row["check"] = zlib.crc32(row["readings"].tobytes())
        row["stamp"] = stamp

    def stamp(self, frame: int) -> int:
        """Stamp of a frame, ABSENT when it was not written."""
        return int(self._rows["stamp"][frame]) if 0 <= frame < self.frames else ABSENT

    def stamps(self) -> np.ndarray:
        return np.array(self._rows["stamp"])

    def skin(self, frame: int) -> np.ndarray | None:
        return self._whole(self._skin, frame)

    def state(self, frame: int) -> np.ndarray | None:
        return self._whole(self._state, frame)

    def readings(self, frame: int) -> np.ndarray | None:
        """(solids, READINGS) of a frame, or None when it is absent or its checksum does not hold."""
        if self.stamp(frame) == ABSENT:
            return None
        readings = np.array(self._rows["readings"][frame])
        return readings if zlib.crc32(readings.tobytes()) == self._rows["check"][frame] else None

    def efforts(self) -> np.ndarray:
        """(frames, 2): linear iterations and seconds that each frame took, NaN where there is none."""
        return np.where((self.stamps() != ABSENT)[:, None], self._rows["effort"], np.nan)

    def _whole(self, array: zarr.Array, frame: int) -> np.ndarray | None:
        """A frame's row, or None when it is absent or its checksum does not hold."""
        if self.stamp(frame) == ABSENT:
            return None
        try:
            row = np.asarray(array[frame])
        except (ValueError, OSError):
            return None
        return None if np.isnan(row).any() else row

    def last_good(self, first: int, stamp: int) -> int | None:
        """The last frame up to which every frame from ``first`` is whole and bears ``stamp``."""
        good = None
        for frame in range(first, self.frames):
            if self.stamp(frame) != stamp or self.state(frame) is None or self.skin(frame) is None:
                break
            good = frame
        return good


class CacheWriter:
    """Writes frames in its own thread, so that solving never waits for the disk."""

    def __init__(self, cache: FrameCache) -> None:
        self._cache = cache
        self._queue: queue.Queue[tuple | None] = queue.Queue(maxsize=MOST_WAITING)
        self.error: str | None = None
        self._thread = threading.Thread(target=self._work, name="cache writer", daemon=True)
        self._thread.start()

    def put(self, *frame: object) -> None:
        """Arguments as for FrameCache.write.  Raises RunError when an earlier write failed."""
        if self.error:
            raise RunError(self.error)
        self._queue.put(frame)

    def close(self) -> None:
        """Wait until all is written."""
        self._queue.put(None)
        self._thread.join()

    def _work(self) -> None:
        while (frame := self._queue.get()) is not None:
            if self.error:
                continue
            try:
                self._cache.write(*frame)
            except OSError as error:
                self.error = (f"Frames cannot be written to “{self._cache.folder}”: "
                              f"{(error.strerror or 'unknown error').lower()}; the bake stopped.")
