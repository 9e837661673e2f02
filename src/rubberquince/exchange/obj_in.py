"""OBJ files.  Read by ourselves, because readers at large take what is not a number for zero."""

from pathlib import Path

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.exchange.tidying import NO_CORNERS, NO_UVS, tidy
from rubberquince.shapes.polymesh import PolyMesh

MARK = b"\xef\xbb\xbf"      # of UTF-8, that some editors write first


def read_obj(path: Path) -> PolyMesh:
    """Polygons and texture coordinates of an OBJ file, all groups as one mesh."""
    text = path.read_bytes().removeprefix(MARK).replace(b"\r", b"\n").replace(b"\\\n\n", b" ").replace(b"\\\n", b" ")
    points: list[list[bytes]] = []
    uvs: list[list[bytes]] = []
    faces: list[list[bytes]] = []
    before: list[tuple[int, int]] = []      # points and texture points before each face: what -1 counts from
    for line in text.split(b"\n"):
        words = line.partition(b"#")[0].split()
        if not words:
            continue
        if words[0] == b"v":
            points.append(words[1:4])
        elif words[0] == b"vt":
            uvs.append([*words[1:3], b"0"][:2])
        elif words[0] == b"f":
            faces.append(words[1:])
            before.append((len(points), len(uvs)))
    if not faces:
        raise ShapeError(f"“{path.name}” holds no faces.")
    sizes, corners = np.array([len(face) for face in faces]), [word.split(b"/") for face in faces for word in face]
    first = np.repeat(np.array(before), sizes, axis=0)
    point_of = _numbers([corner[0] for corner in corners], first[:, 0], path)
    textured = bool(uvs) and all(len(corner) > 1 and corner[1] for corner in corners)
    uv_of = _numbers([corner[1] for corner in corners], first[:, 1], path) if textured else NO_CORNERS
    return tidy(_table(points, 3, path), sizes, point_of, _table(uvs, 2, path).astype(np.float32) if textured
                else NO_UVS, uv_of)


def _numbers(words: list[bytes], before: np.ndarray, path: Path) -> np.ndarray:
    """Numbers from 0 on, of words that count from 1, or backwards from -1."""
    try:
        given = [int(word) for word in words]
    except ValueError:
        raise ShapeError(f"“{path.name}” is damaged: a face is not made of numbers.") from None
    if any(number == 0 or abs(number) > 2 ** 31 for number in given):
        raise ShapeError("The mesh is damaged: a face names a point that does not exist.")
    number = np.array(given, np.int64)
    return np.where(number > 0, number - 1, before + number)


def _table(rows: list[list[bytes]], width: int, path: Path) -> np.ndarray:
    try:
        table = np.array(rows, dtype=bytes).astype(float).reshape(-1, width)
    except ValueError:
        table = np.full((1, width), np.nan)
    if len(table) != len(rows) or not np.isfinite(table).all():
        raise ShapeError(f"“{path.name}” has points that are not numbers; it cannot be used.")
    return table
