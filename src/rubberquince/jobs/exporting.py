"""Exports in a process of their own: the libraries of all formats take more memory than the window."""

import pickle
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.errors import ExportError
from rubberquince.exchange.apart import REFUSED, EndedError, run_apart


@dataclass(frozen=True, eq=False)
class FrameOrder:
    """One frame of a scene, as a file: points (n, 3), m, of the solids by piece id, or None for pieces as placed."""

    path: Path
    scene: Scene
    meshes: Meshes
    skins: dict[str, np.ndarray] | None


@dataclass(frozen=True, eq=False)
class RunOrder:
    """The frames first .. last in the cache of ``folder``, as a file."""

    path: Path
    scene: Scene
    meshes: Meshes
    folder: Path
    first: int
    last: int


def export_apart(order: FrameOrder | RunOrder, stopped: Callable[[], bool]) -> int:
    """Carry out an order; returns how many frames were written.  Raises ExportError with one sentence."""
    with tempfile.TemporaryDirectory() as folder:
        note = Path(folder) / "order"
        note.write_bytes(pickle.dumps(order))
        try:
            code, said = run_apart("rubberquince.jobs.exporter", [str(note)], stopped)
        except EndedError:
            raise ExportError(f"The export was stopped; “{order.path.name}” was not written.") from None
    if code == REFUSED and said:
        raise ExportError(said)
    if code:
        raise ExportError(f"The export broke off by a fault of the program; “{order.path.name}” was not written.")
    return int(said)
