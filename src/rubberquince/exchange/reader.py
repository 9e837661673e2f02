"""The process that reads one file from outside: it may crash, hang or ask for too much; we may not.

Run as ``python -m rubberquince.exchange.reader SOURCE TARGET``; writes arrays to TARGET, or prints one
sentence and exits with 3.
"""

import re
import resource
import sys
from pathlib import Path
from typing import Any

import meshio
import numpy as np
import tinyobjloader
import trimesh
from pxr import Tf, Usd, UsdGeom

from rubberquince.errors import ShapeError
from rubberquince.exchange.apart import REFUSED
from rubberquince.shapes.polymesh import PolyMesh

MOST_MEMORY = 6 * 1024 ** 3
_NO_UVS = np.zeros((0, 2), np.float32)
NO_NUMBER = re.compile(rb"^\s*v\s[^\n]*(nan|inf)", re.IGNORECASE | re.MULTILINE)     # read as 0 otherwise


def read_obj(path: Path) -> PolyMesh:
    """Polygons and texture coordinates of an OBJ file, all groups as one mesh."""
    if NO_NUMBER.search(path.read_bytes()):
        raise ShapeError(f"“{path.name}” has points that are not numbers; it cannot be used.")
    config = tinyobjloader.ObjReaderConfig()
    config.triangulate = False
    reader = tinyobjloader.ObjReader()
    if not reader.ParseFromFile(str(path), config):
        raise ShapeError(f"“{path.name}” cannot be read as OBJ: {_first_line(reader.Error())}.")
    attributes = reader.GetAttrib()
    points = np.array(attributes.vertices, float).reshape(-1, 3)
    uvs = np.array(attributes.texcoords, np.float32).reshape(-1, 2)
    sizes, corners, uv_corners = [], [], []
    for shape in reader.GetShapes():
        mesh = shape.mesh                   # its numpy_ accessors repeat their first value: lists, then
        sizes.append(np.array(mesh.num_face_vertices, np.int64))
        corners.append(np.array(mesh.vertex_indices(), np.int64))
        uv_corners.append(np.array(mesh.texcoord_indices(), np.int64))
    if not sizes or not sum(map(len, sizes)):
        raise ShapeError(f"“{path.name}” holds no faces.")
    return tidy(points, np.concatenate(sizes), np.concatenate(corners), uvs, np.concatenate(uv_corners))


def read_triangles(path: Path) -> PolyMesh:
    """A PLY, STL, OFF or GLB file, all its parts as one mesh in the units of the file."""
    try:
        mesh: Any = trimesh.load(path, force="mesh", process=False)
    except Exception as error:              # each loader raises what it likes
        raise ShapeError(f"“{path.name}” cannot be read: {_first_line(str(error))[:80]}.") from None
    faces = np.asarray(getattr(mesh, "faces", np.zeros((0, 3))), np.int64).reshape(-1, 3)
    if not len(faces):
        raise ShapeError(f"“{path.name}” holds no faces.")
    points = np.asarray(mesh.vertices, float).reshape(-1, 3)
    uvs = np.asarray(getattr(mesh.visual, "uv", None) if hasattr(mesh, "visual") else None)
    has_uv = uvs.ndim == 2 and len(uvs) == len(points)
    return tidy(points, np.full(len(faces), 3), faces.reshape(-1), uvs.astype(np.float32) if has_uv else _NO_UVS,
                faces.reshape(-1) if has_uv else np.zeros(0, np.int64))


def read_ply(path: Path) -> PolyMesh:
    """A PLY file; faces of various sizes, which the usual reader does not know, are left to another."""
    try:
        return read_triangles(path)
    except ShapeError as refused:
        try:
            mesh = meshio.read(path)
        except BaseException:               # it leaves by SystemExit, too
            raise refused from None
    faces = [np.asarray(block.data, np.int64) for block in mesh.cells if block.dim == 2]
    if not faces:
        raise ShapeError(f"“{path.name}” holds no faces.")
    sizes = np.concatenate([np.full(len(block), block.shape[1]) for block in faces])
    corners = np.concatenate([block.reshape(-1) for block in faces])
    uvs = np.column_stack([mesh.point_data.get(name, np.zeros(0)) for name in ("s", "t")]).astype(np.float32)
    return tidy(np.asarray(mesh.points, float), sizes, corners, uvs, corners if len(uvs) else corners[:0])


def read_usd(path: Path) -> PolyMesh:
    """All meshes of a USD stage as it stands at its start, in metres and with y up."""
    try:
        stage = Usd.Stage.Open(str(path))
    except Tf.ErrorException:
        raise ShapeError(f"“{path.name}” cannot be read as USD: it is damaged.") from None
    time, cache = Usd.TimeCode(stage.GetStartTimeCode()), UsdGeom.XformCache()
    cache.SetTime(time)
    points, sizes, corners, count = [], [], [], 0
    uvs: list[np.ndarray] = []
    uv_corners: list[np.ndarray] = []
    for prim in stage.Traverse():
        mesh = UsdGeom.Mesh(prim)
        where = mesh.GetPointsAttr().Get(time) if mesh else None
        if not where or not mesh.GetFaceVertexCountsAttr().Get(time):
            continue
        place = np.array(cache.GetLocalToWorldTransform(prim))
        points.append(np.array(where, float) @ place[:3, :3] + place[3, :3])
        sizes.append(np.array(mesh.GetFaceVertexCountsAttr().Get(time), np.int64))
        corners.append(np.array(mesh.GetFaceVertexIndicesAttr().Get(time), np.int64) + count)
        primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st")
        st = primvar.ComputeFlattened(time) if primvar.HasValue() else ()
        if len(st) == len(corners[-1]):                              # a texture point for each corner
            uv_corners.append(np.arange(len(st)) + sum(len(before) for before in uvs))
            uvs.append(np.array(st, np.float32))
        count += len(where)
    if not points:
        raise ShapeError(f"“{path.name}” holds no meshes.")
    everything = np.concatenate(points) * UsdGeom.GetStageMetersPerUnit(stage)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        everything = everything[:, [0, 2, 1]] * [1.0, 1.0, -1.0]
    faces = np.concatenate(sizes), np.concatenate(corners)
    if sum(len(one) for one in uvs) != len(faces[1]):
        return tidy(everything, *faces, _NO_UVS, np.zeros(0, np.int64))
    return tidy(everything, *faces, np.concatenate(uvs), np.concatenate(uv_corners))


def tidy(points: np.ndarray, sizes: np.ndarray, corners: np.ndarray, uvs: np.ndarray,
         uv_corners: np.ndarray) -> PolyMesh:
    """A checked mesh: faces of fewer than three corners and points without a face are left out."""
    keep = np.repeat(sizes >= 3, sizes)
    if len(keep) != len(corners):
        raise ShapeError("The mesh is damaged: its faces do not add up.")
    corners, sizes = corners[keep], sizes[sizes >= 3]
    uv_corners = uv_corners[keep] if len(uv_corners) else uv_corners
    if len(corners) and (corners.min() < 0 or corners.max() >= len(points)):
        raise ShapeError("The mesh is damaged: a face names a point that does not exist.")
    used, index = np.unique(corners, return_inverse=True)
    has_uv = len(uvs) > 0 and len(uv_corners) > 0 and bool((uv_corners >= 0).all())
    return PolyMesh(points[used], sizes.astype(np.int32), index.reshape(-1).astype(np.int32),
                    uvs if has_uv else np.zeros((0, 2), np.float32),
                    uv_corners.astype(np.int32) if has_uv else np.zeros(0, np.int32))


def _first_line(text: str) -> str:
    lines = [line.strip() for line in text.splitlines() if line.strip()]
    return lines[0].rstrip(".").lower() if lines else "the file is damaged"


READERS = {".obj": read_obj, ".ply": read_ply, **dict.fromkeys((".stl", ".off", ".glb"), read_triangles),
           **dict.fromkeys((".usd", ".usda", ".usdc", ".usdz"), read_usd)}


def main() -> int:
    source, target = Path(sys.argv[1]), Path(sys.argv[2])
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    try:
        mesh = READERS[source.suffix.lower()](source)
    except ShapeError as error:
        print(error)
        return REFUSED
    np.savez(target, points=mesh.points, face_sizes=mesh.face_sizes, face_points=mesh.face_points,
             uvs=mesh.uvs, face_uvs=mesh.face_uvs)
    return 0


if __name__ == "__main__":
    sys.exit(main())
