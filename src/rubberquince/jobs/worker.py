"""The solver process.  Run as ``python -m rubberquince.jobs.worker ADDRESS FOLDER``; the key comes on stdin."""

import sys
import traceback
from multiprocessing.connection import Client, Connection
from pathlib import Path

from rubberquince.bake.assemble import topology_key
from rubberquince.bake.prime import prime
from rubberquince.bake.run import SceneRun
from rubberquince.errors import QuinceError
from rubberquince.jobs import protocol as p
from rubberquince.jobs.ring import Ring, StopFlag
from rubberquince.solver.stepper import Stopped


class Worker:
    """Takes commands from a connection, one run at a time."""

    def __init__(self, connection: Connection, folder: Path) -> None:
        self._connection = connection
        self._folder = folder
        self._stop = StopFlag(folder / "stop", create=False)
        self._run: SceneRun | None = None
        self._kept: tuple[int, str] | None = None
        self._rings = 0

    def serve(self) -> None:
        """Load the kernels while nobody waits for them yet, then do as told."""
        self._connection.send(p.Preparing(0, "Waking the solver"))
        prime("draft")
        self._connection.send(p.Finished(0, False))
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
        except Exception:
            traceback.print_exc()
            self._run = None
            self._connection.send(p.Failed(command.job, "The run broke off by a fault of the program; "
                                                        "the frames so far are kept, and the log says more."))

    def _compute(self, command: p.Run) -> bool:
        """True when stopped before the last frame."""
        kept = (topology_key(command.scene), command.folder)
        if self._run is None or self._kept != kept:
            self._connection.send(p.Preparing(command.job, "Filling the solids with cells"))
            self._run = SceneRun(command.scene, command.meshes, Path(command.folder), self._stop.is_set)
            self._kept = kept
        else:
            self._run.change(command.scene)
        self._rings += 1
        ring = Ring(self._folder / f"ring{self._rings}", self._run.points, create=True)
        self._run.open_cache(command.last + 1)
        self._connection.send(p.Ready(command.job, self._run.points, str(ring.path)))
        try:
            for frame in self._run.frames(command.last):
                slot = ring.write(frame.skin, self._stop.is_set)
                if slot is None:
                    return True
                self._connection.send(p.FrameDone(command.job, frame.number, frame.stamp, slot, frame.readings,
                                                  frame.effort))
                self._take_changes()
                if self._stop.is_set() and frame.number < command.last:
                    return True
        except Stopped:
            return True
        return False

    def _take_changes(self) -> None:
        while self._connection.poll():
            command = self._connection.recv()
            if isinstance(command, p.Quit):
                raise SystemExit
            if isinstance(command, p.Change) and self._run and topology_key(command.scene) == self._run.topology:
                self._run.change(command.scene)


def main() -> None:
    address, folder = sys.argv[1], Path(sys.argv[2])
    key = bytes.fromhex(sys.stdin.readline().strip())
    with Client(address, "AF_UNIX", authkey=key) as connection:
        try:
            Worker(connection, folder).serve()
        except (EOFError, BrokenPipeError, ConnectionResetError):
            return                          # the window is gone


if __name__ == "__main__":
    main()
