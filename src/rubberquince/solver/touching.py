"""Which parts of the skins may touch: kept for as long as no point leaves the box it was listed for."""

from dataclasses import dataclass

import igl
import numpy as np

from rubberquince.kernels.boxes import body_means, stay_within
from rubberquince.kernels.contact import apart_at_rest, relations
from rubberquince.kernels.distance import GROUND, LEAVING
from rubberquince.kernels.tree import build_tree, overlapping_triangles, refit, refit_cones
from rubberquince.solver.world import World

CREASE = 0.5        # of a cell: what is nearer than this at rest shares cells and moves together
SLACK = 0.15        # of the gap: how far a resting point may stray before the lists are made anew
OWN_SLACK = 0.6     # the same within a body, whose parts seldom come near each other

Relations = tuple[np.ndarray, np.ndarray, np.ndarray]       # ids (k, 4), kind (k,), gap (k,)
NONE: Relations = (np.zeros((0, 4), np.int64), np.zeros(0, np.int8), np.zeros(0))


def _joined(parts: list[Relations]) -> Relations:
    if not parts:
        return NONE
    ids, kind, gap = (np.concatenate(column) for column in zip(*parts))
    return ids, kind, gap


class _Tree:
    def __init__(self, triangles: np.ndarray, points: np.ndarray) -> None:
        self.triangles = triangles
        self.centre = points[triangles].mean(axis=1)
        self.order, self.child, self.span = build_tree(self.centre)
        self.box = np.zeros((len(self.child), 6))
        self.axis, self.spread = np.zeros((len(self.child), 3)), np.zeros(len(self.child))
        self.refit(points, points)
        self.rest = self.box.copy()

    def refit(self, low: np.ndarray, high: np.ndarray) -> None:
        refit(self.triangles, self.order, self.child, self.span, low, high, self.box)

    def refit_cones(self, x: np.ndarray) -> None:
        refit_cones(self.triangles, self.order, self.child, self.span, x, self.axis, self.spread)

    def walked(self) -> tuple[np.ndarray, ...]:
        return (self.triangles, self.order, self.child, self.span, self.box, self.axis, self.spread, self.rest,
                self.centre)


@dataclass(frozen=True, eq=False)
class _Boxes:
    """Where each moving point may be, (moving, 3) m."""

    low: np.ndarray
    high: np.ndarray


class Touching:
    """Lists of relations (ids, kind, gap) between pieces, of solids with themselves, and with the ground."""

    def __init__(self, world: World) -> None:
        self._world = world
        skin = world.skin
        self._trees = [_Tree(t, skin.points) for t in skin.triangles]
        self._solids = world.solids
        self._inside: dict[int, np.ndarray] = {}        # a collider: which points (moving,) bool start inside it
        self._low, self._high = np.zeros_like(skin.points), np.zeros_like(skin.points)
        self._allowance = np.zeros(len(skin.points))
        self._start = np.searchsorted(skin.piece, np.arange(self._solids + 1))     # where each solid's points begin
        self._mean = np.zeros((self._solids, 3))
        self.forget()

    def forget(self) -> None:
        """Make the lists anew at the next call: gaps have changed or points have jumped."""
        skin, moving = self._world.skin, self._world.skin.moving
        self._widest = float(max([*self._world.gap, self._ground_gap(), 1e-6]))
        self._core = _Boxes(np.full((moving, 3), np.inf), np.full((moving, 3), -np.inf))
        self._near = self._core
        self._low[moving:] = skin.points[moving:] - self._widest / 2
        self._high[moving:] = skin.points[moving:] + self._widest / 2
        for tree in self._trees[self._solids:]:
            tree.refit(self._low, self._high)
        self._others, self._own = NONE, NONE
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

    def cover(self, x: np.ndarray, *moves: np.ndarray) -> bool:
        """Make sure the lists hold for skin points ``x`` (n, 3) and for each of ``moves`` (n, 3) from there, m.

        Returns True when they were made anew.
        """
        moving = self._world.skin.moving
        in_space, in_body = (all(kind) for kind in zip(*(self._held(x, move) for move in moves)))
        if not moving or (in_space and in_body):
            return False
        short = [move[:moving] for move in moves]
        if not in_space:
            self._core, allowance = self._boxes(x[:moving], short, SLACK)
            self._spread_out(self._core, allowance)
            self._others = self._between_pieces(x)
        if not in_body:
            body_means(x, self._start, self._mean)
            self._near, allowance = self._boxes(x[:moving], [self._without_drift(move) for move in short], OWN_SLACK)
            self._spread_out(self._near, allowance)
            self._own = _joined([self._between(a, a, x) for a in range(self._solids)])
        self.ids, self.kind, self.gap = _joined([self._others, self._own])
        return True

    def holds(self, x: np.ndarray, move: np.ndarray) -> bool:
        """True when neither ``x`` nor ``x + move`` leaves the boxes the lists were made for."""
        return all(self._held(x, move))

    def _held(self, x: np.ndarray, move: np.ndarray) -> tuple[bool, bool]:
        return stay_within(x, move, self._start, self._mean, self._core.low, self._core.high, self._near.low,
                           self._near.high)

    def _between_pieces(self, x: np.ndarray) -> Relations:
        """Relations of different pieces, and with the ground."""
        world, skin, moving = self._world, self._world.skin, self._world.skin.moving
        found = [self._between(a, b, x) for a in range(self._solids) for b in range(a + 1, len(self._trees))]
        found += [self._leaving(k, within, x) for k, within in self._inside.items()]
        if world.spec.ground:
            near = np.flatnonzero(self._core.low[:, 1] < np.maximum(
                world.gap[skin.piece[:moving]], self._ground_gap()))
            ids = np.full((len(near), 4), -1, np.int64)
            ids[:, 0] = near
            gap = np.maximum(world.gap[skin.piece[near]], self._ground_gap())
            found.append((ids, np.full(len(near), GROUND, np.int8), gap))
        return _joined(found)

    def _boxes(self, x: np.ndarray, moves: list[np.ndarray], slack_part: float) -> tuple[_Boxes, np.ndarray]:
        """Boxes around each point's start and ends, with some slack, and how far it may be from its start, m."""
        ends = [x + move for move in moves]
        path = np.sqrt(np.maximum.reduce([(move ** 2).sum(axis=1) for move in moves]))
        slack = slack_part * self._widest + 0.5 * np.minimum(path, self._widest)
        return (_Boxes(np.minimum.reduce([x, *ends]) - slack[:, None], np.maximum.reduce([x, *ends]) + slack[:, None]),
                path + np.sqrt(3.0) * slack)

    def _without_drift(self, move: np.ndarray) -> np.ndarray:
        """A motion (moving, 3) without the mean of each body's."""
        mean = np.empty_like(self._mean)
        body_means(move, self._start, mean)
        return move - np.repeat(mean, np.diff(self._start), axis=0)

    def _spread_out(self, boxes: _Boxes, allowance: np.ndarray) -> None:
        """Fit the trees of the solids to boxes of their points."""
        moving = self._world.skin.moving
        self._low[:moving], self._high[:moving] = boxes.low - self._widest / 2, boxes.high + self._widest / 2
        self._allowance[:moving] = allowance
        for tree in self._trees[: self._solids]:
            tree.refit(self._low, self._high)

    def _between(self, a: int, b: int, x: np.ndarray) -> Relations:
        """Relations of two pieces, or of a solid with itself."""
        world, skin = self._world, self._world.skin
        s, t = self._trees[a], self._trees[b]
        near = -1.0
        if a == b:
            near = world.spec.solids[a].lattice.cell
            s.refit_cones(x)
        pairs = overlapping_triangles(near, *s.walked(), *t.walked(), self._low, self._high)
        ids, kind, gap = relations(
            pairs + np.array([0, len(s.triangles)]), np.concatenate([s.triangles, t.triangles]),
            np.concatenate([skin.owned_point[a], skin.owned_point[b]]),
            np.concatenate([skin.owned_edge[a], skin.owned_edge[b]]), skin.edges,
            self._low, self._high, x, self._allowance, skin.piece, world.gap)
        counts = np.ones(len(ids), bool)
        if a == b:
            counts = apart_at_rest(ids, kind, x, skin.points, CREASE * near, gap)
        elif b in self._inside:
            counts = ~self._inside[b][ids].any(axis=1)
        return ids[counts], kind[counts], gap[counts]

    def _leaving(self, k: int, within: np.ndarray, x: np.ndarray) -> Relations:
        """Points inside collider ``k`` with its nearest faces, through which they are led out."""
        triangles, skin = self._trees[k].triangles, self._world.skin
        points = np.flatnonzero(within)
        _, nearest, _ = igl.point_mesh_squared_distance(np.ascontiguousarray(x[points]), skin.points, triangles)
        ids = np.column_stack([points, triangles[nearest]])
        return ids, np.full(len(ids), LEAVING, np.int8), self._world.gap[skin.piece[points]]
