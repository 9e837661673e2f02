"""Checks of keys and of forces: what would do nothing, and what cannot be."""

from collections.abc import Callable
from functools import partial

import numpy as np

from rubberquince.bake.balls import balls_of
from rubberquince.bake.check import Check, set_value
from rubberquince.bake.courses import pose_at
from rubberquince.bake.fields import force_of
from rubberquince.document.bodies import Meshes, piece_points
from rubberquince.document.scene import Piece, Scene, changed
from rubberquince.errors import ShapeError

ROUND = 0.7                 # of the farthest point of a ball: how near its nearest may be


def _acts_on_nothing(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A force needs something that moves."""
    moving = {p.id for p in scene.pieces if p.moves}
    if not moving or not piece.force.acts_on or moving & set(piece.force.acts_on):
        return []
    return [Check(f"{piece.name} acts on no piece that moves.", True, piece.id, "Let it act on all",
                  partial(set_value, piece.id, "force.acts_on", ()))]


def _reaches_nothing(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A force ends before the pieces that it acts on, or its frames are not among those of the run."""
    values, run = piece.force, scene.run
    if values.last < run.first or values.first > run.last or values.first > values.last:
        return [Check(f"{piece.name} is there in none of the frames {run.first} – {run.last}.", True, piece.id,
                      "Let it be there always", partial(_always, piece.id))]
    force, targets = force_of(piece, scene, run.first, [], []), _targets(piece, scene, meshes)
    if not targets or piece.has_course or not np.isfinite(force.reach):
        return []
    nearest = min(float(np.linalg.norm(points - force.place, axis=1).min()) for points in targets)
    if nearest < force.reach:
        return []
    return [Check(f"{piece.name} ends {100 * (nearest - force.reach):.3g} cm before the nearest piece that it acts on.",
                  True, piece.id, "Let it reach that far", partial(set_value, piece.id, "force.reach", 1.5 * nearest))]


def _points_away(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """A wind with an end blows away from all that it acts on."""
    force, targets = force_of(piece, scene, scene.run.first, [], []), _targets(piece, scene, meshes)
    if piece.force.kind != "wind" or not targets or not np.isfinite(force.reach) or piece.has_course:
        return []
    blows = force.axis * np.sign(force.strength)
    if max(float(((points - force.place) @ blows).max()) for points in targets) > 0.0:
        return []
    return [Check(f"{piece.name} blows away from all that it acts on.", True, piece.id, "Turn it round",
                  partial(set_value, piece.id, "force.speed", -piece.force.speed))]


def _draws_to_nothing(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    values = piece.force
    if values.kind != "puller" or values.draws_to != "a piece":
        return []
    if any(p.id == values.piece and (p.moves or p.role == "collider") for p in scene.pieces):
        return []
    return [Check(f"{piece.name} draws to a piece that is gone or has no skin to draw to.", True, piece.id,
                  "Let it draw to its middle", partial(set_value, piece.id, "force.draws_to", "its middle"))]


def not_round(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Pellets are balls, whatever they look like."""
    if balls_of(piece, meshes).roundness(piece_points(piece, meshes)) > ROUND:
        return []
    return [Check(f"The parts of {piece.name} are not round: each meets others as a ball of its mean width.", True,
                  piece.id)]


FORCE_LOOKS: tuple[Callable[[Piece, Scene, Meshes], list[Check]], ...] = (
    _acts_on_nothing, _reaches_nothing, _points_away, _draws_to_nothing)


def goes_nowhere(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """Keys of a place lead what is held or drawn by a goal, and what does not move by itself; and riding needs a mount.
    """
    try:
        pose_at(piece, scene, scene.run.first)
    except ShapeError as error:
        return [Check(f"{piece.name}: {error}.", True, piece.id, "Let it go by its own keys",
                      partial(_let_go, piece.id))]
    if not piece.moves or not piece.is_to_go or piece.goal.to != "nothing" or piece.hold.what != "nothing":
        return []
    return [Check(f"Keys lead {piece.name}, but nothing holds or draws it: it goes its own way from the start.", True,
                  piece.id, "Draw it along by a goal", partial(set_value, piece.id, "goal.to", "its own shape"))]


def keeps_its_rest(piece: Piece, scene: Scene, meshes: Meshes) -> list[Check]:
    """What keeps dents finds its rest shape by itself."""
    wanted = piece.reshapes or (piece.shape_moves and piece.reshape.follows)
    if not piece.moves or not wanted or piece.rest_moves:
        return []
    return [Check(f"{piece.name} keeps dents, so it does not come to be what Reshape says.", True, piece.id,
                  "Let it come back", partial(set_value, piece.id, "solid.yields", None))]


def _let_go(piece_id: str, now: Scene) -> Scene:
    return now.with_piece(now.piece(piece_id).model_copy(update={"rides_on": "", "moves_along": ""}))


def _targets(piece: Piece, scene: Scene, meshes: Meshes) -> list[np.ndarray]:
    """Points, m, of the pieces that a force acts on."""
    acts_on = piece.force.acts_on
    return [piece_points(p, meshes) for p in scene.pieces if p.moves and (not acts_on or p.id in acts_on)]


def _always(piece_id: str, now: Scene) -> Scene:
    force = now.piece(piece_id).force.model_copy(update={"first": 0, "last": 100_000})
    return now.with_piece(changed(now.piece(piece_id), "force", force))
