"""Locks on files, held for as long as the process that took them lives: numbers of processes are used again."""

import fcntl
import os
from pathlib import Path


def hold(path: Path) -> int | None:
    """Take the lock of a file, which is made where it is missing; closing what is returned gives it back.

    None while another process holds it.  Raises OSError when the file cannot be made.
    """
    handle = os.open(path, os.O_CREAT | os.O_RDWR, 0o666)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(handle)
        return None
    return handle


def is_held(path: Path) -> bool:
    """Does a process hold the lock of this file?"""
    try:
        with open(path) as file:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False
