"""Hand over what was baked: a frame as one mesh file, a range as USD, as morph targets or file by file."""

import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from rubberquince.bake.cache import FrameCache
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.errors import ExportError
from rubberquince.exchange.frames import write_obj, write_ply, write_stl
from rubberquince.exchange.glb import write_glb
from rubberquince.exchange.handover import handed_over
from rubberquince.exchange.usd import write_usd
from rubberquince.exchange.writing import Exported

USD_SUFFIXES = (".usdc", ".usda", ".usd")
FRAME_WRITERS: dict[str, Callable[[Path, list[Exported]], object]] = {
    ".obj": write_obj, ".ply": write_ply, ".stl": write_stl, ".glb": lambda path, pieces: write_glb(path, pieces, [])}
SEQUENCES = (".obj", ".ply")
RUN_SUFFIXES = (*USD_SUFFIXES, ".glb", *SEQUENCES)
LEAST_ROOM = 1 << 16        # bytes on disk, without which nothing is begun


Skins = dict[str, np.ndarray]


def export_frame(path: Path, scene: Scene, meshes: Meshes, skins: Skins | None) -> None:
    """One frame as OBJ, PLY, STL or GLB.

    skins : points (n, 3), m, of the solids by piece id; None for pieces as they are placed.
    """
    check_target(path, tuple(FRAME_WRITERS), "one frame")
    still, moving = _seen(scene, meshes)
    if skins is not None:
        moving = [e.moved(skins[e.piece].astype(np.float64)) for e in moving]
    FRAME_WRITERS[path.suffix.lower()](path, moving + still)


def export_run(path: Path, scene: Scene, meshes: Meshes, cache: FrameCache, first: int, last: int) -> int:
    """Frames first .. last as USD, GLB, or a file a frame (OBJ, PLY).  Returns how many.

    Raises ExportError when one is not baked.
    """
    suffix = path.suffix.lower()
    check_target(path, RUN_SUFFIXES, "a run")
    still, moving = _seen(scene, meshes)

    def frames() -> Iterator[tuple[int, list[np.ndarray]]]:
        for number in range(first, last + 1):
            skin = cache.skin(number)
            if skin is None:
                raise ExportError(f"Frame {number} is not baked; bake {first} – {last} first.")
            skins = cache.layout.skins(skin)
            yield number, [skins[e.piece].astype(np.float64) for e in moving]

    if suffix in SEQUENCES:
        return _write_sequence(path, still, moving, frames(), len(str(last)))
    if suffix == ".glb":
        return write_glb(path, still, moving, scene.run.fps, frames())
    return write_usd(path, still, moving, scene.run.fps, frames())


def export_from(path: Path, scene: Scene, meshes: Meshes, folder: Path, first: int, last: int) -> int:
    """The same of the frames in a folder.  Raises ExportError, too, when there are none."""
    cache = FrameCache.reader(folder)
    if cache is None:
        raise ExportError("The baked frames are gone; press Bake first.")
    return export_run(path, scene, meshes, cache, first, last)


def _write_sequence(path: Path, still: list[Exported], moving: list[Exported],
                    frames: Iterator[tuple[int, list[np.ndarray]]], digits: int) -> int:
    """A numbered file beside ``path`` for each frame; none are left when the export breaks off."""
    written: list[Path] = []
    try:
        for number, points in frames:
            file = path.with_name(f"{path.stem}.{number:0{max(digits, 4)}d}{path.suffix}")
            FRAME_WRITERS[path.suffix.lower()](file, [e.moved(p) for e, p in zip(moving, points)] + still)
            written.append(file)
    except BaseException:                   # also when the process is told to end
        for file in written:
            file.unlink(missing_ok=True)
        raise
    return len(written)


def check_target(path: Path, suffixes: tuple[str, ...], what: str) -> None:
    """Raises ExportError when ``what`` cannot be written to ``path``: known before anything is computed for it."""
    if path.suffix.lower() not in suffixes:
        raise ExportError(f"“{path.name}” is not a name for {what}; end it in {_listed(suffixes)}.")
    if not path.parent.is_dir():
        raise ExportError(f"Could not write “{path.name}”: the folder “{path.parent}” is not there.")
    if path.is_dir():
        raise ExportError(f"Could not write “{path.name}”: a folder of this name is in the way.")
    if not os.access(path.parent, os.W_OK):
        raise ExportError(f"Could not write “{path.name}”: the folder “{path.parent}” cannot be written to.")
    if shutil.disk_usage(path.parent).free < LEAST_ROOM:
        raise ExportError(f"Could not write “{path.name}”: no space left on device.")


def _seen(scene: Scene, meshes: Meshes) -> tuple[list[Exported], list[Exported]]:
    """What is handed over.  Raises ExportError when it is nothing."""
    still, moving = handed_over(scene, meshes)
    if not still and not moving:
        raise ExportError("There is nothing to hand over: no piece of the scene is shown.")
    return still, moving


def _listed(suffixes: tuple[str, ...]) -> str:
    return f"{', '.join(suffixes[:-1])} or {suffixes[-1]}"
