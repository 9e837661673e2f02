"""The window's end of the link to the solver process: one state machine.

    asleep --wake, run--> waking --Awake--> idle --run--> running --stop, run--> stopping --Finished--> idle

A process that ends by itself is started anew, a bounded number of times; then the link is *dead* until somebody
asks for a run again.  A process that does not heed a stop, or does not wake, is ended when its time is over.  One run
may wait for the process to be idle: the last that was asked for.  Of changes to a run only the last is sent.  No call
ever waits for the process.
"""

import logging
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from multiprocessing.connection import Connection
from pathlib import Path

import numpy as np

from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.jobs import protocol as p
from rubberquince.jobs.ring import Ring, Signals
from rubberquince.logs import open_log

PATIENCE = 1.0              # s after a stop at which the process is ended
WAKING_PATIENCE = 600.0     # s: kernels may have to be compiled
QUITTING_PATIENCE = 2.0     # s
MOST_RESTARTS = 2           # in a row, without a frame between them
LOOK = 0.05                 # s between looks at whether the process lives
WORKER = (sys.executable, "-m", "rubberquince.jobs.worker")
CANNOT_START = "The solver cannot be started; the log, in the Help menu, says why."
KEEPS_CRASHING = "The solver crashed again and again at the same frame and was given up; the frames so far are kept."

log = logging.getLogger(__name__)


class LinkState(Enum):
    ASLEEP = "asleep"
    WAKING = "waking"
    IDLE = "idle"
    RUNNING = "running"
    STOPPING = "stopping"
    DEAD = "dead"


@dataclass(frozen=True, eq=False)
class _Wanted:
    """A run that was asked for; ``changed`` is what it was changed to on the way."""

    job: int
    scene: Scene
    meshes: Meshes
    folder: Path
    last: int
    after: int | None = None
    changed: Scene | None = None


class Link:
    """One solver process.  ``on_event`` is called from a thread of the link's own, or from the caller's."""

    def __init__(self, on_event: Callable[[p.JobEvent], None], worker: Sequence[str] = WORKER,
                 patience: float = PATIENCE, waking_patience: float = WAKING_PATIENCE) -> None:
        self._on_event, self._worker = on_event, worker
        self._patience, self._waking_patience = patience, waking_patience
        self._folder = tempfile.TemporaryDirectory(prefix="rubberquince-")
        self._signals = Signals(Path(self._folder.name) / "signals", create=True)
        self.state = LinkState.ASLEEP
        self._jobs, self._latest = 0, 0     # the last asked for, and the last begun
        self._restarts = 0
        self._furthest = 0                  # frame of the running job: a crash before it is no progress
        self._closing = False
        self._deadline = float("inf")
        self._wanted: _Wanted | None = None
        self._running: _Wanted | None = None
        self._known: set[str] = set()       # meshes that the process has
        self._outbox: list[p.Command] = []
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Condition()
        self._keeper: threading.Thread | None = None

    # --- what the window asks for ---------------------------------------------------------------------

    @property
    def pid(self) -> int:
        """0 while there is no process."""
        process = self._process
        return process.pid if process else 0

    def wake(self) -> None:
        """Have the process come up, if it is not up already."""
        with self._lock:
            if self.state in (LinkState.ASLEEP, LinkState.DEAD):
                self._restarts = 0
                self._become(LinkState.WAKING, self._waking_patience)
            if self._keeper is None:
                self._keeper = threading.Thread(target=self._keep, name="solver link", daemon=True)
                self._keeper.start()

    def run(self, scene: Scene, meshes: Meshes, folder: Path, last: int, after: int | None = None) -> int:
        """Compute, as soon as what runs now has stopped; returns the job's number, which its events bear.

        Frames beyond ``after`` are computed anew.
        """
        with self._lock:
            said = self._drop_wanted()
            self._jobs += 1
            job = self._jobs
            used = {key: meshes[key] for key in scene.mesh_keys() if key in meshes}
            self._wanted = _Wanted(job, scene, used, folder, last, after)
            if self.state is LinkState.RUNNING:
                self._stop_running()
            elif self.state is LinkState.IDLE:
                self._begin()
        self._say(said)
        self.wake()
        return job

    def change(self, scene: Scene) -> None:
        """Change values of the run that goes on or waits."""
        with self._lock:
            if self._wanted is not None:
                self._wanted = replace(self._wanted, scene=scene)
            elif self.state is LinkState.RUNNING and self._running is not None:
                self._running = replace(self._running, changed=scene)
                self._outbox = [one for one in self._outbox if not isinstance(one, p.Change)]
                self._put(p.Change(self._running.job, scene))

    def tug(self, piece: str, place: np.ndarray, target: np.ndarray | None) -> None:
        """Pull at a piece of the run that goes on; of places to pull to only the last counts."""
        with self._lock:
            if self.state is LinkState.RUNNING and self._running is not None:
                self._outbox = [one for one in self._outbox if not isinstance(one, p.Tug) or one.target is None]
                self._put(p.Tug(self._running.job, piece, place, target))

    def stop(self) -> None:
        """Stop the run that goes on, and forget the one that waits."""
        with self._lock:
            said = self._drop_wanted()
            if self.state is LinkState.RUNNING:
                self._stop_running()
        self._say(said)

    def frame_share(self) -> float:
        """What part 0 .. 1 of the frame that is being computed is done."""
        return self._signals.share()

    @staticmethod
    def ring(ready: p.Ready) -> Ring:
        return Ring(Path(ready.ring), ready.points, create=False)

    def close(self) -> None:
        """End the process; it may take some seconds where it does not answer."""
        with self._lock:
            self._closing = True
            self._signals.set_stop()
            self._put(p.Quit())
        if self._keeper is not None:
            self._keeper.join()
        self._folder.cleanup()

    # --- states; all of these are called with the lock held -------------------------------------------

    def _become(self, state: LinkState, seconds: float = float("inf")) -> None:
        self.state, self._deadline = state, time.monotonic() + seconds

    def _drop_wanted(self) -> list[p.JobEvent]:
        dropped, self._wanted = self._wanted, None
        return [p.Finished(dropped.job, True)] if dropped else []

    def _stop_running(self) -> None:
        self._signals.set_stop()
        self._become(LinkState.STOPPING, self._patience)

    def _begin(self) -> None:
        """Send the run that waits; with it only the meshes that the process does not have."""
        run, self._wanted = self._wanted, None
        assert run is not None
        if run.job != self._latest:
            self._latest, self._furthest = run.job, 0
        self._running = run
        self._signals.clear()
        fresh = {key: mesh for key, mesh in run.meshes.items() if key not in self._known}
        self._known = set(run.meshes)
        self._put(p.Run(run.job, run.scene, fresh, str(run.folder), run.last, run.after))
        if run.changed is not None:
            self._put(p.Change(run.job, run.changed))
        self._become(LinkState.RUNNING)

    def _rest(self) -> None:
        """The process has nothing to do: give it what waits."""
        self._running = None
        self._become(LinkState.IDLE)
        if self._wanted is not None:
            self._begin()

    def _put(self, command: p.Command) -> None:
        self._outbox.append(command)
        self._lock.notify_all()

    def _on_heard(self, event: object) -> list[p.JobEvent]:
        """What the process said, as far as it can be true now."""
        if isinstance(event, p.Awake):
            if self.state is LinkState.WAKING:
                self._rest()
            return []
        if self._running is None or not isinstance(event, p.JobEvent) or event.job != self._running.job:
            return []
        if isinstance(event, p.FrameDone) and event.number > self._furthest:
            self._furthest, self._restarts = event.number, 0
        if isinstance(event, p.Finished | p.Failed):
            self._rest()
        return [event]

    def _on_death(self) -> list[p.JobEvent]:
        """The process is gone: go on with another, unless that keeps happening."""
        log.warning("the solver process ended while %s", self.state.value)
        state, run = self.state, self._running
        self._running, self._known = None, set()
        self._outbox.clear()
        said: list[p.JobEvent] = []
        if state is LinkState.STOPPING and run is not None:
            said.append(p.Finished(run.job, True))
            self._restarts = 0
        else:
            self._restarts += 1
        if self._restarts <= MOST_RESTARTS:
            if state is LinkState.RUNNING and run is not None:
                said.append(p.Crashed(run.job))
                self._wanted = self._wanted or run
            self._become(LinkState.WAKING, self._waking_patience)
            return said
        self._become(LinkState.DEAD)
        if state is LinkState.RUNNING and run is not None:
            said.append(p.Failed(run.job, KEEPS_CRASHING))
        if self._wanted is not None:
            said.append(p.Failed(self._wanted.job, CANNOT_START))
            self._wanted = None
        return said

    # --- threads --------------------------------------------------------------------------------------

    def _say(self, events: list[p.JobEvent]) -> None:
        for event in events:
            self._on_event(event)

    def _keep(self) -> None:
        """Start processes, hear what they say, and see that they do not overstay their time."""
        while not self._closing:
            if self.state in (LinkState.ASLEEP, LinkState.DEAD):
                time.sleep(LOOK)
                continue
            process, connection = self._start()
            self._hear(process, connection)
            process.wait()
            connection.close()
            with self._lock:
                self._process = None
                said = [] if self._closing else self._on_death()
                self._lock.notify_all()
            self._say(said)

    def _start(self) -> tuple[subprocess.Popen[bytes], Connection]:
        ours, theirs = socket.socketpair()
        with theirs, open_log("solver") as stderr:
            process = subprocess.Popen([*self._worker, str(theirs.fileno()), self._folder.name],
                                       pass_fds=(theirs.fileno(),), stdin=subprocess.DEVNULL, stderr=stderr)
        connection = Connection(ours.detach())
        with self._lock:
            self._process = process
            if self.state is LinkState.WAKING:
                self._become(LinkState.WAKING, self._waking_patience)
        threading.Thread(target=self._speak, args=(process, connection), name="solver link, sending",
                         daemon=True).start()
        return process, connection

    def _hear(self, process: subprocess.Popen[bytes], connection: Connection) -> None:
        """Until the process is gone, or has to be."""
        closing = float("inf")
        while True:
            try:
                event = connection.recv() if connection.poll(LOOK) else None
            except (EOFError, OSError):
                process.kill()              # it has closed its end: whatever it still does is of no use
                return
            except Exception:               # what it said cannot be understood
                log.exception("the solver process said something that cannot be read")
                process.kill()
                return
            with self._lock:
                said = [] if event is None or self._closing else self._on_heard(event)
                late = time.monotonic() > min(self._deadline, closing)
                if self._closing and closing == float("inf"):       # only a run has something to bring to an end
                    busy = self.state in (LinkState.RUNNING, LinkState.STOPPING)
                    closing = time.monotonic() + QUITTING_PATIENCE * busy
            self._say(said)
            if late or (process.poll() is not None and not connection.poll()):
                process.kill()
                return

    def _speak(self, process: subprocess.Popen[bytes], connection: Connection) -> None:
        """Send what is in the outbox: the process reads only between frames, so this may have to wait."""
        while True:
            with self._lock:
                self._lock.wait_for(lambda: self._process is not process or self._outbox)
                if self._process is not process:
                    return
                command = self._outbox.pop(0)
            try:
                connection.send(command)
            except (OSError, ValueError):
                return                      # it is gone: the other thread notices
