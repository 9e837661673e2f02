"""The scene file: one zip archive, stored, with scene.json and each imported mesh as plain arrays."""

import io
import json
import math
import os
import stat
import tempfile
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from rubberquince.document.scene import VERSION, Scene
from rubberquince.errors import SceneError
from rubberquince.shapes.polymesh import PolyMesh

SUFFIX = ".quince"
MOST_BYTES = 2 * 1024 ** 3
MOST_JSON = 8 * 1024 ** 2
USUAL_MODE = 0o666
ARRAYS = {"points": "<f8", "face_sizes": "<i4", "face_points": "<i4", "uvs": "<f4", "face_uvs": "<i4",
          "frames": "<f4"}


def _from_1(raw: dict[str, Any]) -> dict[str, Any]:
    """Weight, bounce and sides are new; what they stand at was the only way before."""
    return {**raw, "version": 2}


def _from_2(raw: dict[str, Any]) -> dict[str, Any]:
    """How often a profile is rounded is new; what it stands at was the only way before."""
    return {**raw, "version": 3}


def _from_3(raw: dict[str, Any]) -> dict[str, Any]:
    """A feel belongs to what a piece is made of in its role: shells are new, and have others."""
    pieces = [dict(piece) for piece in raw.get("pieces", [])]
    for piece in pieces:
        if "feel" in piece:
            piece["solid"] = {**piece.get("solid", {}), "feel": piece.pop("feel")}
    return {**raw, "version": 4, "pieces": pieces}


def _from_4(raw: dict[str, Any]) -> dict[str, Any]:
    """Lines on skins, and what passes through what, are new; there were none before."""
    return {**raw, "version": 5}


def _from_5(raw: dict[str, Any]) -> dict[str, Any]:
    """Keys are new; nothing had any before."""
    return {**raw, "version": 6}


def _from_6(raw: dict[str, Any]) -> dict[str, Any]:
    """Nothing kept a dent in version 6, and every value that was new has a usual one."""
    return raw | {"version": 7}


def _from_7(raw: dict[str, Any]) -> dict[str, Any]:
    """Nothing wanted to be another shape in version 7, and gravity pulled straight down."""
    return raw | {"version": 8}


def _from_8(raw: dict[str, Any]) -> dict[str, Any]:
    """Pellets that were let go in version 8 stayed."""
    return raw | {"version": 9}


# from a version: a function that takes and returns the raw dict
MIGRATIONS = {1: _from_1, 2: _from_2, 3: _from_3, 4: _from_4, 5: _from_5, 6: _from_6, 7: _from_7, 8: _from_8}


def save_scene(path: Path, scene: Scene, meshes: dict[str, PolyMesh]) -> None:
    """Write beside the target, flush, then replace: the old file stays whole until the new one is."""
    try:
        handle, name = tempfile.mkstemp(prefix=path.name, suffix=".part", dir=path.parent)
    except OSError as error:
        raise SceneError(_could_not("save", path, error)) from None
    try:
        with os.fdopen(handle, "wb") as file:
            with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
                archive.writestr("scene.json", scene.model_dump_json(indent=1))
                for key in scene.mesh_keys():
                    for array in ARRAYS:
                        archive.writestr(f"meshes/{key}/{array}.npy", _npy(getattr(meshes[key], array)))
            os.fchmod(file.fileno(), _mode(path))
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, path)
    except OSError as error:
        Path(name).unlink(missing_ok=True)
        raise SceneError(_could_not("save", path, error)) from None


def load_scene(path: Path) -> tuple[Scene, dict[str, PolyMesh]]:
    """Read a scene file.  Raises SceneError with one sentence; nothing is changed by a failed load.

    Whatever the file claims, no more is read or made than it is long.
    """
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):         # a pipe would wait for ever, a device never end
            raise SceneError(f"“{path.name}” is not a scene file.")
        with zipfile.ZipFile(path) as archive:
            entries = archive.infolist()
            if archive.getinfo("scene.json").file_size > MOST_JSON:
                raise SceneError(f"“{path.name}” is damaged: its description is far too long.")
            if any(entry.compress_type != zipfile.ZIP_STORED for entry in entries) \
                    or sum(entry.file_size for entry in entries) > min(path.stat().st_size, MOST_BYTES):
                raise SceneError(f"“{path.name}” is not a whole scene file: its parts are not as they were saved.")
            raw = json.loads(archive.read("scene.json"))
            scene = Scene.model_validate(migrated(raw, path.name))
            return scene, {key: _mesh(archive, key) for key in scene.mesh_keys()}
    except SceneError:
        raise
    except OSError as error:
        raise SceneError(_could_not("open", path, error)) from None
    except ValidationError as error:
        first = error.errors()[0]
        where = " › ".join(str(part) for part in first["loc"])
        raise SceneError(f"“{path.name}” is damaged{' at ' if where else ''}{where}: {first['msg'].lower()}.") from None
    except Exception:                       # damaged archives and arrays raise whatever they run into
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
    kept = set(archive.namelist())          # before version 7 no mesh moved
    mesh = PolyMesh(**{name: _array(archive.read(f"meshes/{key}/{name}.npy"), kind) for name, kind in ARRAYS.items()
                       if name != "frames" or f"meshes/{key}/{name}.npy" in kept})
    if mesh.key != key:
        raise SceneError("A mesh in the scene file does not match its checksum: the file is damaged.")
    return mesh


def _array(data: bytes, kind: str) -> np.ndarray:
    """The array in a .npy file.  Raises ValueError unless it is of this very kind and all there."""
    file = io.BytesIO(data)
    if np.lib.format.read_magic(file) != (1, 0):
        raise ValueError("not an array as we write them")
    shape, fortran, dtype = np.lib.format.read_array_header_1_0(file)
    count = math.prod(shape)
    if dtype != np.dtype(kind) or len(shape) > 2 or count * dtype.itemsize != len(data) - file.tell():
        raise ValueError("an array is not of its kind, or not all there")
    if not count:
        return np.zeros(shape, dtype)
    return np.frombuffer(data, dtype, count, file.tell()).reshape(shape, order="F" if fortran else "C").copy()


def _mode(path: Path) -> int:
    """The permissions that a saved file gets: those it has, or the usual ones of a new file."""
    try:
        return stat.S_IMODE(os.stat(path).st_mode)
    except OSError:
        umask = os.umask(0)
        os.umask(umask)
        return USUAL_MODE & ~umask


def _could_not(what: str, path: Path, error: OSError) -> str:
    reason = (error.strerror or "unknown error").lower()
    return f"Could not {what} “{path.name}”: {reason}."
