"""What the frames of a scene depend on, as numbers: of its values, and of what needs a new run."""

import hashlib
import json
from typing import Any

from rubberquince.bake.assemble import by_id
from rubberquince.bake.goals import HELD
from rubberquince.document.maps import InsideRule, LineRule, NearRule
from rubberquince.document.scene import MOVING, Curve, ImportedShape, Piece, PointSet, Scene
from rubberquince.document.values import built
from rubberquince.solver.own_air import offered
from rubberquince.solver.revision import revision


def run_key(scene: Scene) -> int:
    """What every frame of the scene depends on, as a number above 1."""
    return _number(scene, values=True, run=scene.run.model_dump(exclude={"last"}))


def topology_key(scene: Scene) -> int:
    """What the arrays of a run depend on: while it stays, values can change in the running arrays."""
    written = {"last", "gravity", "lean", "toward", "ground_friction"}          # into the running arrays
    return _number(scene, values=False, run=scene.run.model_dump(exclude=written))


def _shape(piece: Piece) -> Any:
    if isinstance(piece.shape, ImportedShape):
        return {"mesh": piece.shape.mesh}
    return piece.shape.model_dump(exclude={"name"})


def _physics(piece: Piece, values: bool) -> dict[str, Any]:
    data: dict[str, Any] = {"id": piece.id, "role": piece.role, "shape": _shape(piece),
                            "place": piece.place.model_dump(), "rides on": piece.rides_on,
                            "tracks": [track.model_dump() for track in piece.tracks]}
    if piece.moves:
        made_of = piece.made_of
        data["rest moves"] = piece.rest_moves, piece.shape_moves and piece.reshape.follows
        data["built"] = built(made_of), piece.hold.model_dump(), [getattr(made_of, name, None)
                                                                  for name in ("flat", "grain_by")]
        data["release"] = piece.release.model_dump() if piece.role == "pellets" else None
        data["keeps dents"] = getattr(made_of, "yields", None) is not None
        data["goal"] = piece.goal.model_dump(include={"to", "piece", "how"})
        data["held by goal"] = _holding(piece)
        data["passes"] = sorted(piece.passes)
        data["braces"] = built(piece.braces)
    if values:
        data["maps"] = [one.model_dump() for one in piece.maps]
        data["goal"] = piece.goal.model_dump()
        data["brace"] = piece.braces.stiffness, piece.braces.damping
        data["contact"] = piece.contact.model_dump()
        if piece.moves:
            data["reshape"] = piece.reshape.model_dump()
            data["made of"] = piece.made_of.model_dump(exclude={"feel"}), piece.pressure.model_dump()
    return data


def _holding(piece: Piece) -> object:
    """What says which points a goal holds: with a map all of it, else whether its strength is whole."""
    a_map = piece.map_of("goal.strength")
    if a_map is not None and max(a_map.low, a_map.high) >= HELD:
        return a_map.model_dump()
    return piece.goal.strength >= HELD


def _lines(piece: Piece, scene: Scene) -> list[Any]:
    """The lines and sets of a piece that something goes by."""
    used = {piece.hold.curve, *(line for seam in scene.sewn() for line in seam.along)}
    used |= {layer.rule.curve for one in piece.maps for layer in one.layers if isinstance(layer.rule, LineRule)}
    named: list[Curve | PointSet] = [*piece.curves, *piece.sets]
    return [one.model_dump(exclude={"name"}) for one in named if one.id in used]


def _looked_at(scene: Scene, of: Piece) -> list[Any]:
    """Shape and place of other pieces that a piece's maps and its goal go by."""
    near = {layer.rule.piece for a_map in of.maps for layer in a_map.layers
            if isinstance(layer.rule, NearRule | InsideRule)}
    near |= {of.goal.piece} if of.goal.to == "another piece" else set()
    return [(p.id, _shape(p), p.place.model_dump(), [t.model_dump() for t in p.tracks]) for p in scene.pieces
            if p.id in near]


def _way(of: Piece, scene: Scene) -> list[Any]:
    """The line that a piece moves along, and where it lies."""
    other_id, _, line = of.moves_along.partition(" ")
    return [(of.moves_along, of.turns_along, p.place.model_dump(), [one.model_dump(exclude={"name"}) for one in p.curves
                                                    if one.id == line]) for p in scene.pieces if p.id == other_id]


def _mount(of: Piece, scene: Scene) -> list[Any]:
    """Place and keys of what a piece rides on."""
    return [(p.place.model_dump(), p.rides_on, [t.model_dump() for t in p.tracks]) for p in scene.pieces
            if p.id == of.rides_on]


def _number(scene: Scene, values: bool, run: dict[str, Any]) -> int:
    pieces: list[Any] = [_physics(p, values) for p in (*by_id(scene, *MOVING), *by_id(scene, "collider"))]
    pieces += [_lines(piece, scene) for piece in by_id(scene, *MOVING, "collider")]
    pieces += [_physics(p, values) for p in by_id(scene, "scenery") if p.is_led]
    if values:
        pieces += [(p.id, p.force.model_dump(), offered().get(p.force.own), p.place.model_dump(), p.rides_on,
                    [track.model_dump() for track in p.tracks]) for p in by_id(scene, "force")]
    pieces += [_mount(piece, scene) for piece in scene.pieces if piece.rides_on]
    pieces += [_way(piece, scene) for piece in scene.pieces if piece.moves_along]
    pieces += [track.model_dump() for track in scene.tracks]
    pieces += [(p.id, p.carried_by, _shape(p), p.place.model_dump()) for p in by_id(scene, "carried")]
    if values:
        pieces += [_looked_at(scene, piece) for piece in by_id(scene, *MOVING, "collider")]
    seams = [(seam.one, seam.two, seam.along, seam.values.model_dump() if values else None) for seam in scene.sewn()]
    data = {"solver": revision(), "pieces": pieces, "seams": seams, "run": run}
    digest = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).digest()
    return int.from_bytes(digest[:8], "little") % (2 ** 63 - 2) + 2
