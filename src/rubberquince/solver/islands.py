"""What rests is left alone until something comes.

Bodies whose boxes overlap are an *island*.  One in which nothing has moved for half a second sleeps: its nodes stay
where they are, and the frames of what is awake are those of a smaller world, in which what sleeps stands still.  That
another comes is seen from boxes, a frame ahead.  Who sleeps is part of the state, and follows from the state alone.
"""

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from rubberquince.distinct import distinct
from rubberquince.errors import Stopped
from rubberquince.kernels.groups import groups
from rubberquince.solver.newton import Effort
from rubberquince.solver.specs import (
    DOWN,
    AnyMaterial,
    BodySpec,
    ColliderSpec,
    Course,
    ForceSpec,
    Goal,
    Inflation,
    LedSpec,
    RunSpec,
    Touch,
)
from rubberquince.solver.state import ASLEEP, State
from rubberquince.solver.stepper import Stepper

STILL = 5e-3                # of a body's longest side, in a second: what moves less far does not move, to the eye
QUIVER = 5.0                # times that its speeds may be
CREEPS = 0.1                # of that, for what flows: wax creeps on, slowly
LEAST_REST = 3              # frames, where they are long
PELLETS = 6.0               # widths of a pellet, that count as their longest side
REST, WAKEFUL = 0.5, 0.5    # s: how long it is still before it sleeps, and awake at least when it was woken
SMALLER = 0.5               # of all nodes that are awake: a smaller world has no more, or it is not worth making
AHEAD = 1.5                 # frames: how far ahead of a thing it is seen where it may come to
NEAR = 2.0                  # gaps: what is nearer than that belongs together


class IslandStepper(Stepper):
    """A stepper that leaves alone what rests; for what it is told and what it tells see Stepper."""

    def __init__(self, spec: RunSpec, stop: Callable[[], bool] = lambda: False,
                 tell: Callable[[float], None] = lambda share: None) -> None:
        super().__init__(spec, stop, tell)
        world, skin = self.world, self.world.skin
        self._smaller: Stepper | None = None
        self._awake = np.zeros(0, np.int64)             # the bodies of it
        self._number: dict[int, int] = {}               # and which pieces of all are which of its own
        self._depths = np.zeros(world.bodies)           # how deep the contacts of what sleeps are
        self._first_point = np.searchsorted(skin.piece[: skin.moving], np.arange(world.bodies))
        self._size = np.array([np.ptp(carrier.start, axis=0).max() for carrier in world.carriers], float)
        self._is_led = np.array([isinstance(body, LedSpec) for body in spec.bodies], bool)
        for body, carrier in enumerate(world.carriers):
            if carrier.radius is not None:
                self._size[body] = PELLETS * carrier.size
        self._size[distinct(world.flow.body)] *= CREEPS
        self._on_courses = np.array([getattr(body, "course", None) is not None
                                     or k in world.rests
                                     or (body.goal is not None and body.goal.course is not None)
                                     for k, body in enumerate(spec.bodies)], bool) & ~self._is_led

    # --- what changes while it runs -------------------------------------------------------------------

    def set_material(self, body: int, material: AnyMaterial) -> None:
        super().set_material(body, material)
        self._rouse()

    def set_inflation(self, body: int, inflation: Inflation) -> None:
        super().set_inflation(body, inflation)
        self._rouse()

    def set_goal(self, body: int, goal: Goal) -> None:
        super().set_goal(body, goal)
        self._rouse()

    def set_rest(self, body: int, course: Course) -> None:
        super().set_rest(body, course)
        self._rouse()

    def set_seam(self, number: int, stiffness: float, closes: float) -> None:
        super().set_seam(number, stiffness, closes)
        self._rouse()

    def set_touch(self, piece: int, touch: Touch) -> None:
        super().set_touch(piece, touch)
        self._rouse()

    def set_gravity(self, gravity: float, pulls: np.ndarray = DOWN) -> None:
        if gravity != self.world.gravity or (pulls != self.world.pulls).any():
            self._rouse()
        super().set_gravity(gravity, pulls)

    def set_weight(self, body: int, weight: float) -> None:
        super().set_weight(body, weight)
        self._rouse()

    def set_ground_friction(self, friction: float) -> None:
        if friction != self.world.ground_friction:
            self._rouse()
        super().set_ground_friction(friction)

    def set_forces(self, forces: Sequence[ForceSpec]) -> None:
        super().set_forces(forces)
        if self._smaller is not None:
            self._smaller.set_forces(self._forces_of_awake())

    def tug(self, body: int, place: np.ndarray, target: np.ndarray | None, begins: bool) -> None:
        if target is not None:
            self._rouse()
        super().tug(body, place, target, begins)

    def restore(self, state: State) -> None:
        super().restore(state)
        self._smaller = None

    def _rouse(self) -> None:
        """Wake all: something is not as it was."""
        self.state = replace(self.state, idle=np.zeros(self.world.bodies))
        self._smaller = None

    # --- a frame --------------------------------------------------------------------------------------

    def frame(self, since: float = np.inf) -> Effort:
        """As Stepper.frame, of what is awake."""
        before, idle = self.state, self._who_sleeps(since)
        asleep = np.isinf(idle)
        self.state = replace(before, idle=idle)
        try:
            if not asleep.any():
                self._smaller = None
                super().frame(since)
            elif asleep.all():
                self._smaller, self.effort = None, Effort()
            else:
                self._frame_of(np.flatnonzero(~asleep), since)
        except Stopped:
            self.state = before
            raise
        self.state = replace(self.state, idle=self._idle_after(before.x, since))
        return self.effort

    def _frame_of(self, awake: np.ndarray, since: float) -> None:
        """The frame of a smaller world, that of the bodies ``awake``, written into the state of all."""
        state, mine = self.state, np.isin(self.world.node_body, awake)
        cells = np.isin(self.world.flow.body, awake)
        if self._smaller is None or not np.array_equal(awake, self._awake):
            self._depths = super().deepest_contact()
            self._awake = awake
            self._smaller = self._made_smaller()
            self._smaller.restore(State(state.x[mine], state.v[mine], state.push[mine], state.force[mine],
                                        state.memory[cells], state.idle[awake]))
        self.effort = self._smaller.frame(since)
        moved = self._smaller.state
        x, v, push, force, memory = (part.copy() for part in (state.x, state.v, state.push, state.force, state.memory))
        x[mine], v[mine], push[mine], force[mine] = moved.x, moved.v, moved.push, moved.force
        memory[cells] = moved.memory
        self.world.flow.remember(memory)
        self.state = State(x, v, push, force, memory, state.idle)

    def deepest_contact(self) -> np.ndarray:
        """As Stepper.deepest_contact; of what sleeps, as it was when it fell asleep."""
        if self._smaller is None:
            return super().deepest_contact()
        depths = self._depths.copy()
        depths[self._awake] = self._smaller.deepest_contact()
        return depths

    def behind(self) -> np.ndarray:
        """As Stepper.behind; what sleeps is not led."""
        if self._smaller is None:
            return super().behind()
        far = np.zeros(self.world.bodies)
        far[self._awake] = self._smaller.behind()
        return far

    # --- who sleeps -----------------------------------------------------------------------------------

    def _who_sleeps(self, since: float) -> np.ndarray:
        """For how many frames each body has been still (bodies,), ASLEEP for those that sleep in the coming frame."""
        idle = self.state.idle.copy()
        if not self.world.spec.rests or self._forces.tugs or not len(idle):
            return np.where(np.isinf(idle), 0.0, idle)
        asleep, rest = np.isinf(idle), max(round(REST * self.fps), LEAST_REST)
        if not asleep.any() and (idle < rest).all():
            return idle
        group, ready = self._islands(), (asleep | (idle >= rest)) & ~self._stirred(since)
        ready &= np.bincount(group, ~ready, len(idle))[group] == 0.0
        woken = asleep & (~ready | self._disturbed(since, asleep))
        woken = (np.bincount(group, woken, len(idle))[group] > 0.0) & asleep
        idle[woken] = -max(round(WAKEFUL * self.fps), 1)
        asleep &= ~woken
        nodes = np.diff(self.world.first_node)
        may = ready & ~asleep & ~woken & (idle >= rest)
        more = asleep | may
        if may.any() and (idle[~asleep] >= 0.0).all() and nodes[~more].sum() <= SMALLER * nodes[~asleep].sum():
            asleep = more
        elif nodes[~asleep].sum() > SMALLER * nodes.sum():
            asleep[:] = False
        if self._balls.any and not asleep.all():            # pellets sleep only with all else
            asleep[:] = False
        idle[np.isinf(idle) & ~asleep] = 0.0
        idle[asleep] = ASLEEP
        return idle

    def _idle_after(self, before: np.ndarray, since: float) -> np.ndarray:
        """The same count after a frame that began with nodes at ``before`` (n, 3), m."""
        w, state = self.world, self.state
        if not w.bodies:
            return state.idle
        gone, speed = (np.sqrt(np.maximum.reduceat((a ** 2).sum(axis=1), w.first_node[:-1]))
                       for a in (state.x - before, state.v))
        still = (gone * self.fps <= STILL * self._size) & (speed <= QUIVER * STILL * self._size)
        return np.where((state.idle < 0.0) | np.isinf(state.idle) | still, state.idle + 1.0, 0.0)

    def _stirred(self, since: float) -> np.ndarray:
        """Which bodies (bodies,) something acts on that may change from frame to frame."""
        w, stirred = self.world, self._on_courses | self._leads(since)
        for force in self._forces.scene:
            stirred |= force.bodies
        stirred |= w.of_balls[: w.bodies] & (since < self._balls.last)
        stirred |= np.array([since < inflation.grows for inflation in w.pressing.inflations], bool)
        for seam in w.spec.seams:
            if since < seam.closes:
                stirred[[seam.one, seam.two]] = True
        return stirred

    def _leads(self, since: float) -> np.ndarray:
        """Which led things (bodies,) bool move in the coming frame."""
        moves = np.zeros(self.world.bodies, bool)
        for body in map(int, np.flatnonzero(self._is_led)):
            course = self._course(body)
            nodes = self.state.x[self.world.node_body == body]
            moves[body] = any(np.abs(course(since + k / self.fps) - nodes).max() > 1e-9 for k in (0.5, 1.0, 1.5))
        return moves

    def _course(self, body: int) -> Course:
        course = self.world.spec.bodies[body].course
        assert course is not None
        return course

    def _boxes(self, points: np.ndarray) -> np.ndarray:
        """Boxes (bodies, 6) of skin points (moving, 3), m."""
        first = self._first_point
        return np.hstack([np.minimum.reduceat(points, first), np.maximum.reduceat(points, first)])

    def _islands(self) -> np.ndarray:
        """The number (bodies,) of the island of each body; what is led is one of its own."""
        w = self.world
        skin = self.contacts.all_skins(self.state.x)[: w.skin.moving]
        one, two = _meeting(self._boxes(skin), NEAR * w.gap[: w.bodies])
        apart = self._is_led[one] | self._is_led[two]
        seams = np.array(self.seams.bodies, np.int64).reshape(-1, 2)
        return groups(np.append(one[~apart], seams[:, 0]), np.append(two[~apart], seams[:, 1]), w.bodies)

    def _disturbed(self, since: float, asleep: np.ndarray) -> np.ndarray:
        """Which of those ``asleep`` (bodies,) bool something may come to in the coming frame."""
        w, state, frame = self.world, self.state, AHEAD / self.fps
        skin = self.contacts.all_skins(state.x)[: w.skin.moving].copy()
        box = self._boxes(skin)
        moves = ~asleep & (~self._is_led | self._leads(since))
        there = state.x + frame * state.v
        for body in map(int, np.flatnonzero(moves & self._is_led)):
            there[w.node_body == body] = self._course(body)(since + frame)
        ahead = self._boxes(self.contacts.all_skins(there)[: w.skin.moving])
        box[moves] = np.hstack([np.minimum(box[:, :3], ahead[:, :3]), np.maximum(box[:, 3:], ahead[:, 3:])])[moves]
        fall = abs(w.gravity) * frame * frame
        one, two = _meeting(box, NEAR * w.gap[: w.bodies] + np.where(moves, fall, 0.0))
        disturbed = np.zeros(w.bodies, bool)
        disturbed[one[moves[two]]] = disturbed[two[moves[one]]] = True
        return disturbed & asleep

    # --- the smaller world ----------------------------------------------------------------------------

    def _made_smaller(self) -> Stepper:
        """A stepper of the bodies that are awake, with those that sleep as things that stand still."""
        w, awake = self.world, self._awake
        asleep = np.setdiff1d(np.arange(w.bodies), awake)
        skin = self.contacts.all_skins(self.state.x)
        sleepers = [self._as_it_stands(int(k), skin) for k in asleep]
        colliders = [replace(collider, touch=touch)
                     for collider, touch in zip(w.spec.colliders, w.touches[w.bodies:])]
        order = [*awake, *range(w.bodies, w.bodies + len(colliders)), *asleep, w.bodies + len(colliders)]
        number = {int(old): new for new, old in enumerate(order)}
        seams = [replace(seam, one=number[seam.one], two=number[seam.two], stiffness=stiffness, closes=closes)
                 for seam, (stiffness, closes) in zip(w.spec.seams, self.seams.values())
                 if {seam.one, seam.two} <= set(map(int, awake))]
        ground = None if w.spec.ground is None else replace(w.spec.ground, friction=w.ground_friction)
        spec = replace(w.spec, bodies=[self._as_it_is(int(k)) for k in awake], colliders=colliders + sleepers,
                       gravity=w.gravity, pulls=w.pulls, ground=ground, seams=seams, forces=[],
                       apart=[(number[a], number[b]) for a, b in w.spec.apart])
        pitches = {(number[body], poisson): pitch for (body, poisson), pitch in self._damping.pitches.items()
                   if body in awake}
        smaller, self._number = Stepper(spec, self._stop, self._tell, pitches), number
        smaller.set_forces(self._forces_of_awake())
        return smaller

    def _as_it_stands(self, body: int, skin: np.ndarray) -> ColliderSpec:
        """A body with skin points ``skin`` (points, 3), m, of all as a thing that stands still."""
        w, first, carrier = self.world, self._first_point[body], self.world.carriers[body]
        touch = w.touches[body]
        touch = replace(touch, gap=carrier.at_all_points(touch.gap), friction=carrier.at_all_points(touch.friction))
        return ColliderSpec(skin[w.skin.piece == body].copy(), w.skin.triangles[body] - first, touch,
                            w.skin.studs[body][:, 0] - first)

    def _as_it_is(self, body: int) -> BodySpec:
        """The spec of a body with the values that it has now."""
        w = self.world
        changed: dict[str, Any] = {"material": w.materials[body], "touch": w.touches[body]}
        if not self._is_led[body]:
            changed |= {"weight": float(w.weight[body]), "inflation": w.pressing.inflations[body],
                        "goal": w.goals.goal(body)}
        if body in w.rests:
            changed["rest"] = w.rests[body]
        return replace(w.spec.bodies[body], **changed)

    def _forces_of_awake(self) -> list[ForceSpec]:
        forces = [force if force.rides in self._awake else self._forces.where_it_rides(force, self.state.x)
                  for force in self._forces.scene]
        return [replace(force, bodies=force.bodies[self._awake], piece=self._number.get(force.piece, -1),
                        rides=self._number.get(force.rides, -1)) for force in forces]


def _meeting(box: np.ndarray, margin: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Pairs, as two arrays, of boxes (k, 6) that overlap when each is widened by its ``margin`` (k,), m."""
    low, high = box[:, :3] - margin[:, None], box[:, 3:] + margin[:, None]
    meet = (low[:, None] <= high[None]).all(axis=2) & (low[None] <= high[:, None]).all(axis=2)
    one, two = np.nonzero(np.triu(meet, 1))
    return one, two
