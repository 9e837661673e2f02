"""Frames on disk: one checksummed chunk a frame, so that a kill or a torn write costs one frame at most.

Skin points and solver states are Zarr arrays; the few figures of a frame, its stamp among them, are rows of
one mapped file, because all of them are wanted at once and often.  A frame counts while its row's checksum
holds.  The stamp is the run key of the scene that the frame was computed from, or MIXED when a value changed
on the way.  Whatever is not whole is taken for absent by readers and made anew by the writer.
"""

import json
import os
import queue
import shutil
import threading
import warnings
import zlib
from pathlib import Path
from typing import Any

import numpy as np
import zarr
from zarr.codecs import Crc32cCodec
from zarr.core.chunk_key_encodings import ChunkKeyEncodingLike

from rubberquince.bake.layout import Layout
from rubberquince.errors import RunError

FORMAT = 6
ABSENT, MIXED = 0, 1
MOST_FRAMES = 100_001       # frames that are not written take no room
MOST_WAITING = 8            # frames on their way to disk: a stop waits for them
ARRAYS = ("skin", "state")
FLAT: ChunkKeyEncodingLike = {"name": "default", "separator": "."}      # one file a frame, not two folders and a file


class FrameCache:
    """Skin points (float32), solver state (float64) and readings of every frame of one run.

    Raises RunError when the folder cannot be used.  One process writes; others may read.  ``damaged`` says that
    what lay there was not whole and had to be thrown away.
    """

    def __init__(self, folder: Path, layout: Layout, frames: int, write: bool = True) -> None:
        self.folder, self.layout, self.damaged = folder, layout, False
        self._write = write
        self._row = np.dtype([("check", "<u4"), ("stamp", "<i8"), ("effort", "<f8", (2,)),
                              ("readings", "<f8", (len(layout.entries), len(layout.columns)))])
        try:
            if write:
                self._make_whole(frames)
            self.reopen()
        except OSError as error:
            raise RunError(f"Frames cannot be kept in “{folder}”: "
                           f"{(error.strerror or 'unknown error').lower()}.") from None

    @classmethod
    def reader(cls, folder: Path) -> "FrameCache | None":
        """The frames of a folder as they are; None when there are none that can be read."""
        layout = _layout_in(folder)
        try:
            return None if layout is None else cls(folder, layout, 0, write=False)
        except RunError:
            return None

    # --- the folder -----------------------------------------------------------------------------------

    def _make_whole(self, frames: int) -> None:
        """See to it that the folder is of this layout and can be written to."""
        if _layout_in(self.folder) != self.layout:
            self.damaged = self.folder.is_dir() and any(self.folder.iterdir()) and _layout_in(self.folder) is None
            shutil.rmtree(self.folder, ignore_errors=True)
            self.folder.mkdir(parents=True, exist_ok=True)
        for name, row in zip(ARRAYS, ((self.layout.points, 3), (self.layout.state,))):
            self._describe(name, row)
        with open(self.folder / "rows", "ab") as file:
            size = max(frames, os.fstat(file.fileno()).st_size // self._row.itemsize) * self._row.itemsize
            file.truncate(size)                          # a part of a row at the end is no row
            if size:
                os.posix_fallocate(file.fileno(), 0, size)      # a full disk shows now
        _replace(self.folder / "layout.json", json.dumps({"format": FORMAT}) + "\n" + self.layout.to_json())

    def _describe(self, name: str, row: tuple[int, ...]) -> None:
        """Write what Zarr has to know of an array, unless it says just that already."""
        fresh = self.folder / f"{name}.fresh"
        shutil.rmtree(fresh, ignore_errors=True)
        zarr.create_array(store=fresh, shape=(MOST_FRAMES, *row), chunks=(1, *(max(side, 1) for side in row)),
                          dtype="float32" if name == "skin" else "float64", fill_value=np.nan,
                          compressors=[Crc32cCodec()], chunk_key_encoding=FLAT)
        target = self.folder / name / "zarr.json"
        if target.parent.exists() and not target.parent.is_dir():
            target.parent.unlink()
        target.parent.mkdir(exist_ok=True)
        if target.is_dir():
            shutil.rmtree(target)
        os.replace(fresh / "zarr.json", target)
        shutil.rmtree(fresh)

    def reopen(self) -> None:
        """See what another process has added."""
        mode = "r+" if self._write else "r"
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                self._skin, self._state = (zarr.open_array(self.folder / name, mode=mode) for name in ARRAYS)
            if self._skin.shape[1:] != (self.layout.points, 3) or self._state.shape[1:] != (self.layout.state,):
                raise ValueError
            frames = (self.folder / "rows").stat().st_size // self._row.itemsize
            self._rows: np.ndarray = np.zeros(0, self._row)
            if frames:
                self._rows = np.memmap(self.folder / "rows", self._row, "r+" if self._write else "r", shape=(frames,))
        except Exception:                   # Zarr raises what it likes over a damaged description
            raise RunError(f"The frames in “{self.folder}” are damaged.") from None

    # --- frames ---------------------------------------------------------------------------------------

    @property
    def frames(self) -> int:
        return len(self._rows)

    def write(self, frame: int, stamp: int, skin: np.ndarray, state: np.ndarray, readings: np.ndarray,
              effort: np.ndarray) -> None:
        row = self._rows[frame]
        row["stamp"] = ABSENT
        self._skin[frame] = skin
        self._state[frame] = state
        row["readings"], row["effort"], row["stamp"] = readings, effort, stamp
        row["check"] = _check(row)

    def stamp(self, frame: int) -> int:
        """Stamp of a frame, ABSENT when it was not written or its row is damaged."""
        if not 0 <= frame < self.frames:
            return ABSENT
        row = self._rows[frame]
        return int(row["stamp"]) if row["stamp"] != ABSENT and row["check"] == _check(row) else ABSENT

    def stamps(self) -> np.ndarray:
        return np.array([self.stamp(frame) for frame in range(self.frames)], np.int64)

    def skin(self, frame: int) -> np.ndarray | None:
        return self._whole(self._skin, frame)

    def state(self, frame: int) -> np.ndarray | None:
        return self._whole(self._state, frame)

    def readings(self, frame: int) -> np.ndarray | None:
        """(pieces, columns) of a frame, or None when it is absent."""
        return None if self.stamp(frame) == ABSENT else np.array(self._rows["readings"][frame])

    def effort(self, frame: int) -> np.ndarray | None:
        """Linear iterations and seconds that a frame took, or None when it is absent."""
        return None if self.stamp(frame) == ABSENT else np.array(self._rows["effort"][frame])

    def _whole(self, array: zarr.Array, frame: int) -> np.ndarray | None:
        """A frame's row, or None when it is absent or its checksum does not hold."""
        if self.stamp(frame) == ABSENT:
            return None
        try:
            row = np.asarray(array[frame])
        except Exception:                   # a torn chunk
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
        self._error: str | None = None
        self._thread = threading.Thread(target=self._work, name="cache writer", daemon=True)
        self._thread.start()

    def put(self, *frame: object) -> None:
        """Arguments as for FrameCache.write.  Raises RunError when an earlier write failed."""
        self.check()
        self._queue.put(frame)

    def close(self) -> None:
        """Wait until all is written; whether it could be, ``check`` says."""
        self._queue.put(None)
        self._thread.join()

    def check(self) -> None:
        """Raises RunError when a write failed."""
        if self._error:
            raise RunError(self._error)

    def _work(self) -> None:
        while (frame := self._queue.get()) is not None:
            if self._error:
                continue                    # who puts must never wait for a writer that has given up
            try:
                self._cache.write(*frame)
            except OSError as error:
                self._give_up((error.strerror or "unknown error").lower())
            except Exception as error:      # whatever it is, the run has to hear of it
                self._give_up(f"{type(error).__name__}: {error}")

    def _give_up(self, why: str) -> None:
        self._error = f"Frames cannot be written to “{self._cache.folder}”: {why}; the bake stopped."


def _layout_in(folder: Path) -> Layout | None:
    """The layout that the frames of a folder were written with; None when there is no whole one."""
    try:
        first, _, rest = (folder / "layout.json").read_text().partition("\n")
        return Layout.from_json(rest) if json.loads(first) == {"format": FORMAT} else None
    except (OSError, ValueError):
        return None


def _replace(path: Path, text: str) -> None:
    if path.is_file() and path.read_bytes() == text.encode():
        return
    part = path.with_name(path.name + ".part")
    part.write_text(text)
    os.replace(part, path)


def _check(row: Any) -> int:
    """Of the figures of a frame."""
    return zlib.crc32(row["stamp"].tobytes() + row["effort"].tobytes() + row["readings"].tobytes())
