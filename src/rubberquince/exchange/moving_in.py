"""Meshes that move: numbered files of one mesh, or a USD stage whose points change in time."""

import re
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.errors import ShapeError
from rubberquince.exchange.usd_in import usd_frames
from rubberquince.shapes.polymesh import PolyMesh

MOST_NUMBERS = 200_000_000          # in all frames together
Reader = Callable[[Path], tuple[PolyMesh, str]]


def read_moving(path: Path, read: Reader) -> tuple[PolyMesh, np.ndarray, str]:
    """A mesh and its points in each frame, (frames, n, 3); and what was left out, or "".

    ``path`` is one of some numbered files, or a USD stage.  ``read`` reads one file.  Raises ShapeError where files are
    missing between the first and the last, or have other faces, or where nothing moves.
    """
    if path.suffix.lower().startswith(".usd"):
        frames, left_out = usd_frames(path), ""
    else:
        frames, left_out = (read(file)[0] for file in _numbered(path)), ""
    first, points, count = None, list[np.ndarray](), 0
    for number, mesh in enumerate(frames):
        first = first or mesh
        if len(mesh.points) != len(first.points) or not np.array_equal(mesh.face_points, first.face_points):
            raise ShapeError(f"Frame {number + 1} of “{path.name}” has other faces or points than the first: it is not "
                             "one mesh that moves.")
        count += mesh.points.size
        if count > MOST_NUMBERS:
            raise ShapeError(f"“{path.name}” moves for too long: {MOST_NUMBERS // 3:,} points in all frames together "
                             "are the most.".replace(",", " "))
        points.append(mesh.points)
    if first is None or len(points) < 2:
        raise ShapeError(f"Nothing moves in “{path.name}”: it has one frame.")
    return first, np.stack(points), left_out


def carried_over(frames: np.ndarray, mesh: PolyMesh) -> np.ndarray:
    """``frames`` (k, m, 3) of the points of a mesh as it was read, for the (n, 3) of the same one repaired."""
    return frames[:, cKDTree(frames[0]).query(mesh.points)[1]]


def _numbered(path: Path) -> Iterator[Path]:
    """The files beside ``path`` whose names differ from its own in the last number only, in their order."""
    name = re.fullmatch(r"(.*?)(\d+)(\D*)", path.name)
    if name is None:
        raise ShapeError(f"“{path.name}” has no number: a mesh that moves is a USD file, or a row of numbered files.")
    head, _, tail = name.groups()
    alike = re.compile(re.escape(head) + r"(\d+)" + re.escape(tail))
    files = {int(found[1]): file for file in path.parent.iterdir() if (found := alike.fullmatch(file.name))}
    numbers = sorted(files)
    gap = next((one + 1 for one, two in pairwise(numbers) if two != one + 1), None)
    if gap is not None:
        raise ShapeError(f"Of the files numbered like “{path.name}”, {gap} is missing; nothing was read.")
    return (files[number] for number in numbers)
