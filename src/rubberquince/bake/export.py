"""Hand over what was baked: a frame as one mesh file, a range as USD, as morph targets or file by file."""

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


def split_skin(skin: np.ndarray, moving: list[Exported]) -> list[np.ndarray]:
    """The points of each moving piece out of a whole frame's."""
    ends = np.cumsum([len(e.points) for e in moving])
    return np.split(np.asarray(skin, np.float64), ends[:-1]) if len(ends) else []


def export_frame(path: Path, scene: Scene, meshes: Meshes, skin: np.ndarray | None) -> None:
    """One frame as OBJ, PLY, STL or GLB; without ``skin`` (n, 3) m the pieces as they are placed."""
    write = FRAME_WRITERS.get(path.suffix.lower())
    if write is None:
        raise ExportError(f"“{path.name}” is not a name for one frame; end it in {_listed(tuple(FRAME_WRITERS))}.")
    still, moving = handed_over(scene, meshes)
    if not still and not moving:
        raise ExportError("There is nothing to hand over: the scene has no pieces that are seen.")
    if skin is not None:
        moving = [e.moved(points) for e, points in zip(moving, split_skin(skin, moving))]
    write(path, moving + still)


def export_run(path: Path, scene: Scene, meshes: Meshes, cache: FrameCache, first: int, last: int) -> int:
    """Frames first .. last as USD, GLB, or a file a frame (OBJ, PLY).  Returns how many.

    Raises ExportError when one is not baked.
    """
    suffix = path.suffix.lower()
    if suffix not in RUN_SUFFIXES:
        raise ExportError(f"“{path.name}” is not a name for a run; end it in {_listed(RUN_SUFFIXES)}.")
    still, moving = handed_over(scene, meshes)

    def frames() -> Iterator[tuple[int, list[np.ndarray]]]:
        for number in range(first, last + 1):
            skin = cache.skin(number)
            if skin is None:
                raise ExportError(f"Frame {number} is not baked; bake {first} – {last} first.")
            yield number, split_skin(skin, moving)

    if suffix in SEQUENCES:
        return _write_sequence(path, still, moving, frames(), len(str(last)))
    if suffix == ".glb":
        return write_glb(path, still, moving, scene.run.fps, frames())
    return write_usd(path, still, moving, scene.run.fps, frames())


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


def _listed(suffixes: tuple[str, ...]) -> str:
    return f"{', '.join(suffixes[:-1])} or {suffixes[-1]}"
