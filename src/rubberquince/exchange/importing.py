"""Bring a mesh file in: read it in a guarded process, repair it, guess its unit."""

import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.apart import REFUSED, EndedError, run_apart
from rubberquince.shapes.polymesh import PolyMesh, is_closed
from rubberquince.shapes.primitives import unit_and_size
from rubberquince.shapes.repair import repaired

SUFFIXES = (".obj", ".ply", ".stl", ".off", ".glb", ".usd", ".usda", ".usdc", ".usdz")
IN_METRES = (".glb", ".usd", ".usda", ".usdc", ".usdz")       # these formats say what their numbers are
MOST_SECONDS = 60.0
BIGGEST_PROP = 5.0          # m; numbers above mean that the file is in centimetres


@dataclass(frozen=True, eq=False)
class Imported:
    """A mesh in the unit box, its real size (3,) and centre (3,) m, and sentences on what was done."""

    mesh: PolyMesh
    size: np.ndarray
    centre: np.ndarray
    notes: tuple[str, ...]


def import_mesh(path: Path, stopped: Callable[[], bool] = lambda: False) -> Imported:
    """Read a mesh file.  Raises ShapeError with one sentence, also when ``stopped()`` says so on the way."""
    if path.suffix.lower() not in SUFFIXES:
        raise ShapeError(f"“{path.name}” is not a mesh this program reads; it reads {', '.join(SUFFIXES)}.")
    if not path.is_file():
        raise ShapeError(f"“{path.name}” is not there, or is not a file.")
    read, left_out = _read_guarded(path, stopped)
    mesh, notes = repaired(read)
    notes = [left_out, *notes] if left_out else notes
    low, high = mesh.bounds()
    if path.suffix.lower() not in IN_METRES and (high - low).max() > BIGGEST_PROP:
        mesh = mesh.placed(mesh.points / 100.0)
        notes.append("The numbers are large, so they were taken as centimetres.")
    if not is_closed(mesh.triangles):
        notes.append("The mesh is open; as a Solid it is filled as well as can be.")
    unit, size, centre = unit_and_size(mesh)
    return Imported(unit, size, centre, tuple(notes))


def _read_guarded(path: Path, stopped: Callable[[], bool]) -> tuple[PolyMesh, str]:
    """The mesh of a file, and a sentence on what of it was left out, or ""."""
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "mesh.npz"
        try:
            code, said = run_apart("rubberquince.exchange.reader", [str(path), str(target)], stopped, MOST_SECONDS)
        except EndedError as ended:
            why = "was stopped" if ended.stopped else "took longer than a minute and was given up"
            raise ShapeError(f"Reading “{path.name}” {why}; the scene is as it was.") from None
        if code == REFUSED and said:
            raise ShapeError(said)
        if code or not target.exists():
            raise ShapeError(f"“{path.name}” cannot be read: it is damaged or too large.")
        with np.load(target, allow_pickle=False) as arrays:
            return PolyMesh(**{name: arrays[name] for name in arrays.files}), said
