"""Where skins are, what of them touches, and how far nodes may move for it."""

from collections.abc import Sequence
from functools import partial

import numpy as np

from rubberquince.distinct import distinct
from rubberquince.kernels import contact as ct
from rubberquince.kernels.candidates import SPARE
from rubberquince.kernels.distance import come_within
from rubberquince.kernels.groups import groups
from rubberquince.kernels.limit import FREE, HELD_BACK, is_safe, limit_motion
from rubberquince.solver.bounce import Draw
from rubberquince.solver.firmness import Firmness
from rubberquince.solver.near import Near
from rubberquince.solver.overlaps import Overlap, drawn_apart, find_overlaps, still_tangled
from rubberquince.solver.patches import Patches, found
from rubberquince.solver.reach import Reach
from rubberquince.solver.touching import Touching
from rubberquince.solver.world import World

MOST_SHORTENINGS = 24
MOST_WIDENINGS = 4          # of what was picked, by a deflected motion that leaves it
NOWHERE = np.zeros((0, 3))
NAMES = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9, 0x27D4EB2F165667C5], np.uint64)   # odd


class OutgrownError(Exception):
    """Something went where it was not looked for; there it is looked for, if the frame is taken again."""


class Contacts:
    """The contact of a world's skins.  Places and motions are those of its nodes, (n, 3) m.

    near : the points of them that are looked at; ``carry`` says where these are, ``all_skins`` where all are.
    """

    def __init__(self, world: World) -> None:
        self._world, self._nothing = world, np.zeros_like(world.start)
        self._patches, self._sewn = Patches(world), np.zeros((0, 2), np.int64)
        self._whole = _Carried(world, self._patches.near)
        self.find_out()
        self._pushes, self._close = np.zeros(0, bool), np.zeros(0)
        self._known: tuple[np.ndarray, np.ndarray, float] = (NOWHERE, NOWHERE, 0.0)     # the last energy, and of what
        self._chosen: np.ndarray = NOWHERE              # of which relations
        self._gripped = np.zeros(0, np.uint64), np.zeros((0, 2))    # relations by a key; how each held, and held more

    def _look_at(self, patches: Patches) -> None:
        """Look at ``patches`` alone, and anew."""
        self.near, self.touching = patches.near, Touching(self._world, patches)
        self.touching.sewn = self.near.place[self._sewn]
        self._skin = self._whole if patches is self._patches else _Carried(self._world, patches.near)
        self._now = patches

    def sew(self, points: np.ndarray) -> None:
        """Pairs (k, 2) of points of all skins that are sewn to each other do not touch."""
        self._sewn = points
        self.touching.sewn = self.near.place[points]

    def find_out(self) -> None:
        """Find out how things start: how they touch is not what it was."""
        world, patches = self._world, self._patches
        self._overlaps, self._straddles = find_overlaps(world)
        self._tangled = list[Overlap]()
        self._reach = Reach(world, patches.piece, partial(patches.boxes, count=len(patches.piece)),
                            {straddle.piece for straddle in self._straddles})
        self.forget()

    def forget(self) -> None:
        """Look anew, and at all: points have jumped."""
        self._look_at(self._patches)

    def all_skins(self, x: np.ndarray) -> np.ndarray:
        """All skin points (all, 3) m of nodes at ``x``."""
        return self._whole.at(x)

    def carry(self, x: np.ndarray) -> np.ndarray:
        """Skin points (points, 3) m that are near, of nodes at ``x``."""
        return self._skin.at(x)

    def _skin_move(self, move: np.ndarray) -> np.ndarray:
        """The motion (points, 3) m of the skin when nodes move by ``move``."""
        out = np.zeros(self.near.points.shape)
        _carry(self._world, self.near, move, self._nothing, out)
        return out

    # --- lists ----------------------------------------------------------------------------------------

    def begin_frame(self, x: np.ndarray, way: np.ndarray, again: int = 0) -> None:
        """Nodes at ``x`` begin a frame, in which they go by about ``way``: what follows depends on the state alone.

        again : how often something has outgrown this frame.
        """
        if self._reach:
            self._leave_out(x, way, again)
        skin = self.all_skins(x)
        self._tangled = still_tangled(self._world, self._overlaps, skin) if self._overlaps else []
        self.touching.tangled = [(o.one, o.two) for o in self._tangled]
        self.touching.begin_frame(x, skin)
        if self._straddles or self._world.outside_only.any():
            self.touching.look_inside(skin, self._straddles)

    def _leave_out(self, x: np.ndarray, way: np.ndarray, again: int) -> None:
        """Leave out of dense things what nothing comes to."""
        now, skin = self._now, self.carry(x)
        box = now.boxes(skin, now.moving)
        now.widen(box, skin, self._skin_move(way))
        changed = self._reach.begin_frame(box, now.piece[: now.moving], x, way, again)
        if changed or now is self._patches:
            self._look_at(self._patches.only(self._reach.kept))

    def begin(self, x: np.ndarray) -> None:
        """Nodes at ``x`` begin a substep."""
        self.touching.begin(self.carry(x))

    def look(self, x: np.ndarray, *moves: np.ndarray) -> bool:
        """Pick what can touch at ``x`` and on the straight ways of ``moves`` from there; see Touching.look."""
        return self._look(x, moves, [self._skin_move(move) for move in moves])

    def _look(self, x: np.ndarray, moves: Sequence[np.ndarray], ways: Sequence[np.ndarray]) -> bool:
        """The same, with the motions ``ways`` (points, 3) of the skin.

        Raises OutgrownError where that leads to what is left out.
        """
        t = self.touching
        more = t.look(x, self.carry(x), *ways)
        now = self._now
        if now is not self._patches and not self._reach.holds(t.boxes(), now.piece[: now.moving], x, moves):
            raise OutgrownError
        if self._chosen is not t.ids:
            self._chosen = t.ids
            self._pushes, self._close = ct.choose(t.ids, t.kind, t.gap, t.distance, t.inside, self.near.piece,
                                                 self.near.moving)
        return more

    def tangled(self) -> list[tuple[np.ndarray, bool]]:
        """Bodies (numbers), by groups, that started in each other and are still being drawn apart; and whether that is
        from something that stands.
        """
        pairs = self._tangled_pairs()
        group = groups(pairs[:, 0], pairs[:, 1], self._world.bodies + 1)
        return [(np.flatnonzero(group[:-1] == number), bool(number == group[-1]))
                for number in distinct(group[pairs[:, 0]])]

    def _tangled_pairs(self) -> np.ndarray:
        """Pairs (k, 2) of bodies that are tangled; all that stands counts as one more."""
        return np.minimum(np.array(self.touching.tangled, np.int64).reshape(-1, 2), self._world.bodies)

    def draws(self, x: np.ndarray, h: float) -> list[Draw]:
        """How a step of ``h``, s, that begins at nodes ``x`` (n, 3) draws tangled solids apart."""
        skin = self.all_skins(x) if self._tangled else x
        return [drawn_apart(self._world, overlap, skin, h) for overlap in self._tangled]

    def squeezed(self, firm: Firmness) -> np.ndarray:
        """Stiffness of contact (points,), N/m, where what is thin is squeezed between others as it was looked at."""
        w, t, near = self._world, self.touching, self.near
        if not w.thin.any():
            return firm.contact
        by_area, by_point = firm.by_area.copy(), firm.by_point.copy()
        between = np.flatnonzero(ct.pass_on_firmness(t.ids, t.kind, t.gap, t.distance, near.piece, near.moving, w.thin,
                                                     by_area, by_point))
        contact = firm.contact.copy()
        contact[between] = np.maximum(near.area[between] * by_area[between], by_point[between])
        return contact

    def _lists(self) -> tuple[np.ndarray, ...]:
        return self.touching.ids, self.touching.kind, self.touching.gap, self._pushes

    def touches(self, x: np.ndarray, move: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which solids (bodies,) bool are nearer to something than the gap, or tangled with it, and which rest, if by
        others, on what is still.

        What ``move`` brings close is then picked, too.
        """
        w = self._world
        self.look(x, move)
        one, two = self._touched()[1:]
        tangled = self._tangled_pairs()
        one, two = np.append(one, tangled[:, 0]), np.append(two, tangled[:, 1])
        touches = np.zeros(w.bodies + 1, bool)
        touches[one] = touches[two] = True
        group = self._groups(one, two)
        return touches[:-1], group[:-1] == group[-1]

    def pressed(self) -> tuple[np.ndarray, np.ndarray]:
        """How much, m², of the skin of each body (bodies,) touches, and how heavy, kg, all others are that hang
        together with it by touching, where ``touches`` looked.
        """
        w, near = self._world, self.near
        ids, one, two = self._touched()
        touched = np.zeros(len(near.piece), bool)
        touched[ids[ids >= 0]] = True
        area = np.bincount(near.piece, near.area * touched, len(w.gap))[: w.bodies]
        moving = (one < w.bodies) & (two < w.bodies)
        group = groups(one[moving], two[moving], w.bodies)
        mass = np.bincount(w.node_body, w.mass * w.free, w.bodies)
        return area, np.bincount(group, mass, w.bodies)[group] - mass

    def _touched(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Relations (k, 4) nearer than their gap and the two bodies (k,) of each; all that stands still is one more."""
        w, t = self._world, self.touching
        ids = t.ids[self._pushes & (t.distance < t.gap)]
        one = np.minimum(self.near.piece[ids[:, 0]], w.bodies)
        return ids, one, np.where(ids[:, 3] >= 0, np.minimum(self.near.piece[ids[:, 3]], w.bodies), w.bodies)

    def reached(self) -> np.ndarray:
        """Which nodes (n,) bool carry something that was picked since the last place was named."""
        ids, near = self.touching.ids, self.near
        points = distinct(ids[(ids >= 0) & (ids < near.moving)])
        reached = np.zeros(len(self._nothing), bool)
        reached[near.bind_node[points].reshape(-1)] = True
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
        t, near = self.touching, self.near
        met = np.zeros(len(x), bool)
        self.look(x, move)
        ct.mark_met(t.ids, t.kind, t.gap, self.carry(x), self._skin_move(move), slow, near.piece, firm,
                    near.moving, near.bind_node, near.bind_weight, met)
        return met

    def deepest(self, x: np.ndarray) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        try:
            self.look(x)
        except OutgrownError:               # no frame is being taken that could be taken again
            self.forget()
            self.look(x)
        w, t, near = self._world, self.touching, self.near
        depth = np.zeros(len(w.gap))
        ct.deepest(t.ids, t.kind, t.gap, self.carry(x), near.piece, near.moving, depth)
        return depth[: w.bodies]

    def adrift(self, x: np.ndarray, end: np.ndarray, meet: list[tuple[int, int]]) -> list[np.ndarray]:
        """Solids (numbers) that are near each other and near nothing that stands still or is held, by groups.

        That is on the way from ``x`` to ``end``; what is known to ``meet`` counts as near, pairs of pieces.
        """
        w, t, near, move = self._world, self.touching, self.near, end - x
        way = self._skin_move(move)
        self._look(x, [move], [way])
        ids = t.ids[come_within(t.ids, t.kind, (1.0 + SPARE) * t.gap, t.distance, t.apart, way)]
        still = w.bodies                    # whatever stands still counts as one more body
        first = np.minimum(near.piece[ids[:, 0]], still)
        last = np.where(ids[:, 3] >= 0, np.minimum(near.piece[ids[:, 3]], still), still)
        pairs = np.minimum(np.array(meet, np.int64).reshape(-1, 2), still)
        group = self._groups(np.append(first, pairs[:, 0]), np.append(last, pairs[:, 1]))
        return [np.flatnonzero(group[:-1] == number) for number in distinct(group[:-1]) if number != group[-1]]

    # --- forces ---------------------------------------------------------------------------------------

    def energy(self, x: np.ndarray, stiffness: np.ndarray) -> float:
        """J, with ``stiffness`` (points,) N/m, of what pushes."""
        if self._known[0] is not x or self._known[1] is not self.touching.ids:
            energy = ct.contact_energy(*self._lists(), self.carry(x), self.near.moving, stiffness)
            self._known = (x, self.touching.ids, energy)
        return self._known[2]

    def pairs(self, x: np.ndarray, stiffness: np.ndarray) -> tuple[np.ndarray, ...]:
        """What pushes at ``x``; see kernels.contact.active_pairs, of which these are all but the last."""
        return self._pairs(x, stiffness)[:-1]

    def evened_pairs(self, x: np.ndarray, stiffness: np.ndarray, again: bool) -> tuple[np.ndarray, ...]:
        """The same, for a substep of many Newton steps.

        Friction goes by what pushes where a Newton step begins.  Where a thing is wedged, that changes with friction in
        turn, to and fro without end: ``again`` takes the mean of what it would be and what it was the time before, if
        that turns back.
        """
        *pairs, grip, which = self._pairs(x, stiffness)
        keys = (self.touching.ids[which].astype(np.uint64) * NAMES).sum(axis=1)     # the same whatever else is listed
        known, before = found(keys, self._gripped[0])
        was, rose = np.zeros((2, len(grip)))
        if known.any():
            was, rose = np.where(known, self._gripped[1][before * known].T, 0.0)
        if again:
            grip = np.where(known & ((grip - was) * rose >= 0.0), grip, 0.5 * (grip + was))
        order = np.argsort(keys, kind="stable")
        self._gripped = keys[order], np.column_stack([grip, grip - was])[order]
        return *pairs, grip

    def _pairs(self, x: np.ndarray, stiffness: np.ndarray) -> tuple[np.ndarray, ...]:
        self.look(x)
        return self._active(x, stiffness)

    def _active(self, x: np.ndarray, stiffness: np.ndarray) -> tuple[np.ndarray, ...]:
        """The same by what was picked before."""
        near = self.near
        return ct.active_pairs(*self._lists(), self.carry(x), near.moving, stiffness, near.bind_node, near.bind_weight,
                               near.friction, self._world.ground_friction)

    def friction_changes(self, friction: tuple[np.ndarray, ...], x: np.ndarray, move: np.ndarray,
                         stiffness: np.ndarray, least: float) -> float:
        """By what part of it the friction of what slides is another one at ``x`` than ``friction`` takes it to be.

        move : (n, 3) m, the way to there in this step.  What slides by less than ``least``, m, is left out.
        ``x`` is where a move led that was looked along.
        """
        taken, true = np.zeros_like(x), np.zeros_like(x)
        ct.add_sliding_friction(*friction, move, least, taken)
        ptr, node, coef, normal, _, _, grip, _ = self._active(x, stiffness)
        ct.add_sliding_friction(ptr, node, coef, normal, grip, move, least, true)
        return float(np.abs(true - taken).sum() / max(np.abs(true).sum(), np.abs(taken).sum(), 1e-300))

    # --- motion ---------------------------------------------------------------------------------------

    def limit(self, stage: int, x: np.ndarray, move: np.ndarray, compliance: np.ndarray) -> int:
        """Bound ``move`` in place; returns how it had to, as kernels.limit does, with ``compliance`` (n,) m/N."""
        t, near, wanted = self.touching, self.near, move.copy()
        way = self._skin_move(move)
        self._look(x, [move], [way.copy()])
        for attempt in range(MOST_WIDENINGS):
            result = limit_motion(stage, t.ids, t.kind, t.gap, t.distance, self._close, t.apart, self._pushes,
                                  self.carry(x), near.moving, near.bind_node, near.bind_weight, self._world.part,
                                  compliance, move, way)
            if result == FREE or not self._look(x, [move], [way.copy()]) or self._is_safe(x, way):
                return result
            if attempt < MOST_WIDENINGS - 1:            # deflected to where nothing was listed: look again
                move[:] = wanted
                way = self._skin_move(move)
        self.shorten(x, move)
        return HELD_BACK

    def shorten(self, x: np.ndarray, move: np.ndarray) -> None:
        """Halve ``move`` as a whole, in place, until it brings nothing too near: it keeps its direction."""
        self.look(x, move)                  # what may touch on the whole way is all that may on a part of it
        for _ in range(MOST_SHORTENINGS):
            way = self._skin_move(move)
            if self._is_safe(x, way):
                return
            move *= 0.5
        move[:] = 0.0

    def _is_safe(self, x: np.ndarray, way: np.ndarray) -> bool:
        """True when the skin's motion ``way`` (points, 3), m, from ``x`` brings nothing too near."""
        t, near = self.touching, self.near
        return is_safe(t.ids, t.kind, t.gap, t.distance, t.apart, self.carry(x), near.moving, near.bind_node, len(x),
                       way)


class _Carried:
    """Where the points of some skins are; these arrays are kept for as long as nodes stay."""

    def __init__(self, world: World, near: Near) -> None:
        self._world, self._near, self._skin = world, near, near.points.copy()
        self._at, self._nodes = NOWHERE, world.start.copy()         # of which nodes it is the skin, and where they were

    def at(self, x: np.ndarray) -> np.ndarray:
        """Points (n, 3) m of nodes at ``x``."""
        if self._at is not x:
            self._at = x
            _carry(self._world, self._near, x, self._nodes, self._skin)
            self._nodes = x.copy()
        return self._skin


def _carry(world: World, near: Near, x: np.ndarray, before: np.ndarray, out: np.ndarray) -> None:
    """Points ``out`` of nodes at ``x`` (n, 3), which are those of nodes ``before``."""
    ct.carry_changed(x, before, world.first_node, near.first, near.bind_node, near.bind_weight, out)
