"""What every writer needs: a piece as it is handed over, and files that are whole or not there.  Metres, y up."""

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from rubberquince.errors import ExportError
from rubberquince.shapes.normals import group_normals, normal_groups
from rubberquince.shapes.polymesh import PolyMesh

PROBE = 1 << 20             # bytes, of a file that finds out whether there is room


@dataclass(frozen=True, eq=False)
class Exported:
    """One piece to hand over: its faces, its points (n, 3) m where it does not move, and its id in the scene."""

    name: str
    mesh: PolyMesh
    points: np.ndarray
    piece: str = ""

    @cached_property
    def groups(self) -> np.ndarray:
        """Number of the normal of each corner, the same in every frame; see shapes.normals."""
        return normal_groups(self.mesh, self.points)

    def normals(self, points: np.ndarray) -> np.ndarray:
        """(groups, 3) unit normals of the piece with its points at ``points`` (n, 3), m."""
        return group_normals(self.mesh, points, self.groups)

    def moved(self, points: np.ndarray) -> "Exported":
        """The same piece with its points elsewhere, its edges as sharp as they were."""
        other = Exported(self.name, self.mesh, points, self.piece)
        other.__dict__["groups"] = self.groups
        return other


class Split:
    """A piece with a vertex for each point, normal and texture point that meet in a corner.

    corners : (corners,) vertex of each corner of its faces.  point : (vertices,).
    uvs : (vertices, 2), or None without texture.
    """

    def __init__(self, piece: Exported) -> None:
        mesh = piece.mesh
        meeting = [mesh.face_points, piece.groups] + ([mesh.face_uvs] if len(mesh.face_uvs) else [])
        table, number = np.unique(np.stack(meeting, axis=1), axis=0, return_inverse=True)
        self.piece, self.corners = piece, number.reshape(-1)
        self.point, self._group = table[:, 0], table[:, 1]
        self.uvs = mesh.uvs[table[:, 2]] if len(mesh.face_uvs) else None

    def arrays(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Positions and normals (vertices, 3) float32 with the points at ``points`` (n, 3), m."""
        normals = self.piece.normals(points)[self._group]
        return points[self.point].astype(np.float32), normals.astype(np.float32)


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A path beside ``path`` to write to; it takes its place when all went well, and is gone when not.

    Raises ExportError with one sentence.
    """
    part = path.with_name(f".part-{os.getpid()}-{path.name}")
    try:
        yield part
        with open(part, "rb+") as file:
            os.fsync(file.fileno())
        os.replace(part, path)
    except OSError as error:
        raise ExportError(f"Could not write “{path.name}”: {(error.strerror or 'unknown error').lower()}.") from None
    finally:
        with suppress(OSError):
            part.unlink()


def why_not(path: Path) -> str:
    """Why a library that does not say so could not write beside ``path``: found out by trying."""
    probe = path.with_name(f".probe-{os.getpid()}-{path.name}")
    try:
        with open(probe, "wb") as file:
            os.posix_fallocate(file.fileno(), 0, PROBE)
    except OSError as error:
        return (error.strerror or "unknown error").lower()
    finally:
        with suppress(OSError):
            probe.unlink()
    return "it could not be written whole"


def identifier(name: str) -> str:
    """A name of letters, digits and underscores, as USD and many readers of OBJ want it."""
    text = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "piece"
    return text if not text[0].isdigit() else "_" + text
