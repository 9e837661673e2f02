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
MESH = ("points", "face_sizes", "face_points", "uvs", "face_uvs", "frames")


@dataclass(frozen=True, eq=False)
class Imported:
    """A mesh in the unit box, its real size (3,) and centre (3,) m, and sentences on what was done."""

    mesh: PolyMesh
    size: np.ndarray
    centre: np.ndarray
    notes: tuple[str, ...]


def import_mesh(path: Path, stopped: Callable[[], bool] = lambda: False, moving: bool = False) -> Imported:
    """Read a mesh file; if it is ``moving``, all files numbered like it or all frames of a USD stage.

    Raises ShapeError with one sentence, also when ``stopped()`` says so on the way.
    """
    if path.suffix.lower() not in SUFFIXES:
        raise ShapeError(f"“{path.name}” is not a mesh this program reads; it reads {', '.join(SUFFIXES)}.")
    if not path.is_file():
        raise ShapeError(f"“{path.name}” is not there, or is not a file.")
    with tempfile.TemporaryDirectory(prefix="rubberquince-") as folder:
        target = Path(folder) / "mesh.npz"
        try:
            said_to_it = [str(path), str(target), *(["moving"] if moving else [])]
            most = MOST_SECONDS * (10.0 if moving else 1.0)
            code, said = run_apart("rubberquince.exchange.reader", said_to_it, stopped, most)
        except EndedError as ended:
            took = "ten minutes" if moving else "a minute"
            why = "was stopped" if ended.stopped else f"took longer than {took} and was given up"
            raise ShapeError(f"Reading “{path.name}” {why}; the scene is as it was.") from None
        if code == REFUSED and said:
            raise ShapeError(said)
        if code or not target.exists():
            raise ShapeError(f"“{path.name}” cannot be read: it is damaged or too large.")
        with np.load(target, allow_pickle=False) as arrays:
            mesh = PolyMesh(**{name: arrays[name] for name in MESH})
            return Imported(mesh, arrays["size"], arrays["centre"], tuple(json.loads(said)))
