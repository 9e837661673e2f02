"""PLY, STL, OFF and GLB files.  What they claim of themselves is held against their length before it is believed."""

import io
import re
from pathlib import Path
from typing import Any

import meshio
import numpy as np
import trimesh

from rubberquince.errors import ShapeError
from rubberquince.exchange.glb_in import without_sparse
from rubberquince.exchange.tidying import NO_CORNERS, NO_UVS, tidy
from rubberquince.shapes.polymesh import PolyMesh

MOST_HEADER = 65536         # bytes of a PLY header
SIZES = {"char": 1, "uchar": 1, "int8": 1, "uint8": 1, "short": 2, "ushort": 2, "int16": 2, "uint16": 2, "int": 4,
         "uint": 4, "int32": 4, "uint32": 4, "float": 4, "float32": 4, "double": 8, "float64": 8}


def read_triangles(path: Path) -> PolyMesh:
    """An STL, OFF or GLB file, all its parts as one mesh in the units of the file."""
    data, kind = path.read_bytes(), path.suffix.lower()
    if kind == ".stl":
        _check_stl(data, path)
    if kind == ".glb":
        data = without_sparse(data, path)
    return _loaded(data, kind, path)


def read_ply(path: Path) -> PolyMesh:
    """A PLY file; faces of various sizes, which the usual reader does not know, are left to another."""
    data = path.read_bytes()
    points = _check_ply(data, path)
    try:
        mesh = _loaded(data, ".ply", path)
    except ShapeError as refused:
        try:
            other = meshio.read(path)
        except BaseException:               # it leaves by SystemExit, too
            raise refused from None
        mesh = _of_blocks(other, path)
    if len(mesh.points) > points:
        raise _cut_short(path)
    return mesh


def _loaded(data: bytes, kind: str, path: Path) -> PolyMesh:
    try:
        mesh: Any = trimesh.load(io.BytesIO(data), file_type=kind[1:], force="mesh", process=False)
    except ShapeError:
        raise
    except Exception:                       # each loader raises what it likes
        raise ShapeError(f"“{path.name}” cannot be read: it is damaged.") from None
    faces = np.asarray(getattr(mesh, "faces", np.zeros((0, 3))), np.int64).reshape(-1, 3)
    if not len(faces):
        raise ShapeError(f"“{path.name}” holds no faces.")
    points = np.asarray(mesh.vertices, float).reshape(-1, 3)
    uvs = np.asarray(getattr(mesh.visual, "uv", None) if hasattr(mesh, "visual") else None)
    has_uv = uvs.ndim == 2 and len(uvs) == len(points)
    return tidy(points, np.full(len(faces), 3), faces.reshape(-1), uvs.astype(np.float32) if has_uv else NO_UVS,
                faces.reshape(-1) if has_uv else NO_CORNERS)


def _of_blocks(mesh: Any, path: Path) -> PolyMesh:
    faces = [np.asarray(block.data, np.int64) for block in mesh.cells if block.dim == 2]
    if not faces:
        raise ShapeError(f"“{path.name}” holds no faces.")
    sizes = np.concatenate([np.full(len(block), block.shape[1]) for block in faces])
    corners = np.concatenate([block.reshape(-1) for block in faces])
    uvs = np.column_stack([mesh.point_data.get(name, np.zeros(0)) for name in ("s", "t")]).astype(np.float32)
    return tidy(np.asarray(mesh.points, float), sizes, corners, uvs, corners if len(uvs) else corners[:0])


# --- what files claim -------------------------------------------------------------------------------------


def _check_ply(data: bytes, path: Path) -> int:
    """How many vertices a PLY file has.  Raises ShapeError when it is shorter than it says it is."""
    head, mark, body = data[:MOST_HEADER].partition(b"end_header")
    if not head.startswith(b"ply") or not mark:
        raise ShapeError(f"“{path.name}” cannot be read: it is damaged.")
    body = data[len(head) + len(mark):]
    elements: list[tuple[str, int, int]] = []           # name, count, least bytes of one
    for words in (line.split() for line in head.decode("latin-1").splitlines()):
        if len(words) == 3 and words[0] == "element" and re.fullmatch(r"\d{1,9}", words[2]):
            elements.append((words[1], int(words[2]), 0))
        elif words[:1] == ["element"]:
            raise ShapeError(f"“{path.name}” cannot be read: it is damaged.")
        elif words[:1] == ["property"] and elements and len(words) > 2:
            name, count, least = elements[-1]
            elements[-1] = name, count, least + SIZES.get(words[2] if words[1] == "list" else words[1], 1)
    if b"format ascii" in head:
        there, claimed = len([line for line in body.splitlines() if line.strip()]), sum(n for _, n, _ in elements)
    else:
        there, claimed = len(body), sum(n * least for _, n, least in elements)
    if there < claimed:
        raise _cut_short(path)
    return next((count for name, count, _ in elements if name == "vertex"), 0)


def _check_stl(data: bytes, path: Path) -> None:
    """Raises ShapeError when an STL file is shorter than it says, or its facets are no triangles."""
    if len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little"):
        return
    if not data.lstrip().lower().startswith(b"solid") or b"facet" not in data.lower():
        raise _cut_short(path)
    facets = data.lower().split(b"endfacet")
    if (b"facet" in facets[-1].replace(b"endsolid", b"") and b"vertex" in facets[-1]) or b"endsolid" not in facets[-1]:
        raise _cut_short(path)
    if any(len(re.findall(rb"\bvertex\b", facet)) != 3 for facet in facets[:-1]):
        raise ShapeError(f"“{path.name}” cannot be read: a facet has not three corners.")


def _cut_short(path: Path) -> ShapeError:
    return ShapeError(f"“{path.name}” cannot be read: it is cut short.")
