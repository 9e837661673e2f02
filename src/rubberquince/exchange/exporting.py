"""Hand meshes over: one frame as OBJ, a run as USD with time-sampled points.  Metres, y up."""

import os
import re
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, Vt

from rubberquince import __version__
from rubberquince.errors import ExportError
from rubberquince.shapes.polymesh import PolyMesh


@dataclass(frozen=True, eq=False)
class Exported:
    """One piece to hand over: its faces, and its points (n, 3) m where it does not move."""

    name: str
    mesh: PolyMesh
    points: np.ndarray


def write_obj(path: Path, pieces: list[Exported]) -> None:
    """All pieces as objects of one OBJ file, polygons and texture coordinates as they came."""
    lines = [f"# Rubber Quince {__version__}, metres, y up"]
    first_point, first_uv = 1, 1
    for piece in pieces:
        mesh = piece.mesh
        lines.append(f"o {_identifier(piece.name)}")
        lines += [f"v {x:.9g} {y:.9g} {z:.9g}" for x, y, z in piece.points.tolist()]
        lines += [f"vt {u:.7g} {v:.7g}" for u, v in mesh.uvs.tolist()]
        points = (mesh.face_points + first_point).tolist()
        uvs = (mesh.face_uvs + first_uv).tolist()
        corners = [f"{p}/{t}" for p, t in zip(points, uvs)] if uvs else [str(p) for p in points]
        ends = np.cumsum(mesh.face_sizes).tolist()
        lines += ["f " + " ".join(corners[end - size:end]) for end, size in zip(ends, mesh.face_sizes.tolist())]
        first_point += len(piece.points)
        first_uv += len(mesh.uvs)
    part = path.with_name(path.name + ".part")
    try:
        with open(part, "w", encoding="utf-8") as file:
            file.write("\n".join(lines) + "\n")
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, path)
    except OSError as error:
        raise ExportError(f"Could not write “{path.name}”: {(error.strerror or 'unknown error').lower()}.") from None
    finally:
        _remove(part)


def write_usd(path: Path, still: list[Exported], moving: list[Exported], fps: float,
              frames: Iterable[tuple[int, list[np.ndarray]]]) -> int:
    """A USD stage: ``still`` pieces as they are, ``moving`` ones with points sampled at each frame.

    ``frames`` gives (frame number, points (n, 3) m for each moving piece).  Returns the frames written.
    """
    part = path.with_name(f".part-{os.getpid()}-{path.name}")
    try:
        stage = Usd.Stage.CreateNew(str(part))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        stage.SetTimeCodesPerSecond(fps)
        stage.SetFramesPerSecond(fps)
        root = UsdGeom.Xform.Define(stage, "/Scene")
        stage.SetDefaultPrim(root.GetPrim())
        taken: set[str] = set()
        for piece in still:
            _set_points(_define(stage, piece, taken), piece.points, Usd.TimeCode.Default())
        meshes = [_define(stage, piece, taken) for piece in moving]
        numbers = []
        for number, points in frames:
            for mesh, where in zip(meshes, points):
                _set_points(mesh, where, Usd.TimeCode(number))
            numbers.append(number)
        if numbers:
            stage.SetStartTimeCode(min(numbers))
            stage.SetEndTimeCode(max(numbers))
        stage.GetRootLayer().Save()
        del stage
        os.replace(part, path)
    except (OSError, Tf.ErrorException) as error:
        reason = getattr(error, "strerror", None) or "the folder cannot be written to"
        raise ExportError(f"Could not write “{path.name}”: {reason.lower()}.") from None
    finally:
        _remove(part)
    return len(numbers)


def _remove(part: Path) -> None:
    """What was written only in part; nothing is left of it when all went well."""
    with suppress(OSError):
        part.unlink()


def _define(stage: Usd.Stage, piece: Exported, taken: set[str]) -> UsdGeom.Mesh:
    name = _identifier(piece.name)
    while name in taken:
        name += "_"
    taken.add(name)
    mesh = UsdGeom.Mesh.Define(stage, f"/Scene/{name}")
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(piece.mesh.face_sizes, np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(np.ascontiguousarray(piece.mesh.face_points, np.int32)))
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    if len(piece.mesh.uvs):
        primvar = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar(
            "st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
        primvar.Set(Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(piece.mesh.uvs, np.float32)))
        primvar.SetIndices(Vt.IntArray.FromNumpy(np.ascontiguousarray(piece.mesh.face_uvs, np.int32)))
    return mesh


def _set_points(mesh: UsdGeom.Mesh, points: np.ndarray, time: Usd.TimeCode) -> None:
    array = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(points, np.float32))
    mesh.GetPointsAttr().Set(array, time)
    extent = Vt.Vec3fArray([Gf.Vec3f(*map(float, corner)) for corner in UsdGeom.PointBased.ComputeExtent(array)])
    mesh.CreateExtentAttr().Set(extent, time)


def _identifier(name: str) -> str:
    text = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "piece"
    return text if not text[0].isdigit() else "_" + text
