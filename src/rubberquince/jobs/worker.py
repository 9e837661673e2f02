"""The solver process.  Run as ``python -m rubberquince.jobs.worker SOCKET FOLDER``, the number of an open socket."""

import faulthandler
import os
import shutil
import sys
import time
import traceback
from multiprocessing.connection import Connection
from pathlib import Path

from rubberquince.bake.keys import topology_key
from rubberquince.bake.prime import prime
from rubberquince.bake.run import SceneRun
from rubberquince.document.bodies import Meshes
from rubberquince.errors import QuinceError, Stopped
from rubberquince.jobs import protocol as p
from rubberquince.jobs.ring import Ring, Signals


class Worker:
    """Takes commands from a connection, one run at a time."""

    def __init__(self, connection: Connection, folder: Path) -> None:
        self._connection = connection
        self._folder = folder
        self._signals = Signals(folder / "signals", create=False)
        self._meshes: Meshes = {}
        self._run: SceneRun | None = None
        self._ring: Ring | None = None
        self._rings = 0
        self._parent = os.getppid()
        self._frame_at = 0.0                # when the last frame was sent, s

    def serve(self) -> None:
        """Load the kernels while nobody waits for them yet, then do as told."""
        prime("draft")
        self._connection.send(p.Awake())
        while True:
            command = self._connection.recv()
            if isinstance(command, p.Quit):
                return
            if isinstance(command, p.Run):
                self._do(command)

    def _do(self, command: p.Run) -> None:
        """One run; whatever goes wrong ends as one event."""
        try:
            self._connection.send(p.Finished(command.job, self._compute(command)))
        except QuinceError as error:
            self._connection.send(p.Failed(command.job, str(error)))
        except (EOFError, BrokenPipeError, ConnectionResetError):
            raise                           # the window is gone
        except Exception:
            traceback.print_exc()
            self._run = None
            self._connection.send(p.Failed(command.job, "The run broke off by a fault of the program; "
                                                        "the frames so far are kept, and the log says more."))

    def _compute(self, command: p.Run) -> bool:
        """True when stopped before the last frame."""
        known = {**self._meshes, **command.meshes}
        self._meshes = {key: known[key] for key in command.scene.mesh_keys() if key in known}
        try:
            run = self._prepared(command)
            with run.recording(command.last, command.after) as frames:
                if run.note:
                    self._connection.send(p.Noted(command.job, run.note))
                ring = self._fresh_ring(run.points)
                self._connection.send(p.Ready(command.job, run.points, str(ring.path)))
                for frame in frames:
                    slot = ring.write(frame.skin, self._stopped)
                    if slot is None:
                        return True
                    self._connection.send(p.FrameDone(command.job, frame.number, frame.stamp, slot, frame.readings,
                                                      frame.effort, run.pull))
                    if jam := run.take_jam():
                        self._connection.send(p.Noted(command.job, jam))
                    self._take_changes(command.job, run)
                    self._keep_pace(run, command.scene.run.fps)
                    if self._stopped() and frame.number < command.last:
                        return True
        except Stopped:
            return True
        return False

    def _prepared(self, command: p.Run) -> SceneRun:
        """The run of the command's scene; that of before where only values differ."""
        run, folder = self._run, Path(command.folder)
        if run is not None and run.topology == topology_key(command.scene):
            run.folder = folder
            run.change(command.scene)
            return run
        self._run = None                    # two large runs at a time are too many
        self._connection.send(p.Preparing(command.job, "Filling the solids with cells"))
        self._run = SceneRun(command.scene, self._meshes, folder, self._stopped, self._signals.tell)
        return self._run

    def _stopped(self) -> bool:
        """Also when nobody is there any more to say so."""
        return self._signals.stopped() or os.getppid() != self._parent

    def _fresh_ring(self, points: int) -> Ring:
        if self._ring is not None:
            self._ring.remove()
        self._rings += 1
        self._ring = Ring(self._folder / f"ring{self._rings}", points, create=True)
        return self._ring

    def _keep_pace(self, run: SceneRun, fps: float) -> None:
        """While a tug pulls, frames come no faster than they are seen: the hand has to follow them."""
        now = time.monotonic()
        if run.tugs:
            time.sleep(max(self._frame_at + 1.0 / fps - now, 0.0))
        self._frame_at = time.monotonic()

    def _take_changes(self, job: int, run: SceneRun) -> None:
        """Of changes that came in the meantime only the last counts."""
        last: p.Change | None = None
        while self._connection.poll():
            command = self._connection.recv()
            if isinstance(command, p.Quit):
                raise EOFError
            if isinstance(command, p.Change) and command.job == job:
                last = command
            if isinstance(command, p.Tug) and command.job == job:
                run.tug(command.piece, command.place, command.target)
        if last is not None and topology_key(last.scene) == run.topology:
            run.change(last.scene)


def main() -> None:
    faulthandler.enable()                   # a crash in native code says where
    folder = Path(sys.argv[2])
    with Connection(int(sys.argv[1])) as connection:
        try:
            Worker(connection, folder).serve()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            shutil.rmtree(folder, ignore_errors=True)       # the window is gone and could not do it


if __name__ == "__main__":
    main()
