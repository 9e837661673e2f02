"""The process that reads one file from outside: it may crash, hang or ask for too much; we may not.

Run as ``python -m rubberquince.exchange.reader SOURCE TARGET [moving]``; writes arrays and sentences to TARGET, or
prints one sentence and exits with 3.
"""

import json
import resource
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.apart import REFUSED
from rubberquince.exchange.moving_in import carried_over, read_moving
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.triangles_in import read_ply, read_triangles
from rubberquince.exchange.usd_in import read_usd
from rubberquince.shapes.polymesh import PolyMesh, is_closed
from rubberquince.shapes.primitives import unit_and_size
from rubberquince.shapes.repair import repaired

IN_METRES = (".glb", ".usd", ".usda", ".usdc", ".usdz")       # these formats say what their numbers are
BIGGEST_PROP = 5.0          # m; numbers above mean that the file is in centimetres
MOST_MEMORY = 6 * 1024 ** 3
MOST_BYTES = 1024 ** 3      # of a file
NO_FRAMES = np.zeros((0, 0, 3))


def _whole(read: Callable[[Path], PolyMesh]) -> Callable[[Path], tuple[PolyMesh, str]]:
    """A reader of a format that cannot refer to other files: nothing is left out."""
    return lambda path: (read(path), "")


READERS: dict[str, Callable[[Path], tuple[PolyMesh, str]]] = {
    ".obj": _whole(read_obj), ".ply": _whole(read_ply),
    **dict.fromkeys((".stl", ".off", ".glb"), _whole(read_triangles)),
    **dict.fromkeys((".usd", ".usda", ".usdc", ".usdz"), read_usd)}


def main() -> int:
    source, target = Path(sys.argv[1]), Path(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    try:
        if source.stat().st_size > MOST_BYTES:
            raise ShapeError(f"“{source.name}” is larger than 1 GB; it was not read.")
        read = READERS[source.suffix.lower()]
        if "moving" in sys.argv[3:]:
            mesh, frames, left_out = read_moving(source, read)
        else:
            (mesh, left_out), frames = read(source), NO_FRAMES
        return _written(source, target, mesh, frames, left_out)
    except ShapeError as error:
        print(error)
        return REFUSED


def _written(source: Path, target: Path, mesh: PolyMesh, frames: np.ndarray, left_out: str) -> int:
    """Repair a mesh, guess its unit, and write it in the unit box, and its ``frames`` (k, n, 3) with it."""
    mesh, notes = repaired(mesh)
    frames = carried_over(frames, mesh) if len(frames) else frames
    low, high = mesh.bounds()
    if source.suffix.lower() not in IN_METRES and (high - low).max() > BIGGEST_PROP:
        mesh, frames = mesh.placed(mesh.points / 100.0), frames / 100.0
        notes.append("The numbers are large, so they were taken as centimetres.")
    if not is_closed(mesh.triangles):
        notes.append("The mesh is open; as a Solid it is filled as well as can be.")
    unit, size, centre = unit_and_size(mesh)
    np.savez(target, points=unit.points, face_sizes=unit.face_sizes, face_points=unit.face_points, uvs=unit.uvs,
             face_uvs=unit.face_uvs, size=size, centre=centre,
             frames=((frames - centre) / size).astype(np.float32).reshape(-1, 3))
    print(json.dumps([note for note in (left_out, *notes) if note]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
