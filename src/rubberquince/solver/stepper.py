"""One run, frame by frame: each substep minimises inertia + elastic + damping + contact + friction."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from rubberquince.errors import Stopped
from rubberquince.kernels import contact as ct
from rubberquince.kernels import turning as tn
from rubberquince.kernels.limit import HELD_BACK, NEWTON, PREDICTOR
from rubberquince.kernels.motion import add_inertia_force, inertia_energy
from rubberquince.solver.balls import Balls
from rubberquince.solver.bounce import Bounce, find_bounces
from rubberquince.solver.contacts import NOWHERE, Contacts
from rubberquince.solver.courses import Courses
from rubberquince.solver.damping import Damping
from rubberquince.solver.firmness import contact_stiffness
from rubberquince.solver.forces import Forces
from rubberquince.solver.overlaps import parted
from rubberquince.solver.scheme import Aim, Scheme
from rubberquince.solver.seams import Seams
from rubberquince.solver.specs import (
    DOWN,
    AnyMaterial,
    Course,
    ForceSpec,
    Goal,
    Inflation,
    Quality,
    RunSpec,
    Touch,
    alike,
)
from rubberquince.solver.state import State
from rubberquince.solver.system import ElasticSystem, Pairs
from rubberquince.solver.world import World

STILL_SPEED = 1e-4          # m/s: slower sliding counts as sticking
USUAL_FPS = 24.0            # fewer frames a second have more substeps each: a step never gets longer
SLOW_STEPS = 1.0            # of gravity: what nears or leaves another by less than these gain is at rest on it
USUAL_GRAVITY = 9.81        # m/s²
MOST_HALVINGS = 12
ROUNDING = 1e-7             # of the energy a step of gravity brings: a rise below is not one
BOUNCE_TOLERANCE = 1e-3     # where bodies are thrown back: what is left is lost momentum
HINGE_TOLERANCE = 0.02      # of it, where a firm body swings from what is held: it resists that so much less than
                            # bends; and for pellets, whose momenta nothing else keeps
LEAP = 2.0                  # cells a Newton step may go, if the free motion goes less far: farther is never right
LEAST_TURN = 1e-6           # rad: less is rounding
MOST_GAIN = 0.2            # of the kinetic energy, in a substep: more is the scheme's
FED = 0.002                 # rad, in a substep: the swelling and shrinking of what turns faster is fed by the scheme
FALSE_ENERGY, MOST_HALVED = 0.02, 1     # of the kinetic energy: a substep that brings more is taken in halves, so often
UNSEEN = 0.3                # m/s: and of what it would be at that speed, so that what is nearly at rest is let be
STEADY = 4.0                # of ω²h, 1/s: so changes of shape fade where a body spins, or each step would feed them
SLOW_TURN, CARRIED_TURN = 0.05, 0.2     # rad, in a substep: what spins more slowly, free or carried, needs none
SLIDES, SLID = 5e-3, 0.02     # m/s, from where friction has to be right, and what part a Newton step may change of how
                            # far things slide
HASTE = 0.05                # m/s: what slides faster must not have
LAGS = 0.1                  # of the friction of what slides, may be that of a Newton step before: else a landing takes
                            # more speed than friction can
CALM, PATIENT, CAREFUL = 0.1, 10, 0.2     # m/s: what touches and is slower takes more Newton steps, and a part of the
                            # tolerance: what inexact ones leave would keep a pile stirring
OF_RIGID = 0.01             # the most of the tolerance where something rigid moves
EVENED = 2                  # Newton step of such a substep, from which on friction is evened out
SETTLED = 1e-5              # of a cell: a Newton step smaller than this is the last of its substep


@dataclass(frozen=True)
class Effort:
    """What a frame took: Newton steps, conjugate gradient iterations, and how often a body was held back."""

    newton: int = 0
    linear: int = 0
    cuts: int = 0


@dataclass(frozen=True, eq=False)
class _Step:
    """One substep: inertia·|x - target|²/2 and the damping drag·|x - pose|²/2 in the metric of K.

    inertia : (n,) N/m and target : (n, 3) m, those of the aim with the resistance of air in them; flown : (n, 3) m/s²,
    what speeds up that which nothing touches, with it.
    drag : (n,), ``stretch`` is 1 + drag.  left : (bodies,), of changes of shape, after it.  contact : (points,) N/m.
    touches, leans : (bodies,) bool, those near something, and those that something still carries.
    quality : how well it is computed.
    """

    aim: Aim
    inertia: np.ndarray
    target: np.ndarray
    flown: np.ndarray
    stretch: np.ndarray
    drag: np.ndarray
    left: np.ndarray
    contact: np.ndarray
    touches: np.ndarray
    leans: np.ndarray
    still: float
    rounding: float
    quality: Quality


@dataclass(frozen=True, eq=False)
class _Move:
    """Where a Newton step led; whether it was limited, or cut so that its end is not that of the equations (``short``
    if that was the line search); and whether another one would change nothing that counts.  gained : J;
    friction : as it was taken to be, see Contacts.friction_changes.
    """

    there: "_Place"
    friction: tuple[np.ndarray, ...]
    gained: float
    limited: bool
    cut: bool
    short: bool
    done: bool


# Positions, m, the bodies that are adrift, speeds, m/s, and what pushes, evened out and now, m/s².
_Arrival = tuple[np.ndarray, list[np.ndarray], np.ndarray, np.ndarray, np.ndarray]


@dataclass(frozen=True, eq=False)
class _Place:
    """Positions (n, 3) m that were tried, their energy short of contact, J, and the force of damping there, N."""

    x: np.ndarray
    bulk: float
    resistance: np.ndarray


class Stepper:
    """Steps a world through time.

    ``stop`` is asked at every Newton step; ``tell`` hears, at each substep, what part 0 .. 1 of the frame is done.
    """

    def __init__(self, spec: RunSpec, stop: Callable[[], bool] = lambda: False,
                 tell: Callable[[float], None] = lambda share: None,
                 pitches: Mapping[tuple[int, float], float] = {}) -> None:
        """``pitches`` are those of Damping.pitches that are known."""
        self.world = World(spec)
        self.system = ElasticSystem(self.world)
        self.contacts = Contacts(self.world)
        self.seams = Seams(self.world)
        self.contacts.touching.sewn = self.seams.points
        self._stop, self._tell = stop, tell
        self.quality = spec.quality
        self.fps = spec.fps
        self.substeps = max(spec.quality.substeps, round(spec.quality.substeps * USUAL_FPS / spec.fps))
        rest = self.world.start
        self.state = State.at_rest(parted(self.world), len(self.world.flow.memory), self.world.bodies)
        self._elastic = (NOWHERE, 0.0)      # the last positions and their elastic energy, J
        self._late_motion = np.zeros(rest.shape, np.float32)
        self._loose = self.world.turns
        self._rigid = self._loose & (self.world.firm[: self.world.bodies] == 1)
        self._scheme = Scheme(self.world, self._loose, min(spec.quality.ringing, USUAL_FPS / spec.fps))
        self._damping = Damping(self.world, self.system, self._loose, pitches)
        self._forces, self._courses = Forces(self.world), Courses(self.world)
        still = not self._courses.any       # else work of what is led, which is known roughly, would pass for a gain
        self._skins = still & np.array([not carrier.filled for carrier in self.world.carriers], bool) & ~self._rigid
        self._supply = np.zeros_like(rest)  # what the forces on held nodes are that known motion works against, N
        self._balls = Balls(self.world)
        self._bounces: list[Bounce] = []
        self._owed = 0.0                    # energy that this frame has gained, J
        self._touch = 0.0                   # energy of contact at the start of the substep, J
        self._contact = np.zeros(0)         # stiffness of points in this frame, N/m
        self._no_force, self._no_inertia = np.zeros_like(rest), np.zeros(len(rest))
        self.effort = Effort()
        self._hinged = self._balls.any or any(carrier.filled and carrier.held.any() and not carrier.held.all()
                                              for carrier in self.world.carriers)
        self._finest = min((carrier.size for carrier in self.world.carriers if not carrier.held.all()), default=1.0)

    @property
    def frequencies(self) -> np.ndarray:
        """The first wobble of each solid, (solids,) Hz."""
        return self._damping.frequencies

    # --- values that change while it runs -------------------------------------------------------------

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """Change what a body is made of at once, without a new world."""
        if alike(material, self.world.materials[body]):
            return
        self.world.set_material(body, material)
        self._elastic = (NOWHERE, 0.0)
        self.system.stiffen()
        self._damping.set_material(body, material)

    def set_inflation(self, body: int, inflation: Inflation) -> None:
        """Change what presses in a body."""
        self.world.set_inflation(body, inflation)
        self._elastic = (NOWHERE, 0.0)

    def set_goal(self, body: int, goal: Goal) -> None:
        """Change where a body that has a goal is drawn to, and how strongly."""
        self.world.goals.set_goal(body, goal)
        self._damping.set_calm(body, goal.calms)
        self._elastic = (NOWHERE, 0.0)
        self.system.stiffen()

    def set_rest(self, body: int, course: Course) -> None:
        """Change what a body that has a rest course wants to be in time."""
        self.world.set_rest(body, course)
        self._elastic = (NOWHERE, 0.0)

    def tug(self, body: int, place: np.ndarray, target: np.ndarray | None, begins: bool) -> None:
        """Pull at a ``place`` (3,), m, of a body towards a ``target``, None to let go; ``begins`` takes hold first."""
        if begins:
            self._forces.grab(body, self.state.x, np.asarray(place, float))
        self._forces.tug(target)

    @property
    def tug_force(self) -> float:
        """What a tug pulled with in the last substep, N; 0 where there is none."""
        return self._forces.tug_force

    def behind(self) -> np.ndarray:
        """How far (bodies,), m, something keeps each body from where it is led."""
        return self._courses.behind(self.state.x)

    def set_seam(self, number: int, stiffness: float, closes: float) -> None:
        """Change how strongly a seam draws, N/m, and in what time, s."""
        self.seams.set_seam(number, stiffness, closes)

    def set_touch(self, piece: int, touch: Touch) -> None:
        """Change how a piece (solids first, then colliders) touches."""
        if not alike(touch, self.world.touches[piece]):
            self.world.set_touch(piece, touch)
            self.contacts.touching.forget()

    def set_gravity(self, gravity: float, pulls: np.ndarray = DOWN) -> None:
        """Change how strongly gravity pulls, m/s², and in which direction (3,)."""
        self.world.gravity, self.world.pulls = gravity, pulls

    def set_weight(self, body: int, weight: float) -> None:
        """Change how strongly gravity pulls at a solid: 1 is as it does."""
        self.world.weight[body] = weight

    def set_forces(self, forces: Sequence[ForceSpec]) -> None:
        """Put other forces of the scene in the place of all."""
        self._forces.set_forces(forces)

    def set_ground_friction(self, friction: float) -> None:
        self.world.ground_friction = friction

    def restore(self, state: State) -> None:
        """Go on from a state of this same world, whatever was done with it before."""
        self.state = state
        self.world.flow.remember(state.memory)
        self._elastic = (NOWHERE, 0.0)
        self.contacts.touching.forget()

    # --- stepping -------------------------------------------------------------------------------------

    def skin(self) -> np.ndarray:
        """Positions (points, 3), m, of all moving skin points, without studs."""
        skin = self.world.skin
        return self.contacts.carry(self.state.x)[: skin.moving][skin.shown]

    def deepest_contact(self) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        return self.contacts.deepest(self.state.x)

    def frame(self, since: float = np.inf) -> Effort:
        """Go on by one frame, which begins ``since``, s, after the start; unless told, all that grows has grown.

        Raises Stopped with the state as it was when asked to stop.
        """
        self.effort = Effort()
        if not len(self.world.mass):
            return self.effort
        before, self._owed = self.state, 0.0
        if self._balls.any:
            self.state = self._balls.gone_back(before, self.contacts.carry(before.x), since)
        h = 1.0 / (self.fps * self.substeps)
        self._contact = contact_stiffness(self.world, h)
        self.contacts.begin_frame(self.state.x)
        self._forces.begin_frame(self.state.x, self.contacts.carry(self.state.x))
        try:
            for k in range(self.substeps):
                self._tell(k / self.substeps)
                self._go_on(h, since + (k + 1) * h, MOST_HALVED)
        except Stopped:
            self.state = before
            self.world.flow.remember(before.memory)
            raise
        return self.effort

    def _go_on(self, h: float, since: float, may_halve: int) -> None:
        """Take a substep of ``h``, s, that ends ``since``, s, after the start; in two halves if it would make energy
        that nothing can take, or lose some for no reason.
        """
        before, owed = self.state, self._owed
        if self._substep(h, since) <= FALSE_ENERGY or not may_halve or self._courses.any:
            return                          # what leads works as well, which is known but roughly
        self.state, self._owed = before, owed
        self.world.flow.remember(before.memory)
        self._change_step(h, 0.5 * h)
        for end in (since - 0.5 * h, since):
            self._go_on(0.5 * h, end, may_halve - 1)
        self._change_step(0.5 * h, h)

    def _change_step(self, was: float, h: float) -> None:
        """Give bodies the speeds, as wholes, that steps of ``h``, s, would have, so that they come to the same when
        forces have changed them: else they would lose or get momentum.
        """
        w, v, pushes = self.world, self.state.v, (self.state.push, self.state.force)
        more = self._scheme.due(v, *pushes, was) - self._scheme.due(v, *pushes, h)
        tn.fade_shape(w.mass, self.state.x, w.first_node, self._loose, np.zeros(w.bodies), self._no_force, more)
        self.state = replace(self.state, v=v + more)

    def _substep(self, h: float, since: float) -> float:
        """Returns how much energy came from nowhere or is gone without a reason, of the kinetic energy."""
        self.seams.tell(since)
        self._courses.tell(since, h)
        if any([term.tell(since) for term in self.world.terms]):
            self._elastic = (NOWHERE, 0.0)
        tangled = self.contacts.tangled()
        if self._balls.any:
            self.state = replace(self.state, v=self._balls.let_go(self.state.x, self.state.v, since, h))
        if tangled:
            self.state = replace(self.state, x=self.contacts.draw_apart(self.state.x, h))
        state = self.state
        if self.world.springs.begin(state.x, h):
            self._elastic = (NOWHERE, 0.0)
        step = self._plan(h, since)
        buried = self._balls.buried(self.contacts)
        self.system.prepare(state.x, step.stretch, step.inertia)
        end = self._minimised(self._predict(step), step, 0, step.quality.iterations)
        x, adrift, v, push, force = self._arrived(end, step)
        gain, most = self._gain(x, v, step)
        gains = gain > most and not end.cut
        short = end.short and (self._rigid & step.touches).any()
        if (gains or short) and not end.done:       # it is not where forces balance yet
            first = step.quality.iterations
            end = self._minimised(end.there, step, first, first + (PATIENT if gains else first))
            x, adrift, v, push, force = self._arrived(end, step)
            gain, most = self._gain(x, v, step)
            gains = gain > most and not end.cut
        arrived = v.copy()
        if end.cut or gains:
            v, push, force = self._stopped(x, v, push, force, step, end.cut)
        for bounce in self._bounces:
            bounce.part(self.world.mass, x, v)
        if self._balls.any:
            self._balls.calm(buried, state.v, v)
            due = self._scheme.due(state.v, state.push, state.force, h)
            x = self._balls.fly(self.contacts, state.x, due, step.flown, h, x, v, push, force)
        for bodies in tangled:              # they are drawn apart, not shot
            mine = np.isin(self.world.node_body, bodies)
            share = self.world.mass[mine] / self.world.mass[mine].sum()
            for moves in (v, push, force):
                moves[mine] = (share @ moves[mine]) * self.world.free[mine, None]
        self._scheme.keep_motion(state, x, v, self._scheme.due(v, push, force, h), step.aim, adrift)
        gain += self._kinetic(v) - self._kinetic(arrived)
        damped = self._resistance(x, step)[1]
        wrong = max(self._steady(x, v, gain, step) - damped, damped - gain if end.cut and step.touches.any() else 0.0)
        usual = max(self._kinetic(state.v), self._kinetic(v)) + 0.5 * UNSEEN ** 2 * float(self.world.mass.sum())
        if self.world.flow.go_on(x, h):
            self._elastic = (NOWHERE, 0.0)
        self.state = replace(state, x=x, v=v, push=push, force=force, memory=self.world.flow.memory)
        return float(wrong / usual)

    def _stopped(self, x: np.ndarray, v: np.ndarray, push: np.ndarray, force: np.ndarray, step: _Step,
                 cut: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Speeds and pushes where what touches, or all where the step was ``cut``, has the speed of this step at ``x``,
        and nothing carried on.

        That is half an acceleration behind the end of the step: where it was not cut, rigid bodies keep their momenta.
        """
        touched, h = step.touches[self.world.node_body], step.aim.h
        if self._balls.any:                 # each for itself
            touched[self._balls.nodes] = self.contacts.reached()[self._balls.nodes]
        stopped, due = touched[:, None] | cut, self._scheme.due(v, push, force, h)
        v = np.where(stopped, (x - self.state.x) / h, v)            # of what is led it is that already
        push, force = np.where(stopped, 0.0, push), np.where(stopped, 0.0, force)
        if not cut:
            self._scheme.keep_moving(np.flatnonzero(self._rigid & step.touches),
                                     self._scheme.due(v, push, force, h) - due, v)
        return v, push, force

    def _minimised(self, place: _Place, step: _Step, first: int, last: int) -> _Move:
        """Where Newton steps from number ``first`` to before ``last`` lead; it is done where that is near enough."""
        most, quality = 0.0, step.quality
        for number in range(first, max(last, PATIENT)):
            if self._stop():
                raise Stopped
            if number:
                self.system.assemble(place.x)
            move = self._newton(place, step, number)
            most = max(most, move.gained)
            little = move.gained <= quality.tolerance * most and not move.limited
            done = move.done or little or np.abs(move.there.x - place.x).max() < SETTLED * self._finest
            if (done or number >= last - 1) and self._friction_is_right(move, step):
                return replace(move, done=done)
            place = move.there
        return move

    def _friction_is_right(self, move: _Move, step: _Step) -> bool:
        """Is the friction of what slides, which a Newton step takes from where it begins, still that where it ends?"""
        x = move.there.x
        return not len(move.friction[-1]) or self.contacts.friction_changes(
            move.friction, x, x - self.state.x, step.contact, HASTE * step.aim.h) < LAGS

    def _arrived(self, end: _Move, step: _Step) -> _Arrival:
        """What a substep that ends there makes of nodes."""
        state = self.state
        x = self._balanced(end.there.x, step.aim) if end.limited else end.there.x
        may_drift = self._loose & ~step.leans
        adrift = self.contacts.adrift(state.x, x, self._meetings()) if may_drift.any() else []
        x = self._turned_as_free(x, step.aim, adrift)
        v, push, force = self._scheme.speeds(state, x, step.aim, step.left, self._courses.speed)
        self._damping.calm_wholes(x, v, self._courses.speed, step.aim.h)
        return x, adrift, v, push, force

    def _steady(self, x: np.ndarray, v: np.ndarray, gain: float, step: _Step) -> float:
        """Take a ``gain``, J, from the changes of shape, in ``v`` (n, 3), m/s, of what spins or touches, short of what
        the frame has lost before.

        Each step feeds these a little where a body swells and shrinks while it spins, or is thrown back: nothing but
        the scheme is the source.  Returns how much of it they do not have, which is taken later in the frame.
        """
        if step.touches.any():              # what contact takes is lost for good
            self._owed = max(self._owed, 0.0)
        self._owed += gain
        if self._owed <= step.rounding:
            return 0.0
        w, calm = self.world, v.copy()
        tn.fade_shape(w.mass, x, w.first_node, self._loose, np.where(self._fed(step), 0.0, 1.0), self._courses.speed,
                      calm)
        has = 0.5 * float(w.mass @ ((v - calm) ** 2).sum(axis=1))
        taken = min(has, self._owed)
        v += (1.0 - np.sqrt(1.0 - taken / max(has, 1e-300))) * (calm - v)
        self._owed -= taken
        return float(self._owed)

    def _kinetic(self, v: np.ndarray) -> float:
        """The energy, J, of speeds ``v`` (n, 3), m/s, that are not given."""
        return 0.5 * float((self.world.mass * self.world.free) @ (v ** 2).sum(axis=1))

    def _fed(self, step: _Step) -> np.ndarray:
        """Which bodies (bodies,) bool touch, or are skins, which are firm one way only, or turn by so much in a substep
        that this feeds their changes of shape.
        """
        touches = step.touches & (self._loose | (not self._courses.any))
        return touches | self._skins | self._loose & ((step.aim.spin ** 2).sum(axis=1) > (FED / step.aim.h) ** 2)

    def _gain(self, x: np.ndarray, v: np.ndarray, step: _Step) -> tuple[float, float]:
        """How much more energy, J, there is at ``x`` and speeds ``v`` than damping leaves of that at the start of the
        substep, and from where that is too much.

        The scheme throws back what a contact stops within one step, and faster than it came.  What known motion works
        against what it leads is not of that.
        """
        touches = bool(step.touches.any())
        if not (touches or self._fed(step).any()):
            return 0.0, np.inf
        state, w = self.state, self.world
        mass, kinetic = w.mass * w.free, [self._kinetic(speed) for speed in (state.v, v)]
        now = self.contacts.energy(x, step.contact) + self.seams.energy(x)
        supplied = float(np.vdot(self._supply, x - state.x))
        before, after = (self._stored(at) + touch - float(np.vdot(mass[:, None] * step.aim.pull, at))
                         for at, touch in ((state.x, self._touch), (x, now)))
        after += self._resistance(x, step)[1]
        most = MOST_GAIN * max(kinetic) + step.rounding if touches else np.inf
        return after + kinetic[1] - before - kinetic[0] - supplied, most

    def _turned_as_free(self, x: np.ndarray, aim: Aim, adrift: list[np.ndarray]) -> np.ndarray:
        """``x`` with bodies that are near nothing turned as far as their spin takes them: solving leaves some of it."""
        w, angle, turned = self.world, np.empty(3), x
        for bodies in adrift:
            if len(bodies) == 1:
                lo, hi = w.first_node[bodies[0]], w.first_node[bodies[0] + 1]
                tn.turned_from(w.mass, x, aim.pose, lo, hi, angle)
                if np.abs(angle).max() > LEAST_TURN:
                    turned = turned.copy() if turned is x else turned
                    tn.turn_back(w.mass, turned, lo, hi, angle)
        return turned

    def _balanced(self, x: np.ndarray, aim: Aim) -> np.ndarray:
        """``x`` with bodies that only touch each other shifted as one, so that they keep their momentum.

        What deflects bodies from each other knows what gives way where, not what weighs how much.
        """
        shifted, groups = x.copy(), self.contacts.adrift(self.state.x, x, self._meetings())
        for bodies in groups:
            mine = np.isin(self.world.node_body, bodies)
            weight = aim.inertia[mine]
            shifted[mine] += weight @ (aim.target[mine] - x[mine]) / weight.sum()
        after = self.contacts.adrift(x, shifted, self._meetings())
        alone = sum(map(len, after)) == sum(map(len, groups)) and all(
            any(np.isin(bodies, before).all() for before in groups) for bodies in after)
        return shifted if alone else x      # else they would come near something

    def _plan(self, h: float, since: float) -> _Step:
        """What a substep of ``h``, s, that ends ``since``, s, after the start is about to do.

        The matrix becomes that of the bodies turned as a whole.
        """
        w, state = self.world, self.state
        self.contacts.begin(state.x)
        self._bounces = self._find_bounces(h)
        turned = self._scheme.turned_on(state, h, np.zeros(w.bodies, bool))
        going = turned[1]
        touches, leans = self.contacts.touches(state.x, going - state.x)
        if self._press(touches, leans, h):
            self._elastic = (NOWHERE, 0.0)
        met = self.contacts.met(state.x, going - state.x, SLOW_STEPS * USUAL_GRAVITY * h * h)
        for bounce in self._bounces:
            met[bounce.node] = True
        met[self._balls.nodes] = True       # those of one scheme give each other what they lose
        if (self._loose & ~touches).any():
            turned = self._scheme.turned_on(state, h, self._loose & ~touches)
        pose, spin = turned[0], turned[-1]
        self.system.assemble(pose)
        fade, beta = self._damping.factors(state.x, state.v, touches & leans, spin)
        slow = np.where(touches & leans, CARRIED_TURN, SLOW_TURN) / h
        fade = fade + STEADY * h * np.maximum((spin ** 2).sum(axis=1) - slow ** 2, 0.0)
        drag = beta[w.node_body] / h
        rounding = ROUNDING * float((w.mass * w.free).sum()) * max((w.gravity * h) ** 2, STILL_SPEED ** 2)
        pull, slope = self._forces.at(state.x, state.v, since, h)
        aim = self._scheme.aim(turned, h, touches, met, pull)
        inertia, target = aim.inertia, aim.target
        if slope.any():                     # air resists what is to come, too
            inertia = aim.inertia + slope / h
            target = target + (slope / h / inertia)[:, None] * (state.x + h * state.v - target)
        flown = pull / (1.0 + h * slope / w.mass)[:, None]
        return _Step(aim, inertia, target, flown, 1.0 + drag, drag, np.exp(-h * fade), self._contact,
                     touches, leans, STILL_SPEED * h, rounding, self._care(touches))

    def _press(self, touches: np.ndarray, leans: np.ndarray, h: float) -> bool:
        """Tell what presses in bodies what touches them; returns whether that makes other forces than before."""
        w, x = self.world, self.state.x
        if not w.pressing.any:
            return False
        thick = self._damping.thickness(x, *self.contacts.pressed(), touches & leans)
        changes = w.pressing.cover(x, touches | ~self._loose)
        return w.pressing.thicken(x, thick, h) or changes

    def _care(self, touches: np.ndarray) -> Quality:
        """How well a substep is computed: better where all is slow and bodies that touch come to rest on each other."""
        if self._rigid.any():       # nothing in them takes up what an inexact step leaves
            most = BOUNCE_TOLERANCE if self._bounces else OF_RIGID
            return replace(self.quality, iterations=PATIENT, tolerance=min(self.quality.tolerance, most))
        if touches.sum() < 2 or (self.state.v ** 2).sum(axis=1).max() > CALM ** 2:
            return self.quality
        return replace(self.quality, iterations=PATIENT, tolerance=CAREFUL * self.quality.tolerance)

    def _predict(self, step: _Step) -> _Place:
        """Where Newton starts.

        Bodies that touch nothing fall, those that touch go on as before, both deflected by contact, if that has
        less energy than staying: friction is so steep at rest that what slides must be seen sliding from the
        start of a step.
        """
        x, aim, body = self.state.x, step.aim, self.world.node_body
        on = aim.going - x + aim.h ** 2 * self._scheme.drift(aim)[body]
        move = np.where(step.touches[body, None], on, aim.target - x) * self.world.free[:, None]
        self._touch = self.contacts.energy(x, step.contact) + self.seams.energy(x)
        stay = self._led(step)
        move += self._courses.lead(x)
        self.contacts.limit(PREDICTOR, x, move, self.system.compliance)
        most = stay.bulk + self._touch_energy(stay.x, step) + step.rounding
        for share in (1.0,) if self._courses.any else (1.0, 0.5):
            ahead = self._place(x + share * move, step)
            if ahead.bulk + self._touch_energy(ahead.x, step) <= most:
                return ahead
        return stay

    def _led(self, step: _Step) -> _Place:
        """Where the step starts, with known motion done and nothing else moved but what is in its way."""
        x = self.state.x
        if self._courses.any:
            move = self._courses.lead(x)
            self.contacts.limit(PREDICTOR, x, move, self.system.compliance)
            x = x + move
        return self._place(x, step)

    def _newton(self, at: _Place, step: _Step, number: int) -> _Move:
        """One Newton step with line search: the last one needed where the energy fell as its quadratic model said."""
        x = at.x
        ptr, node, coef, normal, curve, force, grip = self.contacts.pairs(
            x, step.contact, number >= EVENED and step.quality is not self.quality)
        slope = np.empty_like(x)
        self.system.gradient(x, slope)
        add_inertia_force(step.inertia, x, step.target, slope)
        slope += at.resistance
        ct.add_contact_force(ptr, node, coef, normal, force, slope)
        firm = ct.stiffness_along(normal, curve)
        ct.add_friction_force(ptr, node, coef, normal, grip, x - self.state.x, step.still, slope, firm)
        pairs: Pairs = (ptr, node, coef, firm)
        pairs = self.seams.add_slope(x, slope, pairs)
        for bounce in self._bounces:
            slope += bounce.slope(x - self.state.x)
            pairs = bounce.beside(pairs)
        if self._courses.any:
            push = slope - step.inertia[:, None] * (x - step.target)
            self._supply = push * (1.0 - self.world.free[:, None])
        tolerance = min(step.quality.tolerance, BOUNCE_TOLERANCE if self._bounces else 1.0,
                        HINGE_TOLERANCE if self._hinged else 1.0)
        move, iterations = self.system.solve(x, -slope, step.stretch, step.inertia, pairs,
                                             tolerance)
        if not np.isfinite(move).all():
            move[:] = 0.0
        leap = np.abs(move).max() / max(LEAP * self._finest, np.abs(step.aim.target - self.state.x).max())
        move /= max(leap, 1.0)
        wanted, friction = move.copy(), (ptr, node, coef, normal, grip)
        expected = -0.5 * float(np.vdot(slope, move))
        limited = self.contacts.limit(NEWTON, x, move, self.system.compliance)
        there, gained, halved = self._search(at, move, step, friction)
        if there is at:                      # deflected, it leads uphill: straight on, but shorter, it does not
            self.contacts.shorten(x, wanted)
            there, gained, halved = self._search(at, wanted, step, friction)
        cut, short = limited == HELD_BACK or halved, halved and limited != HELD_BACK
        self.effort = Effort(self.effort.newton + 1, self.effort.linear + iterations, self.effort.cuts + cut)
        as_told = abs(gained - expected) <= step.quality.tolerance * expected + step.rounding
        limited = bool(limited) or halved or leap > 1.0
        slid = ct.friction_left(*friction, x - self.state.x, there.x - self.state.x, SLIDES * step.aim.h)
        return _Move(there, friction, gained, limited, cut, short, as_told and not limited and slid < SLID)

    def _search(self, at: _Place, move: np.ndarray, step: _Step,
                friction: tuple[np.ndarray, ...]) -> tuple[_Place, float, bool]:
        """Halve ``move`` until the whole energy, friction included, does not rise.

        Returns where that leads, the energy gained, J, and whether it was halved.
        """
        before = at.bulk + self._touch_energy(at.x, step) + self._friction(at.x, friction, step)
        share = 1.0
        for halvings in range(MOST_HALVINGS):
            there = self._place(at.x + share * move, step)
            after = there.bulk + self._touch_energy(there.x, step) + self._friction(there.x, friction, step)
            if after <= before + step.rounding:
                return there, before - after, halvings > 0
            share *= 0.5
        return at, 0.0, True

    def _place(self, x: np.ndarray, step: _Step) -> _Place:
        """What inertia, elasticity and damping make of positions ``x``."""
        resistance, damped = self._resistance(x, step)
        bulk = inertia_energy(step.inertia, x, step.target) + self._stored(x) + damped
        return _Place(x, bulk if np.isfinite(bulk) else np.inf, resistance)

    def _resistance(self, x: np.ndarray, step: _Step) -> tuple[np.ndarray, float]:
        """The force (n, 3), N, of damping at ``x``, and its energy: half of what it takes, J."""
        if not step.drag.any():
            return self._no_force, 0.0
        w, turns, late = self.world, self._loose, self._late_motion
        tn.without_motion(w.mass, x, step.aim.pose, w.first_node, turns, late)
        resistance = self.system.product(step.drag, self._no_inertia, late)
        damped = 0.5 * float(np.vdot(late, resistance))
        tn.without_torque(w.mass, x, w.first_node, turns, resistance)
        return resistance, damped

    def _stored(self, x: np.ndarray) -> float:
        """The elastic energy, J, at ``x``, kept from one substep to the next, which starts there."""
        if self._elastic[0] is not x:
            self._elastic = (x, self.system.energy(x))
        return self._elastic[1]

    def _touch_energy(self, x: np.ndarray, step: _Step) -> float:
        energy = self.contacts.energy(x, step.contact) + self.seams.energy(x)
        return energy + sum(bounce.energy(x - self.state.x) for bounce in self._bounces)

    def _friction(self, x: np.ndarray, friction: tuple[np.ndarray, ...], step: _Step) -> float:
        return ct.friction_energy(*friction, x - self.state.x, step.still)

    def _meetings(self) -> list[tuple[int, int]]:
        return [*self.seams.bodies, *(bounce.pieces for bounce in self._bounces)]

    def _find_bounces(self, h: float) -> list[Bounce]:
        if (self.world.bounce < 0.0).all() and not self.world.any_rigid:
            return []
        return find_bounces(self.world, self.contacts, self.state.x, self.state.v, h)
