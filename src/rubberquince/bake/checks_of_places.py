"""Checks of what lies on skins and in other pieces: lines, layers of maps, what is carried."""

from functools import partial

import numpy as np
from scipy.spatial import cKDTree

from rubberquince.bake.check import Check, set_value
from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.maps import InsideRule, LineRule, Map, NearRule, Rule
from rubberquince.document.scene import Curve, Piece, Scene
from rubberquince.document.values import about

LEFT = 0.1                  # of its size, that a bead may be off the points of the skin
REACHES_OUT = 0.25          # of its carrier's size, that a piece may


def lost_layers(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A layer of a map that goes by a line or a piece that is gone."""
    found = []
    for a_map in piece.maps:
        lost = [layer for layer in a_map.layers if layer.shown and _goes_by_nothing(layer.rule, piece, scene)]
        if lost:
            head, _, name = a_map.of.partition(".")
            value = about(type(getattr(piece, head)))[name].name.lower()
            what = "line" if isinstance(lost[0].rule, LineRule) else "piece"
            found.append(Check(f"The map of the {value} of {piece.name} goes by a {what} that is gone.", True, piece.id,
                               "Take that layer away", partial(_without_lost, piece.id, a_map.of)))
    return found


def _goes_by_nothing(rule: Rule, piece: Piece, scene: Scene) -> bool:
    if isinstance(rule, LineRule):
        return bool(rule.curve) and piece.curve(rule.curve) is None
    if isinstance(rule, NearRule) or (isinstance(rule, InsideRule) and rule.form == "a piece"):
        return not any(other.id == rule.piece != piece.id for other in scene.pieces)
    return False


def _without_lost(piece_id: str, path: str, now: Scene) -> Scene:
    """A mend: the map at a path without layers that go by nothing, and no map where that were all."""
    piece = now.piece(piece_id)

    def kept(a_map: Map) -> Map:
        layers = tuple(layer for layer in a_map.layers if not _goes_by_nothing(layer.rule, piece, now))
        return a_map.model_copy(update={"layers": layers}) if a_map.of == path else a_map

    return set_value(piece_id, "maps", tuple(a_map for a_map in map(kept, piece.maps) if a_map.layers), now)


def lines_off(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A line whose beads are not on the skin any more, as its shape became another one."""
    if not piece.curves:
        return []
    points, size = unit_mesh(piece.shape, meshes).points, np.array(piece.place.size)
    tree, found = cKDTree(points * size), []
    for curve in piece.curves:
        off = np.asarray(tree.query(np.array(curve.beads) * size)[0]) / size.max()
        if off.max() > LEFT:
            bead = np.array(curve.beads[int(off.argmax())]) * size
            on_skin = points[np.atleast_1d(tree.query(np.array(curve.beads) * size)[1])]
            found.append(Check(f"The line {curve.name} has left the skin of {piece.name}.", True, piece.id,
                               "Lay it on the skin", partial(_laid, piece.id, curve.id, on_skin),
                               piece.place.rotation() @ bead + piece.place.position))
    return found


def _laid(piece_id: str, curve_id: str, places: np.ndarray, now: Scene) -> Scene:
    """A mend: the beads of a line at ``places`` (k, 3) of the unit box."""
    def laid(curve: Curve) -> Curve:
        beads = tuple((float(x), float(y), float(z)) for x, y, z in places)
        return curve.model_copy(update={"beads": beads}) if curve.id == curve_id else curve

    return set_value(piece_id, "curves", tuple(map(laid, now.piece(piece_id).curves)), now)


def not_carried(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """What is carried needs a piece that moves and reaches about as far; usually the largest is meant."""
    carrier = next((other for other in scene.pieces if other.id == piece.carried_by and other.moves), None)
    if carrier is not None:
        return _reaches_out(piece, carrier, meshes)
    moving = [other for other in scene.pieces if other.moves]
    sentence = f"{piece.name} is carried by nothing: choose a piece that moves."
    if not moving:
        return [Check(sentence, True, piece.id)]
    best = max(moving, key=lambda other: float(np.prod(other.place.size)))
    return [Check(sentence, True, piece.id, f"Let {best.name} carry it",
                  partial(set_value, piece.id, "carried_by", best.id))]


def _reaches_out(piece: Piece, carrier: Piece, meshes: Meshes) -> list[Check]:
    """What is far outside of its carrier does not bend with it."""
    points, around = piece_points(piece, meshes), piece_points(carrier, meshes)
    low, high = around.min(axis=0), around.max(axis=0)
    out = np.maximum(low - points, points - high).max(axis=1)
    if out.max() <= REACHES_OUT * (high - low).max():
        return []
    return [Check(f"{piece.name} reaches {100 * out.max():.3g} cm out of {carrier.name}, which carries it; what is "
                  "out there does not bend.", True, piece.id, spot=points[int(out.argmax())])]
