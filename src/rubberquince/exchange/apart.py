"""Work in a process of its own: what breaks there, or is too large to keep loaded, stays out of the window."""

import subprocess
import sys
import time
from collections.abc import Callable, Sequence

REFUSED = 3                 # exit code of a process that printed one sentence on what is wrong
PATIENCE = 5.0              # s it has to clean up in, once it was asked to end


class EndedError(Exception):
    """The process was ended: ``stopped`` says whether somebody wanted it to, else it took too long."""

    def __init__(self, stopped: bool) -> None:
        super().__init__("stopped" if stopped else "too long")
        self.stopped = stopped


def run_apart(module: str, arguments: Sequence[str], stopped: Callable[[], bool],
              seconds: float = float("inf")) -> tuple[int, str]:
    """Exit code and last printed line of a module run with arguments.  Raises EndedError."""
    with subprocess.Popen([sys.executable, "-m", module, *arguments], stdout=subprocess.PIPE,
                          stderr=subprocess.DEVNULL, text=True) as process:
        end = time.monotonic() + seconds
        while True:
            try:
                said = process.communicate(timeout=0.1)[0].strip().splitlines()
                return process.returncode, said[-1] if said else ""
            except subprocess.TimeoutExpired:
                if stopped() or time.monotonic() > end:
                    _end(process)
                    raise EndedError(stopped()) from None


def _end(process: subprocess.Popen[str]) -> None:
    process.terminate()
    try:
        process.communicate(timeout=PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
