"""The scene file: one zip archive, stored, with scene.json and each imported mesh as plain arrays."""

import io
import json
import os
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from rubberquince.document.scene import VERSION, ImportedShape, Scene
from rubberquince.errors import SceneError, ShapeError
from rubberquince.shapes.polymesh import PolyMesh

SUFFIX = ".quince"
MOST_BYTES = 2 * 1024 ** 3
MOST_JSON = 64 * 1024 ** 2
ARRAYS = {"points": "<f8", "face_sizes": "<i4", "face_points": "<i4", "uvs": "<f4", "face_uvs": "<i4"}


def _from_1(raw: dict[str, Any]) -> dict[str, Any]:
    """Weight, bounce and sides are new; what they stand at was the only way before."""
    return {**raw, "version": 2}


MIGRATIONS = {1: _from_1}            # from a version: a function that takes and returns the raw dict


def save_scene(path: Path, scene: Scene, meshes: dict[str, PolyMesh]) -> None:
    """Write beside the target, flush, then replace: the old file stays whole until the new one is."""
    used = {p.shape.mesh for p in scene.pieces if isinstance(p.shape, ImportedShape)}
    try:
        handle, name = tempfile.mkstemp(prefix=path.name, suffix=".part", dir=path.parent)
    except OSError as error:
        raise SceneError(_could_not("save", path, error)) from None
    try:
        with os.fdopen(handle, "wb") as file:
            with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
                archive.writestr("scene.json", scene.model_dump_json(indent=1))
                for key in sorted(used):
                    for array in ARRAYS:
                        archive.writestr(f"meshes/{key}/{array}.npy", _npy(getattr(meshes[key], array)))
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise SceneError(_could_not("save", path, error)) from None


def load_scene(path: Path) -> tuple[Scene, dict[str, PolyMesh]]:
    """Read a scene file.  Raises SceneError with one sentence; nothing is changed by a failed load."""
    try:
        with zipfile.ZipFile(path) as archive:
            if sum(info.file_size for info in archive.infolist()) > MOST_BYTES:
                raise SceneError(f"“{path.name}” would unpack to more than 2 GB; it was not opened.")
            if archive.getinfo("scene.json").file_size > MOST_JSON:
                raise SceneError(f"“{path.name}” is damaged: its description is far too long.")
            raw = json.loads(archive.read("scene.json"))
            scene = Scene.model_validate(migrated(raw, path.name))
            keys = {p.shape.mesh for p in scene.pieces if isinstance(p.shape, ImportedShape)}
            return scene, {key: _mesh(archive, key) for key in keys}
    except SceneError:
        raise
    except OSError as error:
        raise SceneError(_could_not("open", path, error)) from None
    except ValidationError as error:
        first = error.errors()[0]
        where = " › ".join(str(part) for part in first["loc"])
        raise SceneError(f"“{path.name}” is damaged at {where}: {first['msg'].lower()}.") from None
    except (zipfile.BadZipFile, KeyError, ValueError, EOFError, RuntimeError, NotImplementedError,
            ShapeError, RecursionError):
        raise SceneError(f"“{path.name}” is not a whole scene file: it is cut short or damaged.") from None


def migrated(raw: Any, name: str) -> Any:
    """The raw dict brought to the present version, a step at a time."""
    version = raw.get("version") if isinstance(raw, dict) else None
    if type(version) is not int or version < 1:
        raise SceneError(f"“{name}” is damaged: it does not say which version wrote it.")
    if version > VERSION:
        raise SceneError(f"“{name}” was saved by a newer Rubber Quince; update the program to open it.")
    for step in range(version, VERSION):
        raw = MIGRATIONS[step](raw)
    return raw


def _npy(array: np.ndarray) -> bytes:
    buffer = io.BytesIO()
    np.save(buffer, array, allow_pickle=False)
    return buffer.getvalue()


def _mesh(archive: zipfile.ZipFile, key: str) -> PolyMesh:
    arrays = {}
    for name, kind in ARRAYS.items():
        data = io.BytesIO(archive.read(f"meshes/{key}/{name}.npy"))
        arrays[name] = np.load(data, allow_pickle=False).astype(kind, casting="same_kind")
    mesh = PolyMesh(**arrays)
    if mesh.key != key:
        raise SceneError("A mesh in the scene file does not match its checksum: the file is damaged.")
    return mesh


def _could_not(what: str, path: Path, error: OSError) -> str:
    reason = (error.strerror or "unknown error").lower()
    return f"Could not {what} “{path.name}”: {reason}."
