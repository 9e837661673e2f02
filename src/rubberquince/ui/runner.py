"""Runs the open scene in the solver process and knows its frames: which are there, which are out of date."""

import secrets
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, Qt, QTimer, Signal

from rubberquince.bake.assemble import by_id, cells_in
from rubberquince.bake.cache import ABSENT
from rubberquince.bake.folders import (
    MOST_BAKES,
    MOST_TRIED,
    bake_folder,
    bakes_root,
    make_room,
    move_here,
    run_folder,
)
from rubberquince.bake.keys import run_key, topology_key
from rubberquince.bake.layout import READINGS
from rubberquince.bake.store import FrameStore
from rubberquince.document.scene import Scene
from rubberquince.errors import QuinceError
from rubberquince.jobs import protocol as p
from rubberquince.jobs.link import Link
from rubberquince.jobs.ring import Ring
from rubberquince.ui.bench import Bench

MANY_CELLS = 200_000        # filling them takes some ten seconds
LOOK = 250                  # ms between looks at how far a frame has come
LATER = 80                  # ms, after which a hasty gesture is followed
CRASHED = "The solver crashed and was restarted; the {what} continues from the last finished frame."


class Runner(QObject):
    """``frame_came(number)``, ``progressed()`` when what is known of the run changed, ``ended()``.

    What is played goes to a folder for trying, and changes of values reach it while it runs.  What is baked is kept,
    and goes on with the scene that it began with.
    """

    frame_came = Signal(int)
    progressed = Signal()
    ended = Signal()
    _event = Signal(object)

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self.confirm: Callable[[int], bool] = lambda cells: True       # asks whether so many cells are meant
        self._agreed_on: set[object] = set()
        self.store: FrameStore | None = None
        self.computing = False
        self.kept = False                   # is what is being computed a bake?
        self.status = ""
        self.pull = 0.0                     # N, of a tug, in the last frame that came
        self._tug: tuple[str, np.ndarray, np.ndarray] | None = None         # that is held, for a run that begins
        self.last = 0
        self._bake_next: tuple[Scene, int] | None = None       # a bake that waits for what runs to stop, and its last
        self.unsaved = secrets.token_hex(8)             # where bakes go while the scene has no file
        self._keyed: Scene | None = None
        self._keys, self._computed = (0, 0), 0
        self._job = 0
        self._ring: Ring | None = None
        self._began, self._done_at_start, self._done = 0.0, 0, 0
        self._watch = QTimer(self, interval=LOOK)
        self._watch.timeout.connect(self.progressed)
        self._later = QTimer(self, singleShot=True, interval=LATER)
        self._later.timeout.connect(self._follow)
        self._followed = bench.scene
        self._event.connect(self._on_event, Qt.ConnectionType.QueuedConnection)
        self._link = Link(self._event.emit)
        bench.scene_changed.connect(self._on_scene)

    @property
    def solver_pid(self) -> int:
        return self._link.pid

    @property
    def key(self) -> int:
        """Run key of the scene as it is; see bake.assemble."""
        return self._both_keys()[0]

    def _both_keys(self) -> tuple[int, int]:
        """Run key and topology key."""
        if self._keyed is not self._bench.scene:
            self._keyed = self._bench.scene
            self._keys = run_key(self._keyed), topology_key(self._keyed)
        return self._keys

    def wake(self) -> None:
        """Have the solver process come up."""
        self._link.wake()

    @property
    def computes_this(self) -> bool:
        """Is what is being computed the scene as it is?"""
        return self.computing and self._computed == self.key

    @property
    def is_kept(self) -> bool:
        """Do the frames that are shown belong to a bake of the scene as it is?"""
        return self.store is not None and self.store.folder == bake_folder(self.bakes(), self.key)

    # --- commands -------------------------------------------------------------------------------------

    def compute(self, last: int, keep: bool = False) -> None:
        """Compute what is missing up to frame ``last``, after what runs now has stopped; ``keep`` makes it a bake.

        A bake of just this scene that is there already is gone on with.
        """
        if keep and self.computing and not self.kept:
            self._bake_next = self._bench.scene, last       # when it has stopped, its frames become those of the bake
            self._link.stop()
        else:
            self._compute(self._bench.scene, last, keep)

    def tug(self, piece: str, place: np.ndarray, target: np.ndarray | None, frame: int) -> None:
        """Pull at a piece from a frame on: what follows is computed anew, into the folder for trying."""
        if not self.computing and target is not None:
            self._compute(self._bench.scene, self._bench.scene.run.last, keep=False, after=frame)
        self._tug = (piece, place, target) if target is not None else None
        if self.computing and not self.kept:
            self._link.tug(piece, place, target)

    def _compute(self, scene: Scene, last: int, keep: bool, after: int | None = None) -> None:
        key, topology = run_key(scene), topology_key(scene)
        kept, tried = bake_folder(self.bakes(), key), run_folder(topology)
        if keep and not kept.exists() and self.store is not None and self.store.folder == tried:
            self.store = None
            move_here(tried, kept)
        if not self._may_fill(scene):
            return
        self.kept = (keep or kept.exists()) and after is None
        folder = kept if self.kept else tried
        try:
            make_room(folder, MOST_BAKES if self.kept else MOST_TRIED)
        except QuinceError as error:
            self._bench.say(str(error))
            return
        self._look_into(folder)
        self.last, self.computing, self.status, self._computed = last, True, "Waking the solver", key
        self._began, self._ring = 0.0, None
        self._job = self._link.run(scene, self._bench.document.meshes, folder, last, after)
        self._watch.start()
        self.progressed.emit()

    def _may_fill(self, scene: Scene) -> bool:
        """Ask before so many cells are filled that it takes long; not again for the same pieces."""
        cells = cells_in(scene, self._bench.document.meshes)
        solids = by_id(scene, "solid", "cage")
        carriers: set[object] = {(p.id, p.shape, p.place.size, p.solid.cells) for p in solids}
        if cells > MANY_CELLS and carriers != self._agreed_on:
            if not self.confirm(cells):
                return False
            self._agreed_on = carriers
        return True

    def stop(self) -> None:
        """Stop what runs; it does within a Newton step, and is ended when it does not."""
        self._bake_next = None
        self._link.stop()

    def forget(self) -> None:
        """Another scene is open: its frames, if any, are looked for anew."""
        self.stop()
        self._job, self.store = 0, None     # what the stopped run still says is of no interest
        self.unsaved = secrets.token_hex(8)
        if self.computing:
            self._finish()
        else:
            self._adopt()

    def close(self) -> None:
        self._watch.stop()
        self._link.close()

    def bakes(self) -> Path:
        """Where the bakes of the open scene are."""
        return bakes_root(self._bench.path, self.unsaved)

    def _adopt(self) -> None:
        """Take up frames that lie on disk for the scene as it is; else the old ones stay, out of date."""
        if not self.computing:
            key, topology = self._both_keys()
            for folder in (bake_folder(self.bakes(), key), run_folder(topology)):
                if folder.exists():
                    self._look_into(folder)
                    break
        self.progressed.emit()

    def _look_into(self, folder: Path) -> None:
        if self.store is None or self.store.folder != folder:
            self.store = FrameStore(folder)

    def look_again(self) -> None:
        """Folders of frames were moved or thrown away."""
        self.store = None
        self._adopt()

    # --- how far it is --------------------------------------------------------------------------------

    def left(self) -> float | None:
        """Seconds left of the running job, from the frames so far; None before there are any."""
        done = self._done + self._link.frame_share() - self._done_at_start
        if not self.computing or not self._began or done <= 0.0:
            return None
        return max((time.monotonic() - self._began) / done * (self.last - self._done_at_start - done), 0.0)

    def share(self) -> float:
        """Part of the range that is done."""
        first = self._bench.scene.run.first
        done = self._done + self._link.frame_share() - first + 1
        return float(np.clip(done / max(self.last - first + 1, 1), 0, 1)) if self._began else 0.0

    def expected(self, last: int) -> tuple[float, int] | None:
        """Seconds and bytes on disk that the missing frames up to ``last`` will take; None before one was measured."""
        if self.store is None or not np.isfinite(self.store.efforts[:, 1]).any():
            return None
        first = self._bench.scene.run.first
        seconds = self.seconds()
        missing = sum(not self.good(number) for number in range(first, last + 1))
        taken = seconds[seconds > 0]
        return (float(np.median(taken)) if len(taken) else 0.0) * missing, self.store.bytes_a_frame * missing

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

    def nodes(self, number: int) -> dict[str, tuple[str, np.ndarray]]:
        """Carrier key and nodes (n, 3) m of each solid at a frame, by piece id; empty until it is on disk."""
        return self.store.nodes(number) if self.store else {}

    def readings(self, piece_id: str) -> np.ndarray:
        """Readings (frames, columns) of a solid, NaN where there are none; see bake.layout.READINGS."""
        return self.store.readings_of(piece_id) if self.store else np.zeros((0, len(READINGS)))

    def seconds(self) -> np.ndarray:
        """What frames (frames,) took to compute, s, NaN where there are none."""
        return self.store.efforts[:, 1] if self.store else np.zeros(0)

    # --- events ---------------------------------------------------------------------------------------

    def _on_scene(self) -> None:
        if not self._bench.document.in_haste:
            self._follow()
        elif not self._later.isActive():
            self._later.start()

    def _follow(self) -> None:
        before, after = self._followed, self._bench.scene
        self._followed = after
        if self.computing and not self.kept:
            if topology_key(after) != topology_key(before):
                self._link.stop()
            elif run_key(after) != run_key(before):
                self._link.change(after)
        self._adopt()

    def _on_event(self, event: p.JobEvent) -> None:
        if event.job != self._job:
            return
        if isinstance(event, p.Preparing):
            self.status = event.sentence
            self.progressed.emit()
        elif isinstance(event, p.Ready):
            self._ring = self._link.ring(event)
            assert self.store is not None
            self.store.refresh()
            self.status = ""
            if self._tug is not None and not self.kept:
                self._link.tug(*self._tug)
        elif isinstance(event, p.FrameDone):
            self._take(event)
        elif isinstance(event, p.Noted):
            self._bench.say(event.sentence, False)
        elif isinstance(event, p.Crashed):
            self._bench.say(CRASHED.format(what="bake" if self.kept else "run"))
            self.status, self._ring = "Waking the solver", None
            self.progressed.emit()
        else:
            self._finish()
            if isinstance(event, p.Failed):
                self._bench.say(event.sentence)

    def _take(self, event: p.FrameDone) -> None:
        if self._ring is None or self.store is None:
            return
        skin = self._ring.read(event.slot)
        if self.store.layout is not None and len(skin) == self.store.layout.points:
            self.store.put(event.number, event.stamp, skin, event.readings, event.effort)
        if not self._began:
            self._began, self._done_at_start = time.monotonic(), event.number
        self._done, self.pull = event.number, event.pull
        self.frame_came.emit(event.number)
        self.progressed.emit()

    def _finish(self) -> None:
        self.computing, self.status, self._ring = False, "", None
        self._watch.stop()
        if self.store is not None:
            self.store.refresh()
        bake, self._bake_next = self._bake_next, None
        if bake is not None:
            self._compute(*bake, keep=True)
        if not self.computing:
            self.ended.emit()
            self._adopt()
