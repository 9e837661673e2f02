"""The points of skins that contact looks at: all of them, or of dense things those that something may come to."""

from dataclasses import dataclass

import numpy as np

from rubberquince.solver.world import World


@dataclass(frozen=True, eq=False)
class Near:
    """Points of a world's skins, in the order that they have there: those that move come first.

    number : (n,), which of all points each is; place : (all,), where each of those is here, or -1.
    points : (n, 3) m, at the start.  piece, area, gap and friction are those of each, (n,); body k has those from
    ``first[k]`` on.  bind_node, bind_weight : (moving, k), what carries them.
    """

    number: np.ndarray
    place: np.ndarray
    points: np.ndarray
    moving: int
    bind_node: np.ndarray
    bind_weight: np.ndarray
    piece: np.ndarray
    first: np.ndarray
    area: np.ndarray
    gap: np.ndarray
    friction: np.ndarray


def all_of(world: World) -> Near:
    """All points of a world; how they touch is what the world says, whenever it is changed."""
    skin, every = world.skin, np.arange(len(world.skin.points))
    first = np.searchsorted(skin.piece[: skin.moving], np.arange(world.bodies + 1))
    return Near(every, every, skin.points, skin.moving, skin.bind_node, skin.bind_weight, skin.piece, first, skin.area,
                world.point_gap, world.friction)


def those_of(all_points: Near, number: np.ndarray) -> Near:
    """Of all points those ``number`` (n,), which are sorted."""
    moving, piece = int(np.searchsorted(number, all_points.moving)), all_points.piece[number]
    place = np.full(len(all_points.piece), -1)
    place[number] = np.arange(len(number))
    first = np.searchsorted(piece[:moving], np.arange(len(all_points.first)))
    return Near(number, place, all_points.points[number], moving, all_points.bind_node[number[:moving]],
                all_points.bind_weight[number[:moving]], piece, first, all_points.area[number], all_points.gap[number],
                all_points.friction[number])
