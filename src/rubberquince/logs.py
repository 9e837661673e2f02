"""Where faults of the program are written down: one file for the window, one for the solver process."""

import logging
import logging.handlers
from contextlib import suppress
from pathlib import Path
from typing import IO

from platformdirs import user_log_path

MOST_BYTES = 1_000_000      # of a file, before it is set aside and another is begun
KEPT = 3                    # files of the window that were set aside


def log_folder() -> Path:
    return user_log_path("rubberquince")


def start_logging() -> None:
    """Write what this process logs to ``window.log``, and to stderr as usual."""
    with suppress(OSError):                 # a full disk or a home that cannot be written to must not stop anybody
        log_folder().mkdir(parents=True, exist_ok=True)
        handler = logging.handlers.RotatingFileHandler(log_folder() / "window.log", maxBytes=MOST_BYTES,
                                                       backupCount=KEPT, encoding="utf-8", delay=True)
        handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
        logging.getLogger().addHandler(handler)


def open_log(name: str) -> IO[bytes]:
    """A file that another process writes its errors to; the one before is set aside once it has grown large."""
    try:
        folder = log_folder()
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{name}.log"
        if path.exists() and path.stat().st_size > MOST_BYTES:
            path.replace(folder / f"{name}.log.1")
        return open(path, "ab")
    except OSError:
        return open("/dev/null", "ab")
