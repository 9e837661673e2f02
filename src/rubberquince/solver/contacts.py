"""Where skins are, what of them touches, and how far nodes may move for it."""

from dataclasses import replace

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from rubberquince.kernels import contact as ct
from rubberquince.kernels.limit import FREE, HELD_BACK, SAFE, is_safe, limit_motion
from rubberquince.solver.state import State
from rubberquince.solver.touching import Kept, Touching
from rubberquince.solver.world import World

MOST_SHORTENINGS = 24
MOST_WIDENINGS = 4          # of the balls that a deflected motion may leave
NOWHERE = np.zeros((0, 3))


class Contacts:
    """The contact of a world's skins.  Places and motions are those of its nodes, (n, 3) m."""

    def __init__(self, world: World) -> None:
        self._world = world
        self.touching = Touching(world)
        self.skin = world.skin.points.copy()
        self._carried = NOWHERE                         # of which nodes it is the skin
        self._move = np.zeros_like(self.skin)
        self._pushes, self._distance = np.zeros(0, bool), np.zeros(0)
        self._chosen = (NOWHERE, NOWHERE)               # for which nodes and lists

    def carry(self, x: np.ndarray) -> np.ndarray:
        """Skin points (points, 3) m of nodes at ``x``."""
        if self._carried is not x:
            skin, self._carried = self._world.skin, x
            ct.carry(x, skin.bind_node, skin.bind_weight, self.skin)
        return self.skin

    def _ahead(self, x: np.ndarray, move: np.ndarray) -> np.ndarray:
        """The skin after ``move`` from ``x``; ``_move`` is its motion."""
        skin = self._world.skin
        ct.carry(move, skin.bind_node, skin.bind_weight, self._move)
        return self.carry(x) + self._move

    # --- lists ----------------------------------------------------------------------------------------

    def begin(self, state: State, fps: float) -> State:
        """The state at the start of a frame, with lists of what is close that depend on it and on nothing else."""
        apart_at, own_at = state.apart_at, state.own_at
        if self._world.outside_only.any():
            self.touching.look_inside(self.carry(state.x))
            self.touching.apart.made_at, apart_at = None, state.x
        self.touching.drop()
        made = [(self.touching.apart, apart_at), (self.touching.own, own_at)]
        for kept, at in made:
            self._make_at(kept, at)
        ahead = self.carry(state.x + state.v / fps)
        last = [kept.holds(ahead) for kept, _ in made]
        now = self.carry(state.x)
        last = [long and kept.holds(now) for long, (kept, _) in zip(last, made)]
        apart_at, own_at = (at if long else state.x for long, (_, at) in zip(last, made))
        self._make_at(self.touching.apart, apart_at)
        self._make_at(self.touching.own, own_at)
        return replace(state, apart_at=apart_at, own_at=own_at)

    def end(self, state: State) -> State:
        """The state at the end of a frame: lists that were made on the way are to be made anew."""
        apart_at, own_at = self.touching.apart.made_at, self.touching.own.made_at
        return replace(state, apart_at=state.x if apart_at is None else apart_at,
                       own_at=state.x if own_at is None else own_at)

    def _make_at(self, kept: Kept, at: np.ndarray) -> None:
        if kept.made_at is not at:
            kept.make(self.carry(at))
            kept.made_at = at

    def _lists(self) -> tuple[np.ndarray, ...]:
        return self.touching.ids, self.touching.kind, self.touching.gap, self._pushes

    def choose(self, x: np.ndarray) -> None:
        """Which relations push at ``x``, and their distances."""
        t = self.touching
        if self._chosen[0] is x and self._chosen[1] is t.ids:
            return
        self._chosen = (x, t.ids)
        self._pushes, self._distance = np.zeros(len(t.ids), bool), np.zeros(len(t.ids))
        ct.choose(t.ids, t.kind, t.gap, self.carry(x), self._world.skin.moving, self._distance, self._pushes)

    def touches(self, x: np.ndarray, move: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which solids (bodies,) bool are nearer to something than the gap, and which rest, if by others, on what is
        still.

        The lists then hold for ``move`` too.
        """
        w, t = self._world, self.touching
        ahead = self._ahead(x, move)
        t.cover(self.skin, ahead)
        self.choose(x)
        near = self._pushes & (self._distance < t.gap)
        first, last = t.ids[near, 0], t.ids[near, 3]
        one = np.minimum(w.skin.piece[first], w.solids)
        two = np.where(last >= 0, np.minimum(w.skin.piece[last], w.solids), w.solids)
        touches = np.zeros(w.solids + 1, bool)
        touches[one] = touches[two] = True
        group = self._groups(one, two)
        return touches[:-1], group[:-1] == group[-1]

    def _groups(self, one: np.ndarray, two: np.ndarray) -> np.ndarray:
        """The number (solids + 1,) of the group of each solid that relations of bodies ``one`` and ``two`` (k,) join;
        the last is that of all that is still or held.
        """
        w = self._world
        held = np.unique(w.node_body[w.free == 0.0])
        one, two = np.concatenate([one, held]), np.concatenate([two, np.full(len(held), w.solids)])
        graph = coo_array((np.ones(len(one), bool), (one, two)), shape=(w.solids + 1, w.solids + 1))
        return connected_components(graph, directed=False)[1]

    def met(self, x: np.ndarray, move: np.ndarray, slow: float) -> np.ndarray:
        """Which nodes (n,) bool carry points within their gap, and stay there: ``move`` (n, 3), m, changes their
        distance by no more than ``slow``, m.
        """
        t, skin = self.touching, self._world.skin
        met = np.zeros(len(x), bool)
        self._ahead(x, move)
        t.cover(self.carry(x))
        ct.mark_met(t.ids, t.kind, t.gap, self.skin, self._move, slow, skin.moving, skin.bind_node, skin.bind_weight,
                    met)
        return met

    def deepest(self, x: np.ndarray) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        w, t = self._world, self.touching
        t.cover(self.carry(x))
        depth = np.zeros(len(w.gap))
        ct.deepest(t.ids, t.kind, t.gap, self.skin, w.skin.piece, w.skin.moving, depth)
        return depth[: w.solids]

    def adrift(self, *ends: np.ndarray) -> list[np.ndarray]:
        """Solids (numbers) that are near each other and near nothing that stands still or is held, by groups.

        With ``ends``, also on the way from the first of these places to the second.
        """
        self.touching.cover(*[self.carry(end).copy() for end in ends])
        w, ids = self._world, self.touching.ids
        still = w.solids                    # whatever stands still counts as one more body
        first = np.minimum(w.skin.piece[ids[:, 0]], still)
        last = np.where(ids[:, 3] >= 0, np.minimum(w.skin.piece[ids[:, 3]], still), still)
        group = self._groups(first, last)
        return [np.flatnonzero(group[:-1] == number) for number in np.unique(group[:-1]) if number != group[-1]]

    # --- forces ---------------------------------------------------------------------------------------

    def energy(self, x: np.ndarray, stiffness: np.ndarray) -> float:
        """J, with ``stiffness`` (points,) N/m, of what pushes."""
        return ct.contact_energy(*self._lists(), self.carry(x), self._world.skin.moving, stiffness)

    def pairs(self, x: np.ndarray, stiffness: np.ndarray) -> tuple[np.ndarray, ...]:
        """What pushes at ``x``; see kernels.contact.active_pairs."""
        w, skin = self._world, self._world.skin
        self.touching.cover(self.carry(x))
        self.choose(x)
        return ct.active_pairs(*self._lists(), self.skin, skin.moving, stiffness, skin.bind_node, skin.bind_weight,
                               skin.piece, w.friction, w.ground_friction)

    # --- motion ---------------------------------------------------------------------------------------

    def limit(self, stage: int, x: np.ndarray, move: np.ndarray, compliance: np.ndarray) -> int:
        """Bound ``move`` in place; returns how it had to, as kernels.limit does, with ``compliance`` (n,) m/N."""
        t, wanted = self.touching, move.copy()
        reach = [self._ahead(x, move)]
        for attempt in range(MOST_WIDENINGS):
            t.cover(self.skin, *reach)
            self.choose(x)
            result = self._limit_once(stage, move, compliance)
            ahead = self.skin + self._move
            if result == FREE or t.holds(ahead):
                return result
            reach.append(ahead)             # deflected to where nothing was listed: look again
            if attempt < MOST_WIDENINGS - 1:
                move[:] = wanted
                self._ahead(x, move)
        for _ in range(MOST_SHORTENINGS):
            if t.holds(self._ahead(x, move)):
                break
            move *= 0.5
        else:
            move[:] = 0.0
            self._ahead(x, move)
        self._limit_once(SAFE, move, compliance)
        return HELD_BACK

    def shorten(self, x: np.ndarray, move: np.ndarray) -> None:
        """Halve ``move`` as a whole, in place, until it brings nothing too near: it keeps its direction."""
        skin, t = self._world.skin, self.touching
        for _ in range(MOST_SHORTENINGS):
            ahead = self._ahead(x, move)
            t.cover(self.skin, ahead)
            self.choose(x)
            if is_safe(t.ids, t.kind, t.gap, self._distance, self.skin, skin.moving, skin.bind_node, len(move),
                       self._move):
                return
            move *= 0.5
        move[:] = 0.0

    def _limit_once(self, stage: int, move: np.ndarray, compliance: np.ndarray) -> int:
        skin, t = self._world.skin, self.touching
        return limit_motion(stage, t.ids, t.kind, t.gap, self._distance, self._pushes, self.skin, skin.moving,
                            skin.bind_node, skin.bind_weight, self._world.node_body, compliance, move, self._move)
