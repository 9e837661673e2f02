"""glTF 2.0 in one binary file: a frame, or a run as morph targets that an animation turns through."""

import json
import struct
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np

from rubberquince import __version__
from rubberquince.exchange.writing import Exported, Split, whole_file

FLOAT, UINT = 5126, 5125
ARRAY_BUFFER, ELEMENT_BUFFER = 34962, 34963
KINDS = {1: "SCALAR", 2: "VEC2", 3: "VEC3"}


class _Binary:
    """The bytes of the file and the accessors that say what lies where."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.length = 0

    def add(self, values: np.ndarray, target: int | None = None, bounds: bool = False) -> int:
        """Number of the accessor of ``values`` (n,) or (n, k), float32 or uint32."""
        values = np.ascontiguousarray(values, "<u4" if values.dtype.kind == "u" else "<f4")
        data = values.tobytes()
        view = {"buffer": 0, "byteOffset": self.length, "byteLength": len(data)}
        self.views.append(view | ({"target": target} if target else {}))
        table = values.reshape(len(values), -1)
        accessor: dict[str, Any] = {"bufferView": len(self.views) - 1, "count": len(values),
                                    "type": KINDS[table.shape[1]],
                                    "componentType": UINT if values.dtype.kind == "u" else FLOAT}
        if bounds:
            accessor |= {"min": table.min(axis=0).tolist(), "max": table.max(axis=0).tolist()}
        self.accessors.append(accessor)
        self.parts.append(data)                              # all items are four bytes wide: always aligned
        self.length += len(data)
        return len(self.accessors) - 1


def write_glb(path: Path, still: list[Exported], moving: list[Exported], fps: float = 24.0,
              frames: Iterable[tuple[int, list[np.ndarray]]] = ()) -> int:
    """A GLB file: a node for each piece; ``moving`` ones have a morph target for each frame after the first.

    ``frames`` gives (frame number, points (n, 3) m for each moving piece); the animation's time is their
    distance from the first, in frames, over ``fps``.  Returns how many there were.
    """
    binary = _Binary()
    bodies = [Split(piece) for piece in moving]
    bases: list[tuple[np.ndarray, np.ndarray]] = []
    targets: list[list[dict[str, int]]] = [[] for _ in bodies]
    numbers: list[int] = []
    for number, points in frames:
        shapes = [body.arrays(where) for body, where in zip(bodies, points)]
        if numbers:
            for kept, (place, normal), (rest, rest_normal) in zip(targets, shapes, bases):
                kept.append({"POSITION": binary.add(place - rest, ARRAY_BUFFER, bounds=True),
                             "NORMAL": binary.add(normal - rest_normal, ARRAY_BUFFER)})
        else:
            bases = shapes
        numbers.append(number)
    bases = bases or [body.arrays(piece.points) for body, piece in zip(bodies, moving)]
    whole = [(body, *base, kept) for body, base, kept in zip(bodies, bases, targets)]
    whole += [(body, *body.arrays(piece.points), []) for piece in still for body in [Split(piece)]]
    meshes = [_mesh(binary, *one) for one in whole]
    scene: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": f"Rubber Quince {__version__}"},
        "scene": 0, "scenes": [{"nodes": list(range(len(meshes)))}],
        "nodes": [{"mesh": k, "name": body.piece.name} for k, (body, *_) in enumerate(whole)], "meshes": meshes}
    if len(numbers) > 1:
        scene["animations"] = [_turning(binary, len(bodies), np.array(numbers), fps)]
    scene |= {"accessors": binary.accessors, "bufferViews": binary.views, "buffers": [{"byteLength": binary.length}]}
    text = json.dumps(scene, separators=(",", ":"), ensure_ascii=False).encode()
    text += b" " * (-len(text) % 4)
    data = b"".join(binary.parts)
    with whole_file(path) as part:
        part.write_bytes(struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(data))
                         + struct.pack("<I4s", len(text), b"JSON") + text
                         + struct.pack("<I4s", len(data), b"BIN\0") + data)
    return len(numbers)


def _mesh(binary: _Binary, body: Split, place: np.ndarray, normal: np.ndarray,
          targets: list[dict[str, int]]) -> dict[str, Any]:
    attributes = {"POSITION": binary.add(place, ARRAY_BUFFER, bounds=True), "NORMAL": binary.add(normal, ARRAY_BUFFER)}
    if body.uvs is not None:
        down = body.uvs * [1, -1] + [0, 1]                   # glTF counts v downwards
        attributes["TEXCOORD_0"] = binary.add(down, ARRAY_BUFFER)
    triangles = body.corners[body.piece.mesh.fans]
    primitive: dict[str, Any] = {"attributes": attributes,
                                 "indices": binary.add(triangles.astype(np.uint32).reshape(-1), ELEMENT_BUFFER)}
    mesh: dict[str, Any] = {"name": body.piece.name, "primitives": [primitive]}
    if targets:
        primitive["targets"] = targets
        mesh["weights"] = [0.0] * len(targets)
    return mesh


def _turning(binary: _Binary, bodies: int, numbers: np.ndarray, fps: float) -> dict[str, Any]:
    """At the time of each frame its own target counts fully, all others not at all."""
    times = binary.add((numbers - numbers[0]) / fps, bounds=True)
    weights = np.eye(len(numbers), dtype=np.float32)[:, 1:]
    sampler = {"input": times, "output": binary.add(weights.reshape(-1)), "interpolation": "LINEAR"}
    return {"name": "Run", "samplers": [sampler],
            "channels": [{"sampler": 0, "target": {"node": k, "path": "weights"}} for k in range(bodies)]}
