"""A run as USD with time-sampled points and normals.  Metres, y up."""

from collections.abc import Iterable
from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, Vt

from rubberquince import __version__
from rubberquince.errors import ExportError
from rubberquince.exchange.writing import Exported, identifier, whole_file, why_not


def write_usd(path: Path, still: list[Exported], moving: list[Exported], fps: float,
              frames: Iterable[tuple[int, list[np.ndarray]]]) -> int:
    """A USD stage: ``still`` pieces as they are, ``moving`` ones with points sampled at each frame.

    ``frames`` gives (frame number, points (n, 3) m for each moving piece).  Returns the frames written.
    """
    try:
        with whole_file(path) as part:
            numbers = _write(part, still, moving, fps, frames)
    except Tf.ErrorException:
        raise ExportError(f"Could not write “{path.name}”: {why_not(path)}.") from None
    return len(numbers)


def _write(part: Path, still: list[Exported], moving: list[Exported], fps: float,
           frames: Iterable[tuple[int, list[np.ndarray]]]) -> list[int]:
    stage = Usd.Stage.CreateNew(str(part))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    stage.SetTimeCodesPerSecond(fps)
    stage.SetFramesPerSecond(fps)
    stage.GetRootLayer().comment = f"Rubber Quince {__version__}"
    root = UsdGeom.Xform.Define(stage, "/Scene")
    stage.SetDefaultPrim(root.GetPrim())
    taken: set[str] = set()
    for piece in still:
        _set_points(_define(stage, piece, taken), piece, piece.points, Usd.TimeCode.Default())
    meshes = [_define(stage, piece, taken) for piece in moving]
    numbers = []
    for number, points in frames:
        for mesh, piece, where in zip(meshes, moving, points):
            _set_points(mesh, piece, where, Usd.TimeCode(number))
        numbers.append(number)
    if numbers:
        stage.SetStartTimeCode(min(numbers))
        stage.SetEndTimeCode(max(numbers))
    stage.GetRootLayer().Save()
    return numbers


def _define(stage: Usd.Stage, piece: Exported, taken: set[str]) -> UsdGeom.Mesh:
    name = identifier(piece.name)
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


def _set_points(mesh: UsdGeom.Mesh, piece: Exported, points: np.ndarray, time: Usd.TimeCode) -> None:
    """Points, normals and extent at a time; normals stand with the corners where edges are sharp."""
    array = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(points, np.float32))
    mesh.GetPointsAttr().Set(array, time)
    normals = piece.normals(points)
    smooth = len(normals) == len(points)
    values = normals if smooth else normals[piece.groups]
    mesh.CreateNormalsAttr().Set(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32)), time)
    mesh.SetNormalsInterpolation(UsdGeom.Tokens.vertex if smooth else UsdGeom.Tokens.faceVarying)
    extent = Vt.Vec3fArray([Gf.Vec3f(*map(float, corner)) for corner in UsdGeom.PointBased.ComputeExtent(array)])
    mesh.CreateExtentAttr().Set(extent, time)
