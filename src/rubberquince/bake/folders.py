"""Where frames are kept: bakes beside the scene they belong to, and a few runs for trying things in the user's cache.

A bake lies under the run key of its scene, so nothing that is changed or tried later can overwrite it.  Whoever
writes to a folder holds its lock.
"""

import os
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from platformdirs import user_cache_path

from rubberquince.bake.cache import FrameCache
from rubberquince.errors import RunError
from rubberquince.locks import hold, is_held

MOST_TRIED = 6              # runs kept for going back to
MOST_BAKES = 4              # of one scene
OF_A_SCENE = ".bake"        # what stands behind the name of a scene's folder of bakes
FORGOTTEN = 7 * 86400.0     # s after which the bakes of a scene that was never saved are thrown away


@dataclass(frozen=True)
class Bake:
    """Frames that are kept: of which run key, how many, their bytes on disk, and the time of the last, s."""

    folder: Path
    key: int
    frames: int
    bytes: int
    made: float


def runs_root() -> Path:
    """The runs that are only for trying."""
    return user_cache_path("rubberquince") / "runs"


def run_folder(topology: int) -> Path:
    """Where the frames of a topology lie, if there are any; another one while another window writes there."""
    folders = (runs_root() / f"{topology:016x}{more}.frames" for more in ("", "-2", "-3", "-4"))
    return next((folder for folder in folders if not is_locked(folder)), runs_root() / f"{topology:016x}-5.frames")


def bakes_root(scene: Path | None, unsaved: str = "") -> Path:
    """The bakes of a scene: beside its file, or in the cache while it has none or nothing can be written there."""
    if scene is not None and os.access(scene.parent, os.W_OK):
        return scene.with_name(scene.name + OF_A_SCENE)
    name = f"unsaved-{unsaved}" if scene is None else str(scene.resolve()).strip("/").replace("/", "-")[-200:]
    return user_cache_path("rubberquince") / "bakes" / name


def bake_folder(root: Path, key: int) -> Path:
    """Where the frames of a run key are kept, if they are."""
    return root / f"{key:016x}.frames"


def bakes_in(root: Path) -> list[Bake]:
    """All bakes of a scene, the newest first."""
    found = []
    for folder in root.glob("*.frames"):
        cache = FrameCache.reader(folder)
        with suppress(OSError, ValueError):
            files = [file.stat() for file in folder.rglob("*") if file.is_file()]
            found.append(Bake(folder, int(folder.stem, 16), 0 if cache is None else int((cache.stamps() != 0).sum()),
                              sum(file.st_blocks * 512 for file in files),
                              max((file.st_mtime for file in files), default=0.0)))
    return sorted(found, key=lambda bake: bake.made, reverse=True)


def make_room(folder: Path, most: int) -> None:
    """Make ``folder``, and throw away the least used beside it that nobody writes to.

    Raises RunError when it cannot be made.
    """
    try:
        folder.mkdir(parents=True, exist_ok=True)
        os.utime(folder)
        kept = sorted(folder.parent.glob("*.frames"), key=lambda one: one.stat().st_mtime, reverse=True)
    except OSError as error:
        raise RunError(f"Frames cannot be kept in “{folder.parent}”: "
                       f"{(error.strerror or 'unknown error').lower()}.") from None
    for old in kept[most:]:
        throw_away(old)


def move_here(tried: Path, kept: Path) -> None:
    """Make the frames of a run those of a bake, where that costs nothing: on one disk, and nobody writes to them."""
    if not is_locked(tried):
        with suppress(OSError):
            kept.parent.mkdir(parents=True, exist_ok=True)
            os.rename(tried, kept)


def throw_away(folder: Path) -> bool:
    """Remove a folder of frames and, when it was the last, what it lay in; False while somebody writes to it."""
    if is_locked(folder):
        return False
    shutil.rmtree(folder, ignore_errors=True)
    with suppress(OSError):
        _lock_of(folder).unlink()
    with suppress(OSError):
        folder.parent.rmdir()
    return True


def throw_away_forgotten() -> None:
    """Remove bakes of scenes that were never saved, some days after."""
    for root in (user_cache_path("rubberquince") / "bakes").glob("unsaved-*"):
        with suppress(OSError):
            if time.time() - root.stat().st_mtime > FORGOTTEN:
                for folder in root.glob("*.frames"):
                    throw_away(folder)


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """Hold the lock of a folder of frames.  Raises RunError while another process writes to it."""
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        handle = hold(_lock_of(folder))
    except OSError as error:
        raise RunError(f"Frames cannot be kept in “{folder.parent}”: "
                       f"{(error.strerror or 'unknown error').lower()}.") from None
    if handle is None:
        raise RunError("Another window or command is computing just this; wait until it is done.")
    try:
        yield
    finally:
        os.close(handle)


def is_locked(folder: Path) -> bool:
    """Does somebody write to this folder of frames?"""
    return is_held(_lock_of(folder))


def _lock_of(folder: Path) -> Path:
    return folder.with_suffix(".lock")
