"""Runs the open scene in the solver process and knows its frames: which are there, which are out of date."""

import time
from pathlib import Path

import numpy as np
from platformdirs import user_cache_path
from PySide6.QtCore import QObject, Qt, QTimer, Signal

from rubberquince.bake.assemble import run_key, topology_key
from rubberquince.bake.cache import ABSENT
from rubberquince.bake.store import FrameStore, folder_of, fresh_folder
from rubberquince.document.scene import Scene
from rubberquince.errors import QuinceError
from rubberquince.jobs import protocol as p
from rubberquince.jobs.client import PATIENCE, SolverProcess
from rubberquince.jobs.ring import Ring
from rubberquince.ui.bench import Bench

MOST_RESTARTS = 2           # of the solver process for one frame that keeps ending it


class Runner(QObject):
    """``frame_came(number)``, ``progressed()`` when what is known of the run changed, ``ended()``."""

    frame_came = Signal(int)
    progressed = Signal()
    ended = Signal()
    _event = Signal(object)

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self.store: FrameStore | None = None
        self.computing = False
        self.status = ""
        self.last = 0
        self._keyed: Scene | None = None
        self._key = 0
        self._job = 0
        self._next: int | None = None
        self._ring: Ring | None = None
        self._restarts = 0
        self._began, self._done_at_start, self._done = 0.0, 0, 0
        self._patience = QTimer(self, singleShot=True, interval=int(PATIENCE * 1000))
        self._patience.timeout.connect(self._lose_patience)
        self._event.connect(self._on_event, Qt.ConnectionType.QueuedConnection)
        self._process = SolverProcess(self._event.emit)
        bench.scene_changed.connect(self._on_scene)

    @property
    def solver_pid(self) -> int:
        return self._process.pid

    @property
    def key(self) -> int:
        """Run key of the scene as it is; see bake.assemble."""
        if self._keyed is not self._bench.scene:
            self._keyed, self._key = self._bench.scene, run_key(self._bench.scene)
        return self._key

    def wake(self) -> None:
        """Have the solver process come up."""
        self._process.wake()

    # --- commands -------------------------------------------------------------------------------------

    def compute(self, last: int) -> None:
        """Compute what is missing up to frame ``last``; after the running job when there is one."""
        if self.computing:
            self._next = last
            self.stop()
            return
        scene = self._bench.scene
        try:
            folder = fresh_folder(self._runs(), topology_key(scene))
        except QuinceError as error:
            self._bench.say(str(error))
            return
        if self.store is None or self.store.folder != folder:
            self.store = FrameStore(folder, scene, self._bench.document.meshes)
        self._restarts = 0
        self._start(scene, folder, last)

    def forget(self) -> None:
        """Another scene is open: its frames, if any, are looked for anew."""
        self.stop()
        self.store = None
        self._adopt()

    def _adopt(self) -> None:
        """Take up frames that lie on disk for the scene as it is; else the old ones stay, out of date."""
        folder = folder_of(self._runs(), topology_key(self._bench.scene))
        if not self.computing and folder.exists() and (self.store is None or self.store.folder != folder):
            self.store = FrameStore(folder, self._bench.scene, self._bench.document.meshes)
        self.progressed.emit()

    @staticmethod
    def _runs() -> Path:
        return user_cache_path("rubberquince") / "runs"

    def _start(self, scene: Scene, folder: Path, last: int) -> None:
        self.last, self.computing, self.status = last, True, "Waking the solver"
        self._began = 0.0
        self._job = self._process.run(scene, self._bench.document.meshes, folder, last)
        self.progressed.emit()

    def stop(self) -> None:
        """Ask the solver to stop; it does within a Newton step, and is ended when it does not."""
        if self.computing:
            self._process.stop()
            self._patience.start()

    def close(self) -> None:
        self._patience.stop()
        self._process.close()

    def left(self) -> float | None:
        """Seconds left of the running job, from the frames so far; None before there are any."""
        done = self._done - self._done_at_start
        if not self.computing or not self._began or done < 1:
            return None
        return (time.monotonic() - self._began) / done * (self.last - self._done)

    def share(self) -> float:
        """Part of the range that is done."""
        first = self._bench.scene.run.first
        return float(np.clip((self._done - first + 1) / max(self.last - first + 1, 1), 0, 1)) if self._began else 0.0

    def expected(self, last: int) -> tuple[float, int] | None:
        """Seconds and bytes on disk that the missing frames up to ``last`` will take; None before one was measured."""
        if self.store is None or not np.isfinite(self.store.efforts[:, 1]).any():
            return None
        first = self._bench.scene.run.first
        seconds = self.store.efforts[:, 1]
        missing = sum(not self.good(number) for number in range(first, last + 1))
        return float(np.nanmedian(seconds[seconds > 0])) * missing, self.store.bytes_a_frame * missing

    # --- what is known of frames ----------------------------------------------------------------------

    def stamps(self) -> np.ndarray:
        """Stamp of every frame from 0 on; see bake.cache."""
        return self.store.stamps if self.store else np.zeros(0, np.int64)

    def good(self, number: int) -> bool:
        stamps = self.stamps()
        return 0 <= number < len(stamps) and stamps[number] == self.key

    def known(self, number: int) -> bool:
        stamps = self.stamps()
        return 0 <= number < len(stamps) and stamps[number] != ABSENT

    def ready(self, number: int) -> bool:
        """May the frame be played?  While computing, not what is out of date and about to be replaced."""
        if self.computing:
            return self.good(number) or (self._began > 0 and number <= self._done)
        return self.known(number)

    def good_up_to(self, last: int) -> bool:
        first, key, stamps = self._bench.scene.run.first, self.key, self.stamps()
        return len(stamps) > last and bool((stamps[first:last + 1] == key).all())

    def skins(self, number: int) -> dict[str, np.ndarray] | None:
        """Skin points (n, 3) m of each solid at a frame, by piece id."""
        return self.store.skins(number) if self.store and self.known(number) else None

    def nodes(self, number: int) -> np.ndarray | None:
        """Lattice nodes (n, 3) m of all solids at a frame, once it is on disk."""
        return self.store.nodes(number) if self.store else None

    def readings(self, piece_id: str) -> np.ndarray:
        """Readings (frames, columns) of a solid, NaN where there are none; see bake.cache.READINGS."""
        return self.store.readings_of(piece_id) if self.store else np.zeros((0, 0))

    # --- events ---------------------------------------------------------------------------------------

    def _on_scene(self, before: Scene, after: Scene) -> None:
        if topology_key(after) != topology_key(before):
            self.stop()
        elif self.computing and run_key(after) != run_key(before):
            self._process.change(after)
        self._adopt()

    def _on_event(self, event: p.Event) -> None:
        if isinstance(event, p.Died):
            self._revive()
            return
        if event.job != self._job:
            return
        if isinstance(event, p.Preparing):
            self.status = event.sentence
            self.progressed.emit()
        elif isinstance(event, p.Ready):
            self._ring = self._process.ring(event)
            assert self.store is not None
            self.store.open()
            self.status = ""
        elif isinstance(event, p.FrameDone):
            self._take(event)
        else:
            if isinstance(event, p.Failed):
                self._bench.say(event.sentence)
            self._finish()

    def _take(self, event: p.FrameDone) -> None:
        assert self._ring is not None and self.store is not None
        self.store.put(event.number, event.stamp, self._ring.read(event.slot), event.readings, event.effort)
        if not self._began:
            self._began, self._done_at_start = time.monotonic(), event.number
        self._done = event.number
        self._restarts = 0
        self.frame_came.emit(event.number)
        self.progressed.emit()

    def _finish(self) -> None:
        self._patience.stop()
        self.computing, self.status = False, ""
        if self.store is not None:
            self.store.refresh()
        self.ended.emit()
        self.progressed.emit()
        if self._next is not None:
            last, self._next = self._next, None
            self.compute(last)

    def _lose_patience(self) -> None:
        self._process.end()

    def _revive(self) -> None:
        """The solver process ended by itself: go on from the last whole frame, unless it keeps happening."""
        if not self.computing:
            return
        stopping = self._patience.isActive()
        if stopping or self._restarts >= MOST_RESTARTS or self.store is None:
            if not stopping:
                self._bench.say("The solver ended by itself several times and was given up; "
                                "the frames so far are kept.")
            self._finish()
            return
        self._restarts += 1
        self._bench.say("The solver ended by itself; it was started again and goes on where it was.")
        self._start(self._bench.scene, self.store.folder, self.last)
