"""Solids that start inside each other: they do not touch until they have been drawn apart.

Which way is out is known at the start only, and which pairs there are: so whether a pair is still tangled follows from
where things are, and a run that is taken up again goes on the same way.
"""

from dataclasses import dataclass
from itertools import combinations

import igl
import numpy as np

from rubberquince.distinct import distinct
from rubberquince.kernels.crossing import count_crossings
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.specs import LedSpec, PelletSpec
from rubberquince.solver.world import Skin, World

TRACE, SET_OFF = 1e-3, 0.9     # of the gap: boxes so near to each other touch, and are set so far apart
TIME = 0.1          # s, to draw apart what could be drawn apart at once


@dataclass(frozen=True, eq=False)
class Overlap:
    """Solid ``one`` leaves ``two`` along ``out`` (3,), at ``speed``, m/s."""

    one: int
    two: int
    out: np.ndarray
    speed: float


def find_overlaps(world: World) -> list[Overlap]:
    """Pairs of solids that are inside each other at the start, with the shortest way out."""
    skin, found = world.skin, []
    points = [skin.points[skin.piece == k] for k in range(world.bodies)]
    for a, b in combinations(range(world.bodies), 2):
        x, y = points[a], points[b]
        led = any(isinstance(world.spec.bodies[k], LedSpec | PelletSpec) for k in (a, b))    # no inside, as what stands
        meet = (x.min(axis=0) < y.max(axis=0)).all() and (y.min(axis=0) < x.max(axis=0)).all()
        if not led and world.meets[a, b] and meet and _tangled(world, skin.points, a, b):
            between = x.mean(axis=0) - y.mean(axis=0)
            ways = [*np.eye(3), *-np.eye(3)]
            if np.linalg.norm(between) > 1e-6:
                ways.append(between / np.linalg.norm(between))
            out = min(ways, key=lambda way: lack(x, y, way))
            found.append(Overlap(a, b, out, lack(x, y, out) / TIME))
    return found


def parted(world: World) -> np.ndarray:
    """Nodes (n, 3), m, at the start, with bodies that just touch another's box set off by about their gap.

    What lies exactly on another has no side to be pushed to, and friction would hold it there.
    """
    start, skin = world.start.copy(), world.skin
    boxes = [(skin.points[skin.piece == k].min(axis=0), skin.points[skin.piece == k].max(axis=0))
             for k in range(len(world.gap))]
    fixed = np.array([(world.free[world.node_body == k] == 0.0).any() or world.of_balls[k]
                      for k in range(world.bodies)], bool)
    settled = [k for k in range(len(boxes)) if k >= world.bodies or fixed[k]]
    moved = np.zeros((len(boxes), 3))
    for k in sorted(np.flatnonzero(~fixed), key=lambda k: float(boxes[k][0][1])):      # the upper one makes way
        for other in settled:
            gap = max(world.gap[k], world.gap[other])
            beyond, before = boxes[k][0] - boxes[other][1], boxes[other][0] - boxes[k][1]
            apart, sign = np.maximum(beyond, before), np.where(beyond >= before, 1.0, -1.0)
            axis = int(apart.argmax())
            if world.meets[k, other] and abs(apart[axis]) < TRACE * gap:
                way = moved[other, axis] + sign[axis] * SET_OFF * gap
                moved[k, axis] = sign[axis] * max(sign[axis] * moved[k, axis], sign[axis] * way)
        settled.append(int(k))
        start[world.node_body == k] += moved[k]
    return start


def lack(one: np.ndarray, two: np.ndarray, out: np.ndarray) -> float:
    """How far, m, points ``one`` (k, 3) have to go along ``out`` until a plane parts them from ``two``."""
    return float((two @ out).max() - (one @ out).min())


def still_tangled(world: World, overlaps: list[Overlap], x: np.ndarray) -> list[Overlap]:
    """Those whose solids are still inside each other at skin points ``x`` (n, 3), m."""
    piece = world.skin.piece
    return [o for o in overlaps if lack(x[piece == o.one], x[piece == o.two], o.out) > 0.0
            and _tangled(world, x, o.one, o.two)]


def points_inside(skin: Skin, x: np.ndarray, k: int, pieces: np.ndarray) -> np.ndarray:
    """Which points (n,) bool of ``pieces`` are inside closed piece ``k``, at skin points ``x`` (n, 3)."""
    mine, inside = x[skin.piece == k], np.zeros(len(x), bool)
    near = np.flatnonzero(((x > mine.min(axis=0)) & (x < mine.max(axis=0))).all(axis=1) & np.isin(skin.piece, pieces))
    if len(near):
        winding = igl.fast_winding_number(x, skin.triangles[k], np.ascontiguousarray(x[near]))
        inside[near[np.abs(winding) > 0.5]] = True
    return inside


def is_tangled_in_itself(skin: Skin, x: np.ndarray, k: int) -> bool:
    """Does piece ``k`` pass through itself, or is it turned inside out as a whole, at skin points ``x`` (n, 3), m?"""
    return volume(x, skin.triangles[k]) < 0.0 or count_crossings(x, edges_of_piece(skin, k), skin.triangles[k], 1) > 0


def edges_of_piece(skin: Skin, k: int) -> np.ndarray:
    """The edges (e, 2) of piece ``k``."""
    own = skin.owned_edge[k]
    return skin.edges[distinct(own[own >= 0])]


def _tangled(world: World, x: np.ndarray, a: int, b: int) -> bool:
    """Do two bodies pass through each other?  Filled ones must not be in each other, in a shell one may."""
    skin = world.skin
    filled = world.carriers[a].filled and world.carriers[b].filled
    if filled and any(points_inside(skin, x, one, np.array([two])).any() for one, two in ((a, b), (b, a))):
        return True
    edges = [edges_of_piece(skin, k) for k in (a, b)]
    return (count_crossings(x, edges[0], skin.triangles[b], 1) + count_crossings(x, edges[1], skin.triangles[a], 1)) > 0
