"""Handing over: a frame or the whole run as files of open formats."""

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PySide6.QtWidgets import QWidget

from rubberquince.errors import QuinceError
from rubberquince.jobs.exporting import export_frame_apart, export_run_apart
from rubberquince.ui.bench import Bench
from rubberquince.ui.chores import awake
from rubberquince.ui.dialogs import FileDialogs
from rubberquince.ui.runner import Runner

FRAME_KINDS = {"OBJ mesh": ".obj", "PLY mesh": ".ply", "STL triangles": ".stl", "GLB": ".glb"}
RUN_KINDS = {"USD": ".usdc", "USD as text": ".usda", "GLB with morph targets": ".glb",
             "OBJ, a file a frame": ".obj", "PLY, a file a frame": ".ply"}


class Handing:
    """What the exports in the Scene menu do.  Both take a path to skip asking."""

    def __init__(self, window: QWidget, bench: Bench, runner: Runner) -> None:
        self._window, self._bench, self._runner, self._dialogs = window, bench, runner, FileDialogs(window)

    def export_frame(self, frame: int, path: Path | None = None) -> None:
        """The frame that is shown."""
        path = path or self._dialogs.to_save(f"Export frame {frame}", FRAME_KINDS)
        if path is None:
            return
        scene = self._bench.scene
        skins = self._runner.skins(frame) if frame != scene.run.first else None
        if self._written(path, partial(export_frame_apart, path, scene, self._bench.document.meshes, skins)):
            self._bench.say(f"Frame {frame} is in “{path.name}”.", False)

    def export_run(self, path: Path | None = None) -> None:
        """The whole range."""
        run, store = self._bench.scene.run, self._runner.store
        if store is None or not self._runner.good_up_to(run.last):
            self._bench.say(f"The frames {run.first} – {run.last} are not all baked and up to date; press Bake first.")
            return
        path = path or self._dialogs.to_save("Export the run", RUN_KINDS)
        if path is None:
            return
        count = self._written(path, partial(export_run_apart, path, self._bench.scene, self._bench.document.meshes,
                                            store.folder, run.first, run.last))
        if count:
            self._bench.say(f"{count} frames are in “{path.name}”.", False)

    def _written(self, path: Path, write: Callable[[Callable[[], bool]], int]) -> int:
        """How many frames were written; what went wrong is said."""
        try:
            return awake(self._window, f"Writing “{path.name}”", write)
        except QuinceError as error:
            self._bench.say(str(error))
            return 0
