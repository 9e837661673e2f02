"""Thin lines that say in the view what cannot be seen: ways to goals, braces, paths of keys, the reach of forces."""

from contextlib import suppress
from dataclasses import replace
from itertools import pairwise

import numpy as np

from rubberquince.bake.assemble import braces_of
from rubberquince.bake.courses import placed_at, pose_at
from rubberquince.bake.fields import force_of
from rubberquince.bake.goals import goal_points
from rubberquince.document.bodies import Meshes, piece_points
from rubberquince.document.scene import Piece, Scene
from rubberquince.document.tracks import at_frame
from rubberquince.errors import QuinceError
from rubberquince.shapes.rigid_move import rigid_move
from rubberquince.solver import fields
from rubberquince.solver.specs import ForceSpec
from rubberquince.ui.bench import Bench

MOST = 600                  # from a skin to its goal, or frames of a path, that are drawn
TICK = 0.004                # m, of a frame on a path
GRID = 5                    # arrows on each side of a force
EVERYWHERE = 0.35           # m, about the sign, that are shown of a force without end
ARROW = 0.05                # m, the longest
NOTHING = np.zeros((0, 2, 3))


def placed_points(scene: Scene, meshes: Meshes, frame: float, shown: set[str],
                  skins: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Skin points of what moves, as it is placed; of what keys lead, or rides on one of the ``skins``, at a frame."""
    placed = {}
    for piece in scene.pieces:
        if piece.is_seen_moving and piece.id in shown:
            placed[piece.id] = piece_points(at_frame(piece, scene.run.first), meshes)
            with suppress(QuinceError):                 # what it rides on may be gone, which a check says
                if piece.is_led or piece.role == "force":
                    placed[piece.id] = placed_at(piece, scene, meshes, frame)
                if piece.role == "force" and piece.rides_on in skins:
                    mount = piece_points(at_frame(scene.piece(piece.rides_on), scene.run.first), meshes)
                    turn, shift = rigid_move(mount, skins[piece.rides_on])
                    placed[piece.id] = placed[piece.id] @ turn.T + shift
    return placed


def threads_of(bench: Bench, points: np.ndarray | None) -> np.ndarray:
    """Lines (k, 2, 3), m, about the chosen piece, whose skin is at ``points`` (n, 3)."""
    piece, meshes, found = bench.seen, bench.document.meshes, [NOTHING]
    if piece is None or points is None:
        return NOTHING
    if piece.has_course:
        found.append(_path(piece, bench.scene))
    if piece.role == "force":
        found += _force(piece, bench, points)
    if "goal" in bench.threads and piece.moves and piece.goal.to != "nothing":
        target = goal_points(piece, bench.scene, meshes)
        if target is not None and len(target) == len(points):
            some = slice(None, None, max(len(points) // MOST, 1))
            found.append(np.stack([points[some].astype(float), target[some]], axis=1))
    if "braces" in bench.threads and piece.of_skin and piece.braces.count:
        pairs = braces_of(piece, meshes)[0]
        found.append(points[pairs[pairs.max(axis=1, initial=0) < len(points)]].astype(float))
    return np.concatenate(found)


def _path(piece: Piece, scene: Scene) -> np.ndarray:
    """The way of the middle of a piece through all frames, with a tick for each."""
    run = scene.run
    step = max((run.last - run.first) // MOST, 1)
    try:
        way = np.array([pose_at(piece, scene, frame)[1] for frame in range(run.first, run.last + 1, step)])
    except QuinceError:
        return NOTHING
    if len(way) < 2 or np.ptp(way, axis=0).max() < TICK:
        return NOTHING
    half = np.array([0.0, TICK, 0.0])
    ticks = np.stack([way - half, way + half], axis=1)
    return np.concatenate([np.stack([way[:-1], way[1:]], axis=1), ticks])


def _force(piece: Piece, bench: Bench, points: np.ndarray) -> list[np.ndarray]:
    """Three rings where a force ends, and arrows on a grid where they are asked for; its sign is at ``points`` (n, 3).
    """
    scene = bench.scene
    try:
        force = force_of(piece, scene, bench.frame, [], [])
        turn, shift = rigid_move(placed_at(piece, scene, bench.document.meshes, bench.frame), points)
    except QuinceError:
        return []
    force = replace(force, place=turn @ force.place + shift, axis=turn @ force.axis)
    found = []
    if np.isfinite(force.reach):
        angle = np.linspace(0.0, 2.0 * np.pi, 49)
        for k in range(3):
            ring = np.zeros((49, 3))
            ring[:, (k + 1) % 3], ring[:, (k + 2) % 3] = np.cos(angle), np.sin(angle)
            ring = force.place + force.reach * ring
            found.append(np.array(list(pairwise(ring))))
    if "force" in bench.threads:
        found.append(_arrows(force, scene, bench.frame))
    return found


def _arrows(force: ForceSpec, scene: Scene, frame: int) -> np.ndarray:
    """Arrows (k, 2, 3), three lines each, on a grid about the sign of a force: the longer, the stronger."""
    half = min(force.reach, EVERYWHERE)
    steps = np.linspace(-half, half, GRID)
    at = force.place + np.stack(np.meshgrid(steps, steps, steps), axis=-1).reshape(-1, 3)
    since = (frame - scene.run.first) / scene.run.fps
    if force.kind == "puller":
        way = fields.pull(force, at, np.zeros_like(at), fields.middle_of(force, at))
    else:
        way = fields.air(force, at, since)
    way = way * fields.presence(force, at, since)[:, None]
    size = np.linalg.norm(way, axis=1)
    seen = size > 1e-3 * size.max(initial=1e-12)
    at, way = at[seen], ARROW * way[seen] / size.max(initial=1e-12)
    tip = at + way
    aside = np.cross(way, [0.3, 0.9, 0.3]) * 0.3
    return np.concatenate([np.stack([at, tip], axis=1), np.stack([tip, tip - 0.35 * way + aside], axis=1),
                           np.stack([tip, tip - 0.35 * way - aside], axis=1)])
