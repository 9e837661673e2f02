"""Bring a mesh file in: it is read, repaired and measured in a guarded process."""

import json
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.apart import REFUSED, EndedError, run_apart
from rubberquince.shapes.polymesh import PolyMesh

SUFFIXES = (".obj", ".ply", ".stl", ".off", ".glb", ".usd", ".usda", ".usdc", ".usdz")
MOST_SECONDS = 60.0
MESH = ("points", "face_sizes", "face_points", "uvs", "face_uvs")


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
    with tempfile.TemporaryDirectory(prefix="rubberquince-") as folder:
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
            mesh = PolyMesh(**{name: arrays[name] for name in MESH})
            return Imported(mesh, arrays["size"], arrays["centre"], tuple(json.loads(said)))
