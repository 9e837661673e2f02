"""Where skins are, what of them touches, and how far nodes may move for it."""

import numpy as np

from rubberquince.distinct import distinct
from rubberquince.kernels import contact as ct
from rubberquince.kernels.candidates import SPARE
from rubberquince.kernels.distance import come_within
from rubberquince.kernels.groups import groups
from rubberquince.kernels.limit import FREE, HELD_BACK, NEWTON, is_safe, limit_motion
from rubberquince.solver.overlaps import Overlap, find_overlaps, lack, still_tangled
from rubberquince.solver.patches import found
from rubberquince.solver.touching import Touching
from rubberquince.solver.world import World

MOST_SHORTENINGS = 24
MOST_WIDENINGS = 4          # of what was picked, by a deflected motion that leaves it
NOWHERE = np.zeros((0, 3))
NAMES = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0x27D4EB2F165667C5], np.uint64)   # odd


class Contacts:
    """The contact of a world's skins.  Places and motions are those of its nodes, (n, 3) m."""

    def __init__(self, world: World) -> None:
        self._world = world
        self.touching = Touching(world)
        self._overlaps, self._tangled = find_overlaps(world), list[Overlap]()
        self.skin = world.skin.points.copy()
        self._carried = NOWHERE                         # of which nodes it is the skin
        self._nodes = world.start.copy()                # where these were
        self._nothing = np.zeros_like(world.start)
        self._first_point = np.searchsorted(world.skin.piece[: world.skin.moving], np.arange(world.bodies + 1))
        self._pushes = np.zeros(0, bool)
        self._known: tuple[np.ndarray, np.ndarray, float] = (NOWHERE, NOWHERE, 0.0)     # the last energy, and of what
        self._chosen: np.ndarray = NOWHERE              # of which relations
        self._gripped = np.zeros(0, np.uint64), np.zeros(0)         # relations by a key, and how each held

    def carry(self, x: np.ndarray) -> np.ndarray:
        """Skin points (points, 3) m of nodes at ``x``."""
        if self._carried is not x:
            self._carried = x
            self._carry(x, self._nodes, self.skin)
            self._nodes = x.copy()
        return self.skin

    def _skin_move(self, move: np.ndarray) -> np.ndarray:
        """The motion (points, 3) m of the skin when nodes move by ``move``."""
        out = np.zeros(self.skin.shape)
        self._carry(move, self._nothing, out)
        return out

    def _carry(self, x: np.ndarray, before: np.ndarray, out: np.ndarray) -> None:
        w = self._world
        ct.carry_changed(x, before, w.first_node, self._first_point, w.skin.bind_node, w.skin.bind_weight, out)

    # --- lists ----------------------------------------------------------------------------------------

    def begin_frame(self, x: np.ndarray) -> None:
        """Nodes at ``x`` begin a frame: what follows depends on the state alone."""
        self.touching.begin_frame(x, self.carry(x))
        if self._world.outside_only.any():
            self.touching.look_inside(self.carry(x))
        self._tangled = still_tangled(self._world, self._overlaps, self.carry(x)) if self._overlaps else []
        self.touching.tangled = [(o.one, o.two) for o in self._tangled]

    def begin(self, x: np.ndarray) -> None:
        """Nodes at ``x`` begin a substep."""
        self.touching.begin(self.carry(x))

    def look(self, x: np.ndarray, *moves: np.ndarray) -> bool:
        """Pick what can touch at ``x`` and on the straight ways of ``moves`` from there; see Touching.look."""
        return self._look(x, *(self._skin_move(move) for move in moves))

    def _look(self, x: np.ndarray, *moves: np.ndarray) -> bool:
        """The same for motions (points, 3) of the skin."""
        more = self.touching.look(x, self.carry(x), *moves)
        t = self.touching
        if self._chosen is not t.ids:
            self._chosen = t.ids
            self._pushes = ct.choose(t.ids, t.kind, t.gap, t.distance, t.inside, len(self.skin),
                                     self._world.skin.moving)
        return more

    def tangled(self) -> list[np.ndarray]:
        """Solids (numbers), by groups, that started in each other and are still being drawn apart."""
        pairs = np.array(self.touching.tangled, np.int64).reshape(-1, 2)
        group = self._groups(pairs[:, 0], pairs[:, 1])[:-1]
        return [np.flatnonzero(group == number) for number in distinct(group[distinct(pairs)])]

    def draw_apart(self, x: np.ndarray, h: float) -> np.ndarray:
        """Nodes ``x`` (n, 3) after ``h``, s, of drawing tangled solids apart, as far as nothing else is in the way."""
        w, move = self._world, np.zeros_like(x)
        skin, piece = self.carry(x), w.skin.piece
        for o in self._tangled:
            mine, its = w.node_body == o.one, w.node_body == o.two
            way = min(h * o.speed, max(lack(skin[piece == o.one], skin[piece == o.two], o.out) + w.gap[o.one], 0.0))
            weights = [np.inf if (w.free[nodes] == 0.0).any() else w.mass[nodes].sum() for nodes in (mine, its)]
            share = 0.5 if weights[0] == weights[1] else 1.0 / (1.0 + weights[0] / weights[1])
            move[mine] += share * way * o.out
            move[its] -= (1.0 - share) * way * o.out
        move *= w.free[:, None]
        self.begin(x)
        self.limit(NEWTON, x, move, w.free / w.mass)
        return x + move

    def _lists(self) -> tuple[np.ndarray, ...]:
        return self.touching.ids, self.touching.kind, self.touching.gap, self._pushes

    def touches(self, x: np.ndarray, move: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which solids (bodies,) bool are nearer to something than the gap, and which rest, if by others, on what is
        still.

        What ``move`` brings close is then picked, too.
        """
        w = self._world
        self.look(x, move)
        one, two = self._near()[1:]
        touches = np.zeros(w.bodies + 1, bool)
        touches[one] = touches[two] = True
        group = self._groups(one, two)
        return touches[:-1], group[:-1] == group[-1]

    def pressed(self) -> tuple[np.ndarray, np.ndarray]:
        """How much, m², of the skin of each body (bodies,) touches, and how heavy, kg, all others are that hang
        together with it by touching, where ``touches`` looked.
        """
        w = self._world
        ids, one, two = self._near()
        near = np.zeros(len(w.skin.piece), bool)
        near[ids[ids >= 0]] = True
        area = np.bincount(w.skin.piece, w.skin.area * near, len(w.gap))[: w.bodies]
        moving = (one < w.bodies) & (two < w.bodies)
        group = groups(one[moving], two[moving], w.bodies)
        mass = np.bincount(w.node_body, w.mass * w.free, w.bodies)
        return area, np.bincount(group, mass, w.bodies)[group] - mass

    def _near(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Relations (k, 4) nearer than their gap and the two bodies (k,) of each; all that stands still is one more."""
        w, t = self._world, self.touching
        ids = t.ids[self._pushes & (t.distance < t.gap)]
        one = np.minimum(w.skin.piece[ids[:, 0]], w.bodies)
        return ids, one, np.where(ids[:, 3] >= 0, np.minimum(w.skin.piece[ids[:, 3]], w.bodies), w.bodies)

    def reached(self) -> np.ndarray:
        """Which nodes (n,) bool carry something that was picked since the last place was named."""
        w, ids = self._world, self.touching.ids
        points = distinct(ids[(ids >= 0) & (ids < w.skin.moving)])
        reached = np.zeros(len(w.mass), bool)
        reached[w.skin.bind_node[points].reshape(-1)] = True
        return reached

    def _groups(self, one: np.ndarray, two: np.ndarray) -> np.ndarray:
        """The number (solids + 1,) of the group of each solid that relations of bodies ``one`` and ``two`` (k,) join;
        the last is that of all that is still or held.
        """
        w = self._world
        held = np.flatnonzero(w.anchored)
        one, two = np.concatenate([one, held]), np.concatenate([two, np.full(len(held), w.bodies)])
        return groups(one, two, w.bodies + 1)

    def met(self, x: np.ndarray, move: np.ndarray, slow: float, firm: np.ndarray) -> np.ndarray:
        """Which nodes (n,) bool carry points within their gap, and stay there: ``move`` (n, 3), m, changes their
        distance by no more than ``slow``, m, or both sides are ``firm`` (pieces and the ground,).
        """
        t, skin = self.touching, self._world.skin
        met = np.zeros(len(x), bool)
        self.look(x, move)
        ct.mark_met(t.ids, t.kind, t.gap, self.skin, self._skin_move(move), slow, skin.piece, firm,
                    skin.moving, skin.bind_node, skin.bind_weight, met)
        return met

    def deepest(self, x: np.ndarray) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        w, t = self._world, self.touching
        self.look(x)
        depth = np.zeros(len(w.gap))
        ct.deepest(t.ids, t.kind, t.gap, self.skin, w.skin.piece, w.skin.moving, depth)
        return depth[: w.bodies]

    def adrift(self, x: np.ndarray, end: np.ndarray, meet: list[tuple[int, int]]) -> list[np.ndarray]:
        """Solids (numbers) that are near each other and near nothing that stands still or is held, by groups.

        That is on the way from ``x`` to ``end``; what is known to ``meet`` counts as near, pairs of pieces.
        """
        w, t, way = self._world, self.touching, self._skin_move(end - x)
        self._look(x, way)
        ids = t.ids[come_within(t.ids, t.kind, (1.0 + SPARE) * t.gap, t.distance, t.apart, way)]
        still = w.bodies                    # whatever stands still counts as one more body
        first = np.minimum(w.skin.piece[ids[:, 0]], still)
        last = np.where(ids[:, 3] >= 0, np.minimum(w.skin.piece[ids[:, 3]], still), still)
        pairs = np.minimum(np.array(meet, np.int64).reshape(-1, 2), still)
        group = self._groups(np.append(first, pairs[:, 0]), np.append(last, pairs[:, 1]))
        return [np.flatnonzero(group[:-1] == number) for number in distinct(group[:-1]) if number != group[-1]]

    # --- forces ---------------------------------------------------------------------------------------

    def energy(self, x: np.ndarray, stiffness: np.ndarray) -> float:
        """J, with ``stiffness`` (points,) N/m, of what pushes."""
        if self._known[0] is not x or self._known[1] is not self.touching.ids:
            energy = ct.contact_energy(*self._lists(), self.carry(x), self._world.skin.moving, stiffness)
            self._known = (x, self.touching.ids, energy)
        return self._known[2]

    def pairs(self, x: np.ndarray, stiffness: np.ndarray, again: bool = False) -> tuple[np.ndarray, ...]:
        """What pushes at ``x``; see kernels.contact.active_pairs, of which these are all but the last.

        Friction goes by what pushes where a Newton step begins.  Where a thing is wedged, that changes with friction in
        turn, to and fro without end: ``again`` takes the mean of what it would be and what it was the time before.
        """
        *pairs, grip, which = self._pairs(x, stiffness)
        keys = (self.touching.ids[which].astype(np.uint64) * NAMES).sum(axis=1)     # the same whatever else is listed
        if again:
            known, before = found(keys, self._gripped[0])
            grip = 0.5 * (grip + np.where(known, self._gripped[1][before * known], 0.0)) if known.any() else 0.5 * grip
        order = np.argsort(keys, kind="stable")
        self._gripped = keys[order], grip[order]
        return *pairs, grip

    def _pairs(self, x: np.ndarray, stiffness: np.ndarray) -> tuple[np.ndarray, ...]:
        w, skin = self._world, self._world.skin
        self.look(x)
        return ct.active_pairs(*self._lists(), self.skin, skin.moving, stiffness, skin.bind_node, skin.bind_weight,
                               w.friction, w.ground_friction)

    def friction_changes(self, friction: tuple[np.ndarray, ...], x: np.ndarray, move: np.ndarray,
                         stiffness: np.ndarray, least: float) -> float:
        """By what part of it the friction of what slides is another one at ``x`` than ``friction`` takes it to be.

        move : (n, 3) m, the way to there in this step.  What slides by less than ``least``, m, is left out.
        """
        taken, true = np.zeros_like(x), np.zeros_like(x)
        ct.add_sliding_friction(*friction, move, least, taken)
        ptr, node, coef, normal, _, _, grip, _ = self._pairs(x, stiffness)
        ct.add_sliding_friction(ptr, node, coef, normal, grip, move, least, true)
        return float(np.abs(true - taken).sum() / max(np.abs(true).sum(), np.abs(taken).sum(), 1e-300))

    # --- motion ---------------------------------------------------------------------------------------

    def limit(self, stage: int, x: np.ndarray, move: np.ndarray, compliance: np.ndarray) -> int:
        """Bound ``move`` in place; returns how it had to, as kernels.limit does, with ``compliance`` (n,) m/N."""
        w, t, skin, wanted = self._world, self.touching, self._world.skin, move.copy()
        way = self._skin_move(move)
        self._look(x, way.copy())
        for attempt in range(MOST_WIDENINGS):
            result = limit_motion(stage, t.ids, t.kind, t.gap, t.distance, t.apart, self._pushes, self.skin,
                                  skin.moving, skin.bind_node, skin.bind_weight, w.part, compliance, move, way)
            if result == FREE or not self._look(x, way.copy()) or self._is_safe(way):
                return result
            if attempt < MOST_WIDENINGS - 1:            # deflected to where nothing was listed: look again
                move[:] = wanted
                way = self._skin_move(move)
        self.shorten(x, move)
        return HELD_BACK

    def shorten(self, x: np.ndarray, move: np.ndarray) -> None:
        """Halve ``move`` as a whole, in place, until it brings nothing too near: it keeps its direction."""
        self._look(x, self._skin_move(move))        # what may touch on the whole way is all that may on a part of it
        for _ in range(MOST_SHORTENINGS):
            way = self._skin_move(move)
            if self._is_safe(way):
                return
            move *= 0.5
        move[:] = 0.0

    def _is_safe(self, way: np.ndarray) -> bool:
        """True when the skin's motion ``way`` (points, 3), m, brings nothing too near."""
        w, t = self._world, self.touching
        return is_safe(t.ids, t.kind, t.gap, t.distance, t.apart, self.skin, w.skin.moving, w.skin.bind_node,
                       len(w.mass), way)
