"""USD files: all meshes of a stage, instances among them, from the file's own folder only."""

import stat
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from pxr import Ar, Sdf, Tf, Usd, UsdGeom

from rubberquince.errors import ShapeError
from rubberquince.exchange.tidying import NO_CORNERS, NO_UVS, tidy
from rubberquince.shapes.polymesh import PolyMesh

MOST_LAYERS, MOST_FRAMES = 200, 100_000


def read_usd(path: Path) -> tuple[PolyMesh, str]:
    """All meshes of a USD stage as it stands at its start, in metres and with y up; and what was left out, or ""."""
    stage, layers, left_out = _opened(path)
    mesh = _at(stage, stage.GetStartTimeCode(), path, left_out)
    del layers                              # until here they keep what was taken out of them out
    return mesh, left_out


def usd_frames(path: Path) -> Iterator[PolyMesh]:
    """The same at each time code from the first to the last."""
    stage, layers, left_out = _opened(path)
    first, last = stage.GetStartTimeCode(), stage.GetEndTimeCode()
    if not last - first < MOST_FRAMES:
        raise ShapeError(f"“{path.name}” lasts for more than {MOST_FRAMES} frames; it was not read.")
    for number in range(round(last - first) + 1):
        yield _at(stage, first + number, path, left_out)
    del layers


def _opened(path: Path) -> tuple[Usd.Stage, list[Sdf.Layer], str]:
    """A stage, the layers that have to be held on to while it is read, and a sentence on what was left out."""
    try:
        root = Sdf.Layer.FindOrOpen(str(path))
        layers, left_out = _kept_at_home(root, path.resolve().parent)
        return Usd.Stage.Open(root), layers, left_out
    except Tf.ErrorException:
        raise ShapeError(f"“{path.name}” cannot be read as USD: it is damaged.") from None


def _at(stage: Usd.Stage, code: float, path: Path, left_out: str) -> PolyMesh:
    time, cache = Usd.TimeCode(code), UsdGeom.XformCache()
    cache.SetTime(time)
    points, sizes, corners, count = [], [], [], 0
    uvs: list[np.ndarray] = []
    uv_corners: list[np.ndarray] = []
    for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
        mesh = UsdGeom.Mesh(prim)
        where = mesh.GetPointsAttr().Get(time) if mesh else None
        if not where or not mesh.GetFaceVertexCountsAttr().Get(time):
            continue
        place = np.array(cache.GetLocalToWorldTransform(prim))
        points.append(np.array(where, float) @ place[:3, :3] + place[3, :3])
        sizes.append(np.array(mesh.GetFaceVertexCountsAttr().Get(time), np.int64))
        corners.append(np.array(mesh.GetFaceVertexIndicesAttr().Get(time), np.int64) + count)
        if (sizes[-1] < 0).any():
            raise ShapeError("The mesh is damaged: its faces do not add up.")
        primvar = UsdGeom.PrimvarsAPI(mesh).GetPrimvar("st")
        st = primvar.ComputeFlattened(time) if primvar.HasValue() else ()
        if len(st) == len(corners[-1]):                              # a texture point for each corner
            uv_corners.append(np.arange(len(st)) + sum(len(before) for before in uvs))
            uvs.append(np.array(st, np.float32))
        count += len(where)
    if not points:
        raise ShapeError(f"“{path.name}” holds no meshes." + (f" {left_out}" if left_out else ""))
    everything = np.concatenate(points) * UsdGeom.GetStageMetersPerUnit(stage)
    if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z:
        everything = everything[:, [0, 2, 1]] * [1.0, 1.0, -1.0]
    faces = np.concatenate(sizes), np.concatenate(corners)
    if sum(len(one) for one in uvs) != len(faces[1]):
        return tidy(everything, *faces, NO_UVS, NO_CORNERS)
    return tidy(everything, *faces, np.concatenate(uvs), np.concatenate(uv_corners))


def _kept_at_home(root: Sdf.Layer, folder: Path) -> tuple[list[Sdf.Layer], str]:
    """Take references to what lies outside ``folder``, or is no file, out of ``root`` and all that it refers to.

    Returns the layers, which have to be held on to, and a sentence on what was left out.
    """
    seen: dict[str, Sdf.Layer] = {root.identifier: root}
    todo, lost = [root], []
    while todo:
        layer = todo.pop()
        for name in sorted(layer.GetCompositionAssetDependencies()):
            where = layer.ComputeAbsolutePath(name)
            if not _is_at_home(where, folder) or len(seen) > MOST_LAYERS:
                layer.UpdateCompositionAssetDependency(name, "")
                lost.append(Path(name).name)
            elif where not in seen:
                found = Sdf.Layer.FindOrOpen(where)
                if found is not None:
                    seen[where] = found
                    todo.append(found)
    said = f"It refers to {', '.join(f'“{name}”' for name in lost[:3])}, which is not in its folder and was left out."
    return list(seen.values()), said if lost else ""


def _is_at_home(where: str, folder: Path) -> bool:
    """Is it a file in the folder?  What lies within a package counts as the package."""
    outer, _ = Ar.SplitPackageRelativePathOuter(where) if Ar.IsPackageRelativePath(where) else (where, "")
    try:
        real = Path(outer).resolve()
        return real.is_relative_to(folder) and stat.S_ISREG(real.stat().st_mode)
    except (OSError, ValueError, RuntimeError):
        return False
