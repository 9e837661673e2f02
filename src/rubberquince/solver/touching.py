"""Which parts of the skins may touch.

Two lists of what is close are kept for as long as no point strays far from where it was listed: one of
different pieces, and one of solids with themselves, for which only the change of a body's shape counts.
What of these can touch in a substep is picked from them again and again, which is cheap.
"""

from collections.abc import Callable
from dataclasses import dataclass

import igl
import numpy as np

from rubberquince.kernels.contact import apart_at_rest, relations, within_reach
from rubberquince.kernels.distance import GROUND, LEAVING
from rubberquince.kernels.straying import keep_shape, laid_back, stay_near
from rubberquince.solver.skin_tree import SkinTree
from rubberquince.solver.world import World

CREASE = 0.5        # of a cell: what is nearer than this at rest shares cells and moves together
AHEAD = 1.0         # of a motion: how far its points may stray from the middle of it
SLACK = 0.15        # of the gap: how far a resting point may stray before what can touch is picked anew
APART_SLACK = 1.0   # of the gap: the same before different pieces are compared anew
OWN_SLACK = 0.2     # of a cell: the same before a solid is compared with itself anew
CRUMPLED = 12       # pairs a triangle of a skin with itself: more than contact could tell apart
SWIFT = 0.25        # share of these two for what moves farther in a substep than a list lasts

Relations = tuple[np.ndarray, np.ndarray, np.ndarray]       # ids (k, 4), kind (k,), gap (k,)
NONE: Relations = (np.zeros((0, 4), np.int64), np.zeros(0, np.int8), np.zeros(0))


def _joined(parts: list[Relations]) -> Relations:
    if not parts:
        return NONE
    ids, kind, gap = (np.concatenate(column) for column in zip(*parts))
    return ids, kind, gap


@dataclass(frozen=True, eq=False)
class _Balls:
    """Where moving points may be: centre (moving, 3) and radius (moving,), m."""

    centre: np.ndarray
    radius: np.ndarray

    @staticmethod
    def around(ends: list[np.ndarray], slack: np.ndarray | float) -> "_Balls":
        low, high = np.minimum.reduce(ends), np.maximum.reduce(ends)
        return _Balls(0.5 * (low + high), AHEAD * np.sqrt(((high - low) ** 2).sum(axis=1)) + slack)

    @staticmethod
    def nowhere(moving: int) -> "_Balls":
        return _Balls(np.full((moving, 3), np.nan), np.zeros(moving))


class Kept:
    """A list of relations that holds while points stay within balls.

    ``made_at`` is for who made it to say: where the nodes were, if the list depends on nothing else.
    """

    def __init__(self, fill: Callable[..., tuple[Relations, _Balls]], stay: Callable[..., bool]) -> None:
        self._fill, self._stay = fill, stay
        self.relations, self.balls = NONE, _Balls.nowhere(0)
        self.made_at: np.ndarray | None = None

    def make(self, *ends: np.ndarray) -> None:
        """List around and between places ``ends`` of the skin points, (n, 3) m."""
        self.relations, self.balls = self._fill(*ends)
        self.made_at = None

    def holds(self, x: np.ndarray) -> bool:
        """True when the list holds for skin points ``x`` (n, 3)."""
        return self._stay(x, self.balls.centre, self.balls.radius)


class Touching:
    """Lists of relations (ids, kind, gap) between pieces, of solids with themselves, and with the ground."""

    def __init__(self, world: World) -> None:
        self._world = world
        skin = world.skin
        self._trees = [SkinTree(t, skin.points) for t in skin.triangles]
        self._solids = world.solids
        self._inside: dict[int, np.ndarray] = {}        # a collider: which points (moving,) bool start inside it
        self._low, self._high = np.zeros_like(skin.points), np.zeros_like(skin.points)
        self._allowance = np.zeros(len(skin.points))
        self._start = np.searchsorted(skin.piece, np.arange(self._solids + 1))     # where each solid's points begin
        self._cell = np.repeat([s.lattice.cell for s in world.spec.solids], np.diff(self._start))
        self.apart = Kept(self._list_apart, stay_near)
        self.own = Kept(self._list_own, self._keeps_shape)
        self.forget()

    def forget(self) -> None:
        """Make the lists anew at the next call: gaps have changed or points have jumped."""
        moving = self._world.skin.moving
        self._inside.clear()
        self._widest = float(max([*self._world.gap, self._ground_gap(), 1e-6]))
        for kept in (self.apart, self.own):
            kept.relations, kept.balls, kept.made_at = NONE, _Balls.nowhere(moving), None
        self.drop()
        still = self._world.skin.points[moving:]
        self._low[moving:], self._high[moving:] = still - self._widest / 2, still + self._widest / 2
        for tree in self._trees[self._solids:]:
            tree.fit(self._low, self._high)

    def drop(self) -> None:
        """Pick what can touch anew at the next call."""
        self._balls = _Balls.nowhere(self._world.skin.moving)
        self.ids, self.kind, self.gap = NONE

    def look_inside(self, x: np.ndarray) -> None:
        """Find the points that stand inside colliders that push outwards, at skin points ``x`` (n, 3), m."""
        world, moving = self._world, self._world.skin.moving
        self._inside.clear()
        for k in np.flatnonzero(world.outside_only):
            collider = world.spec.colliders[k - self._solids]
            low, high = collider.points.min(axis=0), collider.points.max(axis=0)
            near = np.flatnonzero(((x[:moving] > low) & (x[:moving] < high)).all(axis=1))
            if len(near):
                winding = igl.fast_winding_number(collider.points, collider.triangles.astype(np.int64),
                                                  np.ascontiguousarray(x[near]))
                within = np.zeros(len(x), bool)
                within[near[np.abs(winding) > 0.5]] = True
                if within.any():
                    self._inside[int(k)] = within

    def _ground_gap(self) -> float:
        return self._world.spec.ground.gap if self._world.spec.ground else 0.0

    def cover(self, *ends: np.ndarray) -> bool:
        """Make sure the lists hold for skin points at, and on the way from the first to, each of ``ends`` (n, 3), m.

        Returns True when they were made anew.
        """
        moving = self._world.skin.moving
        if not moving or all(self.holds(end) for end in ends):
            return False
        for kept in (self.apart, self.own):
            if not all(kept.holds(end) for end in ends):
                kept.make(*ends)
        self._balls = self._along(ends, SLACK * self._widest)
        self._allowance[:moving] = self._balls.radius
        ids, kind, gap = _joined([self.apart.relations, self.own.relations])
        centre = self._world.skin.points.copy()
        centre[:moving] = self._balls.centre
        close = within_reach(ids, kind, gap, centre, self._allowance)
        self.ids, self.kind, self.gap = ids[close], kind[close], gap[close]
        return True

    def holds(self, x: np.ndarray) -> bool:
        """True when the lists hold for skin points ``x`` (n, 3)."""
        return (stay_near(x, self._balls.centre, self._balls.radius)
                and self.apart.holds(x) and self.own.holds(x))

    def _keeps_shape(self, x: np.ndarray, centre: np.ndarray, radius: np.ndarray) -> bool:
        return keep_shape(x, self._start, centre, radius)

    def _along(self, ends: tuple[np.ndarray, ...], slack: float) -> _Balls:
        return _Balls.around([end[: self._world.skin.moving] for end in ends], slack)

    def _list_apart(self, *ends: np.ndarray) -> tuple[Relations, _Balls]:
        """What is close of different pieces, and of them and the ground."""
        world, skin, moving = self._world, self._world.skin, self._world.skin.moving
        balls = self._along(ends, APART_SLACK * self._widest * (SWIFT if ends[1:] else 1.0))
        centre = self._spread_out(balls)
        found = [self._between(a, b, centre) for a in range(self._solids) for b in range(a + 1, len(self._trees))]
        found += [self._leaving(k, within, ends[0]) for k, within in self._inside.items()]
        if world.spec.ground:
            gap = np.maximum(world.gap[skin.piece[:moving]], self._ground_gap())
            near = np.flatnonzero(balls.centre[:, 1] - balls.radius < gap)
            ids = np.full((len(near), 4), -1, np.int64)
            ids[:, 0] = near
            found.append((ids, np.full(len(near), GROUND, np.int8), gap[near]))
        return _joined(found), balls

    def _list_own(self, *ends: np.ndarray) -> tuple[Relations, _Balls]:
        """What is close within solids, whatever they do as a whole.

        On a long way a skin may seem to meet itself everywhere; then the list is of where it sets out, and the way has
        to be shorter.  What does so there, too, is crumpled beyond what contact could tell: it unfolds first.
        """
        for places in (ends, ends[:1]):
            balls = self._shapes_of(places)
            centre = self._spread_out(balls)
            found = [self._within(a, ends[0], centre) for a in range(self._solids)]
            if all(relations is not None for relations in found):
                break
        return _joined([relations or NONE for relations in found]), balls

    def _shapes_of(self, ends: tuple[np.ndarray, ...]) -> _Balls:
        """Where points may be, each body laid back to where it is at the first of ``ends``."""
        shapes = [ends[0][: self._world.skin.moving]]
        for end in ends[1:]:
            shapes.append(np.empty_like(shapes[0]))
            laid_back(end, self._start, shapes[0], shapes[-1])
        return _Balls.around(shapes, OWN_SLACK * self._cell * (SWIFT if ends[1:] else 1.0))

    def _spread_out(self, balls: _Balls) -> np.ndarray:
        """Fit the trees of the solids to balls around their points; returns the centres, (n, 3), of all points."""
        skin, moving = self._world.skin, self._world.skin.moving
        reach = balls.radius[:, None] + self._widest / 2
        self._low[:moving], self._high[:moving] = balls.centre - reach, balls.centre + reach
        self._allowance[:moving] = balls.radius
        for tree in self._trees[: self._solids]:
            tree.fit(self._low, self._high)
        centre = skin.points.copy()
        centre[:moving] = balls.centre
        return centre

    def _within(self, a: int, x: np.ndarray, centre: np.ndarray) -> Relations | None:
        """Relations of a solid with itself; None where it is crumpled."""
        cell = self._world.spec.solids[a].lattice.cell
        tree = self._trees[a]
        pairs = tree.near_itself(cell, CRUMPLED * len(tree.triangles), x, self._low, self._high)
        if pairs is None:
            return None
        ids, kind, gap = self._relations(pairs, a, a, centre)
        counts = apart_at_rest(ids, kind, x, self._world.skin.points, CREASE * cell, gap)
        return ids[counts], kind[counts], gap[counts]

    def _between(self, a: int, b: int, centre: np.ndarray) -> Relations:
        """Relations of two pieces."""
        pairs = self._trees[a].near(self._trees[b], self._low, self._high)
        ids, kind, gap = self._relations(pairs, a, b, centre)
        if b not in self._inside:
            return ids, kind, gap
        counts = ~self._inside[b][ids].any(axis=1)
        return ids[counts], kind[counts], gap[counts]

    def _relations(self, pairs: np.ndarray, a: int, b: int, centre: np.ndarray) -> Relations:
        if not len(pairs):
            return NONE
        world, skin, s, t = self._world, self._world.skin, self._trees[a].triangles, self._trees[b].triangles
        return relations(
            pairs + np.array([0, len(s)]), np.concatenate([s, t]),
            np.concatenate([skin.owned_point[a], skin.owned_point[b]]),
            np.concatenate([skin.owned_edge[a], skin.owned_edge[b]]), skin.edges,
            self._low, self._high, centre, self._allowance, skin.piece, world.gap)

    def _leaving(self, k: int, within: np.ndarray, x: np.ndarray) -> Relations:
        """Points inside collider ``k`` with its nearest faces, through which they are led out."""
        triangles, skin = self._trees[k].triangles, self._world.skin
        points = np.flatnonzero(within)
        _, nearest, _ = igl.point_mesh_squared_distance(np.ascontiguousarray(x[points]), skin.points, triangles)
        ids = np.column_stack([points, triangles[nearest]])
        return ids, np.full(len(ids), LEAVING, np.int8), self._world.gap[skin.piece[points]]
