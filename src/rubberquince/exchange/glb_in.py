"""glTF binaries as the usual reader can take them: sparse accessors written out, counts held against the file."""

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

from rubberquince.errors import ShapeError

COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
JSON, BIN = 0x4E4F534A, 0x004E4942


def without_sparse(data: bytes, path: Path) -> bytes:
    """The same file with plain accessors only (glTF 2.0, 3.6.2.3).  Raises ShapeError when it is damaged."""
    try:
        scene, binary = _chunks(data)
        out = bytearray(binary)
        for accessor in scene.get("accessors", []):
            count = accessor["count"]
            if type(count) is not int or not 0 < count <= len(data):
                raise ValueError("a count that cannot be")
            if "sparse" in accessor:
                _write_out(scene, accessor, binary, out)
        if len(out) == len(binary):
            return data
        scene["buffers"][0]["byteLength"] = len(out)
        text = json.dumps(scene).encode()
        text += b" " * (-len(text) % 4)
        out += b"\0" * (-len(out) % 4)
        return (struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(out)) + struct.pack("<II", len(text), JSON) + text
                + struct.pack("<II", len(out), BIN) + bytes(out))
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, struct.error, RecursionError):
        raise ShapeError(f"“{path.name}” cannot be read: it is damaged.") from None


def _chunks(data: bytes) -> tuple[dict[str, Any], bytes]:
    magic, version, length = struct.unpack_from("<4sII", data)
    size, kind = struct.unpack_from("<II", data, 12)
    if magic != b"glTF" or version != 2 or length > len(data) or kind != JSON or 20 + size > len(data):
        raise ValueError("not a whole file")
    scene, binary = json.loads(data[20:20 + size]), b""
    if len(data) >= 28 + size:
        long, kind = struct.unpack_from("<II", data, 20 + size)
        binary = data[28 + size:28 + size + long] if kind == BIN else b""
        if len(binary) < long:
            raise ValueError("not a whole file")
    if any("uri" in buffer for buffer in scene.get("buffers", [])):
        raise ValueError("refers to other files")
    return scene, binary


def _write_out(scene: dict[str, Any], accessor: dict[str, Any], binary: bytes, out: bytearray) -> None:
    """Give a sparse accessor a view of its own at the end of the buffer."""
    kind, width, sparse = COMPONENTS[accessor["componentType"]], WIDTHS[accessor["type"]], accessor.pop("sparse")
    values = np.zeros((accessor["count"], width), kind)
    if "bufferView" in accessor:
        values[:] = _read(scene, binary, accessor["bufferView"], accessor.get("byteOffset", 0), kind, accessor["count"],
                          width)
    at, new = sparse["indices"], sparse["values"]
    index = _read(scene, binary, at["bufferView"], at.get("byteOffset", 0), COMPONENTS[at["componentType"]],
                  sparse["count"], 1)[:, 0]
    values[index] = _read(scene, binary, new["bufferView"], new.get("byteOffset", 0), kind, sparse["count"], width)
    out += b"\0" * (-len(out) % 4)
    scene["bufferViews"].append({"buffer": 0, "byteOffset": len(out), "byteLength": values.nbytes})
    accessor["bufferView"] = len(scene["bufferViews"]) - 1
    accessor.pop("byteOffset", None)
    out += values.tobytes()


def _read(scene: dict[str, Any], binary: bytes, view: int, offset: int, kind: str, count: int,
          width: int) -> np.ndarray:
    """(count, width) of a buffer view."""
    if min(view, offset, count) < 0:
        raise ValueError("a negative number")
    where = scene["bufferViews"][view]
    start, row = where.get("byteOffset", 0) + offset, np.dtype(kind).itemsize * width
    step = where.get("byteStride", row)
    data = np.frombuffer(binary, np.uint8, (count - 1) * step + row, start)
    rows = np.lib.stride_tricks.as_strided(data, (count, row), (step, 1))
    return np.ascontiguousarray(rows).view(kind)
