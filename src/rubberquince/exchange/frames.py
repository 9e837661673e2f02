"""One frame as a file: OBJ and PLY keep polygons and texture coordinates, STL is triangles only."""

from pathlib import Path

import numpy as np

from rubberquince import __version__
from rubberquince.exchange.writing import Exported, Split, identifier, whole_file

MADE_BY = f"Rubber Quince {__version__}, metres, y up"


def write_obj(path: Path, pieces: list[Exported]) -> None:
    """All pieces as objects of one OBJ file."""
    lines = [f"# {MADE_BY}"]
    first = np.array([1, 1, 1])
    for piece in pieces:
        mesh, normals = piece.mesh, piece.normals(piece.points)
        lines.append(f"o {identifier(piece.name)}")
        lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in piece.points.tolist()]
        lines += [f"vt {u:.7g} {v:.7g}" for u, v in mesh.uvs.tolist()]
        lines += [f"vn {x:.6g} {y:.6g} {z:.6g}" for x, y, z in normals.tolist()]
        points, turns = (mesh.face_points + first[0]).tolist(), (piece.groups + first[2]).tolist()
        uvs = (mesh.face_uvs + first[1]).tolist() or [""] * len(points)
        corners = [f"{p}/{t}/{n}" for p, t, n in zip(points, uvs, turns)]
        ends = np.cumsum(mesh.face_sizes).tolist()
        lines += ["f " + " ".join(corners[end - size:end]) for end, size in zip(ends, mesh.face_sizes.tolist())]
        first += [len(piece.points), len(mesh.uvs), len(normals)]
    with whole_file(path) as part:
        part.write_text("\n".join(lines) + "\n", encoding="utf-8")


def write_ply(path: Path, pieces: list[Exported]) -> None:
    """All pieces as one binary PLY, with a vertex for each point, normal and texture point that meet."""
    parts = [Split(piece) for piece in pieces]
    textured = all(part.uvs is not None for part in parts)
    names = ("x", "y", "z", "nx", "ny", "nz", *("s", "t") * textured)
    rows, faces, count = [], [], 0
    for piece, split in zip(pieces, parts):
        uvs = split.uvs if textured and split.uvs is not None else np.zeros((len(split.point), 0), np.float32)
        rows.append(np.hstack([*split.arrays(piece.points), uvs]))
        faces.append(_ply_faces(piece.mesh.face_sizes, split.corners + count))
        count += len(rows[-1])
    header = ["ply", "format binary_little_endian 1.0", f"comment {MADE_BY}", f"element vertex {count}",
              *(f"property float {name}" for name in names),
              f"element face {sum(len(p.mesh.face_sizes) for p in pieces)}",
              "property list uchar int vertex_indices", "end_header", ""]
    with whole_file(path) as part:
        part.write_bytes("\n".join(header).encode() + np.concatenate(rows).astype("<f4").tobytes() + b"".join(faces))


def _ply_faces(sizes: np.ndarray, corners: np.ndarray) -> bytes:
    """Face records one after another: how many corners, and their vertices."""
    ends = np.cumsum(1 + 4 * sizes.astype(np.int64))
    out = np.zeros(ends[-1], np.uint8)
    starts, begins = ends - (1 + 4 * sizes), np.cumsum(sizes) - sizes
    for size in np.unique(sizes):
        mine = np.flatnonzero(sizes == size)
        record = np.zeros(len(mine), np.dtype([("size", "u1"), ("corner", "<i4", (size,))]))
        record["size"], record["corner"] = size, corners[begins[mine, None] + np.arange(size)]
        out[starts[mine, None] + np.arange(record.dtype.itemsize)] = record.view(np.uint8).reshape(len(mine), -1)
    return out.tobytes()


def write_stl(path: Path, pieces: list[Exported]) -> None:
    """All pieces as the triangles of one binary STL."""
    points = np.concatenate([piece.points for piece in pieces])
    first = np.cumsum([0, *(len(piece.points) for piece in pieces)])
    triangles = np.concatenate([piece.mesh.triangles + at for piece, at in zip(pieces, first)])
    record = np.zeros(len(triangles), np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("free", "<u2")]))
    corner = points[triangles]
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    record["normal"] = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    record["corner"] = corner
    header = MADE_BY.encode().ljust(80, b" ") + np.array(len(triangles), "<u4").tobytes()
    with whole_file(path) as part:
        part.write_bytes(header + record.tobytes())
