"""Exports as errands: the libraries of all formats take more memory than the window."""

from collections.abc import Callable
from pathlib import Path

import numpy as np

from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.jobs.errands import Errand, run_errand


def export_frame_apart(path: Path, scene: Scene, meshes: Meshes, skins: dict[str, np.ndarray] | None,
                       stopped: Callable[[], bool]) -> int:
    """Write one frame as bake.export.export_frame does; returns 1.  Raises QuinceError with one sentence."""
    run_errand(Errand("bake.export:export_frame", (path, scene, meshes, skins)), stopped, _what(path))
    return 1


def export_run_apart(path: Path, scene: Scene, meshes: Meshes, folder: Path, first: int, last: int,
                     stopped: Callable[[], bool]) -> int:
    """Write the frames first .. last of a folder; returns how many.  Raises QuinceError with one sentence."""
    errand = Errand("bake.export:export_from", (path, scene, meshes, folder, first, last))
    return run_errand(errand, stopped, _what(path))


def _what(path: Path) -> str:
    return f"The export to “{path.name}”"
