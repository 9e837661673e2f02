"""The window's end of the link: starts the solver process, sends commands, hands events on."""

import secrets
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from contextlib import suppress
from multiprocessing.connection import Connection, Listener
from pathlib import Path

from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.jobs import protocol as p
from rubberquince.jobs.ring import Ring, StopFlag

PATIENCE = 1.0              # s after a stop at which the process is ended and started anew


class SolverProcess:
    """One warm solver process.  ``on_event`` is called from a thread of its own."""

    def __init__(self, on_event: Callable[[p.Event], None]) -> None:
        self._on_event = on_event
        self._folder = tempfile.TemporaryDirectory(prefix="rubberquince-")
        self._stop = StopFlag(Path(self._folder.name) / "stop", create=True)
        self._jobs = 0
        self._closing = False
        self._lock = threading.Lock()
        self._waiting: list[p.Command] = []
        self._process: subprocess.Popen[bytes] | None = None

    @property
    def pid(self) -> int:
        """0 before it was woken."""
        return self._process.pid if self._process else 0

    def wake(self) -> None:
        """Start the process if it was not yet: its coming up takes a processor for some seconds."""
        if self._process is None:
            self._start()

    def _start(self) -> None:
        key = secrets.token_bytes(16)
        address = str(Path(self._folder.name) / f"link{secrets.token_hex(4)}")
        listener = Listener(address, "AF_UNIX", authkey=key)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "rubberquince.jobs.worker", address, self._folder.name], stdin=subprocess.PIPE)
        assert self._process.stdin is not None
        self._process.stdin.write(key.hex().encode() + b"\n")
        self._process.stdin.close()
        self._ready = threading.Event()
        self._waiting.clear()
        self._thread = threading.Thread(target=self._listen, args=(listener,), name="solver link", daemon=True)
        self._thread.start()

    def _listen(self, listener: Listener) -> None:
        process = self._process
        assert process is not None
        try:
            with listener:
                self._connection: Connection = listener.accept()
            with self._lock:
                for command in self._waiting:
                    self._connection.send(command)
                self._waiting.clear()
                self._ready.set()
            while True:
                self._on_event(self._connection.recv())
        except (EOFError, OSError, ConnectionError):
            process.wait()
            if not self._closing and process is self._process:
                job = self._jobs
                self._start()
                self._on_event(p.Died(job))

    def _send(self, command: p.Command) -> None:
        with self._lock, suppress(OSError):         # the listening thread notices and starts anew
            if self._ready.is_set():
                self._connection.send(command)
            else:                                   # still coming up: nobody waits for that
                self._waiting.append(command)

    def run(self, scene: Scene, meshes: Meshes, folder: Path, last: int) -> int:
        """Start computing; returns the job's number, which its events bear."""
        self.wake()
        self._stop.clear()
        self._jobs += 1
        self._send(p.Run(self._jobs, scene, dict(meshes), str(folder), last))
        return self._jobs

    def change(self, scene: Scene) -> None:
        """Change values of the running job."""
        self._send(p.Change(scene))

    def stop(self) -> None:
        """Ask the running job to end; it does within a Newton step."""
        self._stop.set()

    def end(self) -> None:
        """End a process that does not answer; it is started anew and Died is reported."""
        if self._process:
            self._process.kill()

    def ring(self, ready: p.Ready) -> Ring:
        return Ring(Path(ready.ring), ready.points, create=False)

    def close(self) -> None:
        self._closing = True
        self._stop.set()
        if self._process:
            self._send(p.Quit())
            try:
                self._process.wait(2.0)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
            self._thread.join(2.0)
        self._folder.cleanup()
