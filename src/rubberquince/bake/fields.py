"""The forces of a scene as the solver is told of them."""

import numpy as np

from rubberquince.bake.courses import pose_at
from rubberquince.document.scene import Piece, Scene
from rubberquince.document.tracks import at_frame
from rubberquince.solver.specs import ForceSpec


def forces_at(scene: Scene, frame: float, bodies: list[Piece], colliders: list[Piece]) -> list[ForceSpec]:
    """All forces of a scene as its keys have them at a frame, on ``bodies`` in the order of a run."""
    return [force_of(piece, scene, frame, bodies, colliders)
            for piece in sorted(scene.pieces, key=lambda piece: piece.id) if piece.role == "force"]


def force_of(piece: Piece, scene: Scene, frame: float, bodies: list[Piece], colliders: list[Piece]) -> ForceSpec:
    """Raises ShapeError when what it rides on is gone."""
    turn, place = pose_at(piece, scene, frame)
    values, run = at_frame(piece, frame).force, scene.run
    axis = turn[:, 1] / max(float(np.linalg.norm(turn[:, 1])), 1e-12)
    acts = np.array([body.moves and (not values.acts_on or body.id in values.acts_on) for body in bodies], bool)
    pulls = values.kind == "puller"
    numbers = [p.id for p in (*bodies, *colliders)]
    return ForceSpec(
        values.kind, acts, place, axis, values.pull if pulls else values.speed,
        values.reach if values.reach > 0.0 else np.inf, values.fade, (values.first - 1 - run.first) / run.fps,
        (values.last - run.first) / run.fps, values.size, values.period, values.gusts, values.seed,
        values.inflow if values.kind == "vortex" else 0.0, values.lift if values.kind == "vortex" else 0.0,
        {"its middle": "point", "its axis": "line", "a piece": "piece"}[values.draws_to], values.rest,
        max(0.2 * float(np.linalg.norm(turn[:, 1])), 1e-3), values.limit if values.limit > 0.0 else np.inf,
        numbers.index(values.piece) if values.piece in numbers else -1, values.own,
        next((k for k, body in enumerate(bodies) if body.id == piece.rides_on and body.carries), -1))
