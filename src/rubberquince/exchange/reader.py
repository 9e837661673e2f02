"""The process that reads one file from outside: it may crash, hang or ask for too much; we may not.

Run as ``python -m rubberquince.exchange.reader SOURCE TARGET``; writes arrays to TARGET and prints what was left out,
or prints one sentence and exits with 3.
"""

import resource
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.apart import REFUSED
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.triangles_in import read_ply, read_triangles
from rubberquince.exchange.usd_in import read_usd
from rubberquince.shapes.polymesh import PolyMesh

MOST_MEMORY = 6 * 1024 ** 3
MOST_BYTES = 1024 ** 3      # of a file


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
        mesh, left_out = READERS[source.suffix.lower()](source)
    except ShapeError as error:
        print(error)
        return REFUSED
    np.savez(target, points=mesh.points, face_sizes=mesh.face_sizes, face_points=mesh.face_points,
             uvs=mesh.uvs, face_uvs=mesh.face_uvs)
    print(left_out)
    return 0


if __name__ == "__main__":
    sys.exit(main())
