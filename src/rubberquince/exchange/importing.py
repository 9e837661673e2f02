"""Bring a mesh file in: read it in a guarded process, turn it right side out, guess its unit."""

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.reader import REFUSED
from rubberquince.shapes.polymesh import PolyMesh, is_closed, volume
from rubberquince.shapes.primitives import unit_and_size

SUFFIXES = (".obj", ".ply", ".stl", ".off", ".glb", ".usd", ".usda", ".usdc", ".usdz")
TOGETHER = 1e-6             # of the size: points nearer than this are one
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
        raise ShapeError(f"“{path.name}” is not there.")
    whole, merged = _merged(_read_guarded(path, stopped))
    mesh, turned = _right_side_out(whole)
    notes = merged + turned
    low, high = mesh.bounds()
    if (high - low).max() > BIGGEST_PROP:
        mesh = mesh.placed(mesh.points / 100.0)
        notes.append("The numbers are large, so they were taken as centimetres.")
    if not is_closed(mesh.triangles):
        notes.append("The mesh is not closed; as a Solid it is filled as well as can be.")
    unit, size, centre = unit_and_size(mesh)
    return Imported(unit, size, centre, tuple(notes))


def _read_guarded(path: Path, stopped: Callable[[], bool]) -> PolyMesh:
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "mesh.npz"
        with subprocess.Popen([sys.executable, "-m", "rubberquince.exchange.reader", str(path), str(target)],
                              stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True) as reader:
            said = _wait(reader, path, stopped)
        if reader.returncode == REFUSED and said.strip():
            raise ShapeError(said.strip().splitlines()[-1])
        if reader.returncode or not target.exists():
            raise ShapeError(f"“{path.name}” cannot be read: it is damaged or too large.")
        with np.load(target, allow_pickle=False) as arrays:
            return PolyMesh(**{name: arrays[name] for name in arrays.files})


def _wait(reader: subprocess.Popen[str], path: Path, stopped: Callable[[], bool]) -> str:
    """What the reader said; it is ended when it takes too long or is not wanted any more."""
    end = time.monotonic() + MOST_SECONDS
    while True:
        try:
            return reader.communicate(timeout=0.1)[0]
        except subprocess.TimeoutExpired:
            if stopped() or time.monotonic() > end:
                reader.kill()
                why = "was stopped" if stopped() else "took longer than a minute and was given up"
                raise ShapeError(f"Reading “{path.name}” {why}; the scene is as it was.") from None


def _merged(mesh: PolyMesh) -> tuple[PolyMesh, list[str]]:
    """Points that lie in one place become one: many formats repeat a point for every face it is in."""
    low, high = mesh.bounds()
    step = max(float((high - low).max()) * TOGETHER, 1e-12)
    _, first, number = np.unique(np.round((mesh.points - low) / step), axis=0, return_index=True, return_inverse=True)
    if len(first) == len(mesh.points):
        return mesh, []
    gone = len(mesh.points) - len(first)
    corners = number.reshape(-1)[mesh.face_points].astype(np.int32)
    merged = PolyMesh(mesh.points[first], mesh.face_sizes, corners, mesh.uvs, mesh.face_uvs)
    return merged, [f"{gone} points that lay on others were merged with them."]


def _right_side_out(mesh: PolyMesh) -> tuple[PolyMesh, list[str]]:
    if not is_closed(mesh.triangles) or volume(mesh.points, mesh.triangles) >= 0:
        return mesh, []
    ends = np.cumsum(mesh.face_sizes)
    face = np.repeat(np.arange(len(ends)), mesh.face_sizes)
    flip = (ends[face] - 1) - (np.arange(len(face)) - (ends - mesh.face_sizes)[face])
    turned = PolyMesh(mesh.points, mesh.face_sizes, mesh.face_points[flip], mesh.uvs,
                      mesh.face_uvs[flip] if len(mesh.face_uvs) else mesh.face_uvs)
    return turned, ["The faces looked inwards; they were turned."]
