"""Work in a process of its own: what breaks there, cannot be stopped, or is too large to keep loaded stays out of the
window.  An errand and its result travel as pickles.

Run as ``python -m rubberquince.jobs.errands ERRAND RESULT`` for one, or ``... SOCKET`` for a helper that takes many.
"""

import importlib
import logging
import pickle
import signal
import socket
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from rubberquince.errors import QuinceError
from rubberquince.exchange.apart import EndedError, run_apart
from rubberquince.logs import open_log

log = logging.getLogger(__name__)


@dataclass(frozen=True, eq=False)
class Errand:
    """A call of a function, said as "module:function" of this package: who sends it need not load the module."""

    function: str
    arguments: tuple[Any, ...]

    def do(self) -> Any:
        module, _, name = self.function.partition(":")
        return getattr(importlib.import_module(f"rubberquince.{module}"), name)(*self.arguments)


def run_errand(errand: Errand, stopped: Callable[[], bool], what: str) -> Any:
    """The result of an errand; a QuinceError that it raises is raised here.

    Raises QuinceError with a sentence about ``what`` ("The export"), too, when ``stopped()`` says so or it breaks off.
    """
    with tempfile.TemporaryDirectory(prefix="rubberquince-") as folder:
        note, result = Path(folder) / "errand", Path(folder) / "result"
        note.write_bytes(pickle.dumps(errand))
        try:
            code, _ = run_apart("rubberquince.jobs.errands", [str(note), str(result)], stopped)
        except EndedError:
            raise QuinceError(f"{what} was stopped; everything is as it was.") from None
        if code or not result.exists():
            raise QuinceError(f"{what} broke off by a fault of the program; everything is as it was.")
        done = pickle.loads(result.read_bytes())
    if isinstance(done, QuinceError):
        raise done
    return done


class Helper:
    """A process that is kept for small errands.  Of those of one kind that wait, the last counts.

    ``on_done(kind, result)`` is called from a thread of the helper's own; the result is None when an errand failed.
    """

    def __init__(self, on_done: Callable[[str, Any], None]) -> None:
        self._on_done = on_done
        self._waiting: dict[str, Errand] = {}
        self._lock = threading.Condition()
        self._closing = False
        self._thread: threading.Thread | None = None
        self._process: subprocess.Popen[bytes] | None = None
        self._connection: Connection | None = None

    def ask(self, kind: str, errand: Errand) -> None:
        """Have something done; never waits."""
        with self._lock:
            if self._closing:
                return
            self._waiting[kind] = errand
            if self._thread is None:
                self._thread = threading.Thread(target=self._serve, name="helper", daemon=True)
                self._thread.start()
            self._lock.notify()

    def close(self) -> None:
        with self._lock:
            self._closing = True
            self._waiting.clear()
            self._lock.notify()
        if self._process is not None:
            self._process.kill()
        if self._thread is not None:
            self._thread.join()
        self._end()

    def _serve(self) -> None:
        while True:
            with self._lock:
                self._lock.wait_for(lambda: self._waiting or self._closing)
                if self._closing:
                    return
                kind = next(iter(self._waiting))
                errand = self._waiting.pop(kind)
            try:
                result = self._done(errand)
            except Exception:               # it died, or what it said cannot be read: the next errand has another
                if not self._closing:
                    log.exception("the helper failed at %s", kind)
                self._end()
                result = None
            if not self._closing and kind not in self._waiting:
                self._on_done(kind, result)

    def _done(self, errand: Errand) -> object:
        if self._connection is None:
            ours, theirs = socket.socketpair()
            with theirs, open_log("helper") as stderr:
                self._process = subprocess.Popen(
                    [sys.executable, "-m", "rubberquince.jobs.errands", str(theirs.fileno())],
                    pass_fds=(theirs.fileno(),), stdin=subprocess.DEVNULL, stderr=stderr)
            self._connection = Connection(ours.detach())
        self._connection.send(errand)
        return self._connection.recv()

    def _end(self) -> None:
        if self._connection is not None:
            self._connection.close()
            self._connection = None
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None


def _help(connection: Connection) -> None:
    """Do what comes, until nobody is there any more."""
    while True:
        try:
            errand = connection.recv()
        except (EOFError, OSError):
            return
        try:
            result = errand.do()
        except Exception:
            logging.exception("an errand failed")
            result = None
        connection.send(result)


def main() -> int:
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))       # what is half written is taken away on the way out
    if len(sys.argv) == 2:
        with Connection(int(sys.argv[1])) as connection:
            _help(connection)
        return 0
    errand = pickle.loads(Path(sys.argv[1]).read_bytes())
    try:
        result = errand.do()
    except QuinceError as error:
        result = error
    Path(sys.argv[2]).write_bytes(pickle.dumps(result))
    return 0


if __name__ == "__main__":
    sys.exit(main())
