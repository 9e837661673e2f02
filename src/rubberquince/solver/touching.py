"""Which parts of the skins may touch, on the ways that nodes are about to go.

See kernels.patches for how they are found.  There may be more than can touch, which changes nothing, and they always
come in one order: so a run that is taken up again goes on to the same bits, whatever was found before.
"""

import igl
import numpy as np

from rubberquince.kernels import patches as pt
from rubberquince.kernels.distance import GROUND, LEAVING, closest_of
from rubberquince.solver.world import World

AHEAD = 2.0         # of the way of a substep: how much farther patches may go before they are searched anew
FIRM = 1.2          # of what strays from the way, where patches go fast: the same
LEAST, MOST = 0.5, 0.12     # of the gap and of a cell: bounds of this; what goes farther is searched along its way
HALF = 0.5 * (1.0 + pt.SPARE)       # of the gap: what boxes are widened by
SIDES = np.repeat([-1.0, 1.0], 3)
ROUNDING = 1e-9
NOWHERE = np.zeros((0, 3))
NOTHING = (np.zeros(0, np.int64), np.zeros((0, 4), np.int64), np.zeros(0, np.int8), np.zeros(0), np.zeros(0))


class _Patches:
    """The patches of all skins and the trees over them; those of moving pieces come first."""

    def __init__(self, world: World) -> None:
        skin = world.skin
        self.triangles = np.concatenate([*skin.triangles, np.zeros((0, 3), np.int64)])
        self.owned_point = np.concatenate([*skin.owned_point, np.zeros((0, 3), bool)])
        self.owned_edge = np.concatenate([*skin.owned_edge, np.zeros((0, 3), np.int64)])
        self.centre = skin.points[self.triangles].mean(axis=1)
        order, child, patch, first, roots, piece = [], [], [], [0], [], []
        nodes = triangles = 0
        for k, mine in enumerate(skin.triangles):
            rank, below, span = pt.build_tree(self.centre[triangles: triangles + len(mine)])
            leaf = below[:, 0] < 0
            number = np.full(len(below), -1, np.int64)
            number[leaf] = np.argsort(np.argsort(span[leaf, 0])) + len(first) - 1
            first += (np.sort(span[leaf, 1]) + triangles).tolist()
            piece += [k] * int(leaf.sum())
            order.append(rank + triangles)
            child.append(np.where(below >= 0, below + nodes, -1))
            patch.append(number)
            roots.append(nodes)
            nodes, triangles = nodes + len(below), triangles + len(mine)
        self.order, self.child = _whole(order, (0,)), _whole(child, (0, 2))
        self.patch, self.first = _whole(patch, (0,)), np.array(first, np.int64)
        self.roots, self.piece = np.array(roots, np.int64), np.array(piece, np.int64)
        self.moving = int(np.searchsorted(self.piece, world.solids))
        corner = self.triangles[self.order].reshape(-1)
        owner = np.repeat(np.repeat(np.arange(len(self.piece)), np.diff(self.first)), 3)
        mine = np.unique(owner * len(skin.points) + corner) if len(corner) else np.zeros(0, np.int64)
        self.point = mine % max(len(skin.points), 1)
        self.point_ptr = np.searchsorted(mine // max(len(skin.points), 1), np.arange(len(self.piece) + 1))
        self.box = np.zeros((len(self.child), 6))
        self.fit(self.boxes(skin.points, len(self.piece)))
        self.rest = self.box.copy()

    def boxes(self, x: np.ndarray, count: int) -> np.ndarray:
        """Boxes (count, 6) of the first patches at skin points ``x`` (n, 3)."""
        box = np.tile(np.repeat([np.inf, -np.inf], 3), (count, 1))
        pt.widen_boxes(x, self.point_ptr, self.point, box)
        return box

    def fit(self, wide: np.ndarray) -> None:
        """Fit the trees to boxes (patches, 6)."""
        if len(wide):
            pt.fit_trees(self.child, self.patch, wide, self.box)


def _whole(parts: list[np.ndarray], empty: tuple[int, ...]) -> np.ndarray:
    return np.concatenate([*parts, np.zeros(empty, np.int64)]).astype(np.int64)


def _find(these: np.ndarray, those: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which of sorted numbers (k,) are among other sorted ones, bool, and where."""
    at = np.searchsorted(those, these)
    if not len(those):
        return np.zeros(len(these), bool), at
    return those[np.minimum(at, len(those) - 1)] == these, at


class Touching:
    """Relations (ids, kind, gap) of pieces with each other, of solids with themselves, and with the ground.

    Of each also its ``distance``, m, where nodes are, whether the closest points are ``inside`` both parts, and the
    vector ``apart`` (relations, 3) between them.
    """

    def __init__(self, world: World) -> None:
        self._world, self._patches = world, _Patches(world)
        self._cell = np.array([*(s.lattice.cell for s in world.spec.solids), *(0.0 for _ in world.spec.colliders)])
        self._inside: dict[int, np.ndarray] = {}        # a collider: which points (n,) bool start inside it
        self.forget()

    def forget(self) -> None:
        """Search anew at the next call: gaps have changed or points have jumped."""
        world, patches = self._world, self._patches
        ground = world.spec.ground.gap if world.spec.ground else 0.0
        self._ground_gap = np.maximum(world.gap[world.skin.piece[: world.skin.moving]], ground)
        self._widest = float(max([*world.gap, ground, 1e-6]))
        self._spare = np.maximum(MOST * self._cell[patches.piece[: patches.moving]], LEAST * self._widest)
        self._inside.clear()
        self._wide = patches.boxes(world.skin.points, len(patches.piece)) + HALF * self._widest * SIDES
        self._wide[: patches.moving] = np.nan
        self._start = world.skin.points
        self._keys, self._pairs, self._own = np.zeros(0, np.int64), np.zeros((0, 2), np.int64), np.zeros(0, bool)
        self._slack, self._strayed = np.zeros(0), np.zeros(0)       # of each pair, m; strays before this substep
        self._along = np.zeros(0, bool)                             # of each pair: listed along the way
        self._alike, self._strays, self._candidates = np.zeros(0, bool), np.zeros(0), NOTHING
        self.drop()

    def drop(self) -> None:
        """Look anew at the next call."""
        self._at, self._way = NOWHERE, NOWHERE
        self._moves: list[np.ndarray] = []
        self._leaving: list[tuple[np.ndarray, ...]] = []
        self.ids, self.kind, self.gap = NOTHING[1:4]
        self.distance, self.inside, self.apart = np.zeros(0), np.zeros(0, bool), np.zeros((0, 3))

    def begin(self, x: np.ndarray) -> None:
        """A substep begins at skin points ``x`` (n, 3), m."""
        self._strayed += pt.strayed(self._pairs, self._ball(x - self._start))
        self._slack[self._along] = -1.0             # lists along a way end with it
        self._along[:] = False
        self._start = x.copy()
        self._alike = self._face_one_way()
        self.drop()
        self._leaving = [self._leave(k, inside, x) for k, inside in self._inside.items()]

    def look(self, at: np.ndarray, x: np.ndarray, *moves: np.ndarray) -> bool:
        """Find what can touch at skin points ``x`` (n, 3), m, and on the straight way of each of ``moves`` (n, 3) from it.

        ``at`` names the place: as long as it is the same, what was found for earlier moves is kept.
        Returns True when something was added.
        """
        if not self._world.skin.moving:
            return False
        if not len(self._way):
            self._way = moves[0] if moves else np.zeros_like(x)
            self._way_ball = self._ball(self._way)
        fresh = self._at is not at
        if fresh:
            self._at, self._moves, self._strays = at, [], self._strayed.copy()
            moves = (np.zeros_like(x), *moves)
        self._moves += moves
        if self._pair_up(x, list(moves)):
            self._strays = self._strayed.copy()
            anew = self._cover(x, self._moves)
        else:
            anew = self._cover(x, list(moves))
        if fresh or anew:
            count = len(self._candidates[0])
            self._seen, self._both, self._picked = np.zeros((3, count), bool)
            self._distance, self._apart = np.empty(count), np.empty((count, 3))
            self._low = np.zeros(self._world.skin.moving, bool)
            moves = tuple(self._moves)
        more = sum(self._pick(x, move) for move in moves)
        if more or fresh or anew:
            self._collect(x)
        return more > 0

    def _pick(self, x: np.ndarray, move: np.ndarray) -> int:
        """Pick what may come within its gap under ``move`` (n, 3), m; returns how much more that is."""
        moving = self._world.skin.moving
        more = pt.pick(*self._candidates, self._own, self._strays, x, move, self._seen, self._distance, self._both,
                       self._apart, self._picked)
        if self._world.spec.ground:
            low = x[:moving, 1] + np.minimum(move[:moving, 1], 0.0) < self._ground_gap * (1.0 + pt.SPARE)
            more += int((low & ~self._low).sum())
            self._low |= low
        return more

    def _cover(self, x: np.ndarray, moves: list[np.ndarray]) -> bool:
        """Make the candidates hold on the ways of ``moves`` from ``x``; returns True when some were searched for."""
        p = self._patches
        need, off = np.zeros(len(self._pairs)), np.zeros(len(self._pairs))
        for move in moves:
            gone = x + move - self._start
            here = pt.strayed(self._pairs, self._ball(gone))
            there = pt.strayed(self._pairs, self._ball(gone - self._way))
            need, off = np.maximum(need, here), np.maximum(off, np.minimum(here, there))
        strays = np.maximum(self._strays, self._strayed + np.where(self._along, off, need))
        stale = ~self._alike & (strays * (1.0 + ROUNDING) > self._slack)
        if stale.any():
            most = MOST * self._cell[p.piece[self._pairs[:, 0]]]
            self._along = np.where(stale, need > most, self._along)
            least = np.where(self._own, most, LEAST * self._widest)
            slack = np.where(self._along, FIRM * off + LEAST * self._widest, need + np.clip(AHEAD * need, least, most))
            self._slack = np.where(stale, slack, self._slack)
            self._strayed = np.where(stale, 0.0, self._strayed)
            strays = np.where(stale, np.where(self._along, off, need), strays)
            found = pt.search(self._pairs, stale, self._slack, self._along, self._start, self._way, self._way_ball,
                              self._own, p.first, p.order, p.piece, p.triangles, p.owned_point, p.owned_edge,
                              self._world.skin.edges, self._world.skin.points, p.centre, self._world.gap, self._cell)
            kept = ~stale[self._candidates[0]]
            joined = [np.concatenate([old[kept], new]) for old, new in zip(self._candidates, found)]
            order = np.argsort(joined[0], kind="stable")
            self._candidates = tuple(column[order] for column in joined)
        self._strays = strays
        return bool(stale.any())

    def _ball(self, move: np.ndarray) -> np.ndarray:
        patches = self._patches
        ball = np.zeros((len(patches.piece), 4))
        pt.motion_balls(move, patches.point_ptr, patches.point, patches.moving, ball)
        return ball

    def _face_one_way(self) -> np.ndarray:
        """Which pairs (pairs,) bool cannot meet in this substep, as they are of one skin and face one way."""
        p = self._patches
        return pt.face_one_way(self._start, p.triangles, p.order, p.first, p.moving, self._pairs, self._own)

    def _pair_up(self, x: np.ndarray, moves: list[np.ndarray]) -> bool:
        """Find the pairs of patches that may meet on ``moves`` from ``x``, if those known do not hold; True if so."""
        patches, moving = self._patches, self._patches.moving
        box = patches.boxes(x, moving)
        for move in moves:
            pt.widen_boxes(x + move, patches.point_ptr, patches.point, box)
        if pt.within(box + HALF * self._widest * SIDES, self._wide[:moving]):
            return False
        for move in self._moves:
            pt.widen_boxes(x + move, patches.point_ptr, patches.point, box)
        self._wide[:moving] = box + (HALF * self._widest + self._spare[:, None]) * SIDES
        patches.fit(self._wide)
        keys = pt.meeting_patches(patches.roots, self._world.solids, patches.child, patches.patch, patches.box,
                                  patches.rest, self._cell)
        known, before = _find(keys, self._keys)
        kept, now = _find(self._keys, keys)
        old = tuple(column[kept[self._candidates[0]]] for column in self._candidates)
        self._candidates = (now[old[0]], *old[1:])
        slack, strayed, along = np.full(len(keys), -1.0), np.zeros(len(keys)), np.zeros(len(keys), bool)
        slack[known], strayed[known] = self._slack[before[known]], self._strayed[before[known]]
        along[known] = self._along[before[known]]
        self._slack, self._strayed, self._along = slack, strayed, along
        self._keys, self._pairs = keys, np.column_stack(np.divmod(keys, len(patches.piece)))
        self._own = patches.piece[self._pairs[:, 0]] == patches.piece[self._pairs[:, 1]]
        self._alike = self._face_one_way()
        return True

    def _collect(self, x: np.ndarray) -> None:
        """Join what was picked, what leads out of colliders, and the ground, all at ``x`` (n, 3)."""
        piece, (_, ids, kind, gap, _) = self._world.skin.piece, self._candidates
        e = np.flatnonzero(self._picked)
        for k, inside in self._inside.items():
            e = e[~((piece[ids[e][:, [0, 3]]] == k).any(axis=1) & inside[ids[e]].any(axis=1))]
        low = np.flatnonzero(self._low)
        ground = np.full((len(low), 4), -1, np.int64)
        ground[:, 0] = low
        others = [*self._leaving, (ground, np.full(len(low), GROUND, np.int8), self._ground_gap[low])]
        parts = [(ids[e], kind[e], gap[e], self._distance[e], self._both[e], self._apart[e])]
        parts += [(*other, *closest_of(*other[:2], x)) for other in others]
        self.ids, self.kind, self.gap, self.distance, self.inside, self.apart = (
            np.concatenate(column) for column in zip(*parts))

    # --- colliders that keep to their outside -----------------------------------------------------------

    def look_inside(self, x: np.ndarray) -> None:
        """Find the points that stand inside colliders that push outwards, at skin points ``x`` (n, 3), m."""
        world, moving = self._world, self._world.skin.moving
        self._inside.clear()
        for k in np.flatnonzero(world.outside_only):
            collider = world.spec.colliders[k - world.solids]
            low, high = collider.points.min(axis=0), collider.points.max(axis=0)
            near = np.flatnonzero(((x[:moving] > low) & (x[:moving] < high)).all(axis=1))
            if len(near):
                winding = igl.fast_winding_number(collider.points, collider.triangles.astype(np.int64),
                                                  np.ascontiguousarray(x[near]))
                within = np.zeros(len(x), bool)
                within[near[np.abs(winding) > 0.5]] = True
                if within.any():
                    self._inside[int(k)] = within

    def _leave(self, k: int, inside: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, ...]:
        """Points inside collider ``k`` with its nearest faces, through which they are led out."""
        skin, triangles = self._world.skin, self._world.skin.triangles[k]
        points = np.flatnonzero(inside)
        _, nearest, _ = igl.point_mesh_squared_distance(np.ascontiguousarray(x[points]), skin.points, triangles)
        return (np.column_stack([points, triangles[nearest]]), np.full(len(points), LEAVING, np.int8),
                self._world.gap[skin.piece[points]])
