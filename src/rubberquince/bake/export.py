"""Hand over what was baked: a frame as OBJ, a range as USD."""

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

from rubberquince.bake.cache import FrameCache
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.errors import ExportError
from rubberquince.exchange.exporting import Exported, write_obj, write_usd
from rubberquince.exchange.handover import handed_over

USD_SUFFIXES = (".usdc", ".usda", ".usd")


def split_skin(skin: np.ndarray, moving: list[Exported]) -> list[np.ndarray]:
    """The points of each moving piece out of a whole frame's."""
    ends = np.cumsum([len(e.points) for e in moving])
    return np.split(np.asarray(skin, np.float64), ends[:-1]) if len(ends) else []


def export_frame(path: Path, scene: Scene, meshes: Meshes, skin: np.ndarray | None) -> None:
    """One frame as OBJ; without ``skin`` (n, 3) m the pieces as they are placed."""
    still, moving = handed_over(scene, meshes)
    if skin is not None:
        moving = [Exported(e.name, e.mesh, points) for e, points in zip(moving, split_skin(skin, moving))]
    write_obj(path, moving + still)


def export_run(path: Path, scene: Scene, meshes: Meshes, cache: FrameCache, first: int, last: int,
               stopped: Callable[[], bool] = lambda: False) -> int:
    """Frames first .. last as USD.  Raises ExportError when one is not baked, or ``stopped()`` on the way."""
    if path.suffix.lower() not in USD_SUFFIXES:
        raise ExportError(f"“{path.name}” is not a USD name; end it in .usdc.")
    still, moving = handed_over(scene, meshes)

    def frames() -> Iterator[tuple[int, list[np.ndarray]]]:
        for number in range(first, last + 1):
            if stopped():
                raise ExportError(f"The export was stopped; “{path.name}” was not written.")
            skin = cache.skin(number)
            if skin is None:
                raise ExportError(f"Frame {number} is not baked; bake {first} – {last} first.")
            yield number, split_skin(skin, moving)

    return write_usd(path, still, moving, scene.run.fps, frames())
