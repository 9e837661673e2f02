"""What the frames of a scene depend on, as numbers: of its values, and of what needs a new run."""

import hashlib
import json
from typing import Any

from rubberquince.bake.assemble import by_id
from rubberquince.bake.goals import HELD
from rubberquince.document.scene import MOVING, ImportedShape, Piece, Scene
from rubberquince.document.values import built
from rubberquince.solver.revision import revision


def run_key(scene: Scene) -> int:
    """What every frame of the scene depends on, as a number above 1."""
    return _number(scene, values=True, run=scene.run.model_dump(exclude={"last"}))


def topology_key(scene: Scene) -> int:
    """What the arrays of a run depend on: while it stays, values can change in the running arrays."""
    return _number(scene, values=False, run=scene.run.model_dump(exclude={"last", "gravity", "ground_friction"}))


def _physics(piece: Piece, values: bool) -> dict[str, Any]:
    shape = piece.shape.model_dump(exclude={"name"})
    if isinstance(piece.shape, ImportedShape):
        shape = {"mesh": piece.shape.mesh}
    data: dict[str, Any] = {"id": piece.id, "role": piece.role, "shape": shape, "place": piece.place.model_dump()}
    if piece.moves:
        data["built"] = built(piece.made_of), piece.hold.model_dump(), *(getattr(piece.made_of, name, None)
                                                                                   for name in ("flat", "grain_by"))
        data["goal"] = piece.goal.model_dump(include={"to", "piece", "how"})
        data["held by goal"] = _holding(piece)
        data["passes"] = sorted(piece.passes)
        data["braces"] = built(piece.braces)
        data["curves"] = [curve.model_dump(exclude={"name"}) for curve in piece.curves]
    if values:
        data["maps"] = [one.model_dump() for one in piece.maps]
        data["goal"] = piece.goal.model_dump()
        data["brace"] = piece.braces.stiffness
        data["contact"] = piece.contact.model_dump()
        if piece.moves:
            data["made of"] = piece.made_of.model_dump(exclude={"feel"}), piece.pressure.model_dump()
    return data


def _holding(piece: Piece) -> object:
    """What says which points a goal holds: with a map all of it, else whether its strength is whole."""
    a_map = piece.map_of("goal.strength")
    if a_map is not None and max(a_map.low, a_map.high) >= HELD:
        return a_map.model_dump()
    return piece.goal.strength >= HELD


def _number(scene: Scene, values: bool, run: dict[str, Any]) -> int:
    pieces = [_physics(p, values) for p in (*by_id(scene, *MOVING), *by_id(scene, "collider"))]
    seams = [(seam.one, seam.two, seam.along, seam.values.model_dump() if values else None) for seam in scene.sewn()]
    data = {"solver": revision(), "pieces": pieces, "seams": seams, "run": run}
    digest = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).digest()
    return int.from_bytes(digest[:8], "little") % (2 ** 63 - 2) + 2
