"""The Newton steps of one substep, which minimise inertia + elastic + damping + contact + friction."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rubberquince.errors import Stopped
from rubberquince.kernels import contact as ct
from rubberquince.kernels import turning as tn
from rubberquince.kernels.limit import HELD_BACK, NEWTON, PREDICTOR
from rubberquince.kernels.motion import add_inertia_force, inertia_energy
from rubberquince.solver.bounce import Bounces
from rubberquince.solver.contacts import NOWHERE, Contacts
from rubberquince.solver.courses import Courses
from rubberquince.solver.scheme import Aim
from rubberquince.solver.seams import Seams
from rubberquince.solver.specs import Quality
from rubberquince.solver.system import ElasticSystem, Pairs
from rubberquince.solver.world import World

MOST_HALVINGS = 12
BOUNCE_TOLERANCE = 1e-3     # where bodies are thrown back: what is left is lost momentum
HINGE_TOLERANCE = 0.02      # of it, where a firm body swings from what is held: it resists that so much less than
                            # bends; and for pellets, whose momenta nothing else keeps
LEAP = 2.0                  # cells a Newton step may go, if the free motion goes less far: farther is never right
SLIDES, SLID = 5e-3, 0.02     # m/s, from where friction has to be right, and what part a Newton step may change of how
                            # far things slide
HASTE = 0.05                # m/s: what slides faster must not have
LAGS = 0.1                  # of the friction of what slides, may be that of a Newton step before: else a landing takes
                            # more speed than friction can
EVENED = 2                  # Newton step of such a substep, from which on friction is evened out
SETTLED = 1e-5              # of a cell: a Newton step smaller than this is the last of its substep
BACK = 0.1                  # of a Newton step: one that ends so near to where an earlier one began is the last, as the
                            # choice of what touches may go in circles
PATIENT = 10                # Newton steps, where more than usual may help


@dataclass(frozen=True)
class Effort:
    """What a frame took: Newton steps, conjugate gradient iterations, and how often a body was held back."""

    newton: int = 0
    linear: int = 0
    cuts: int = 0


@dataclass(frozen=True, eq=False)
class Step:
    """One substep: inertia·|x - target|²/2 and the damping drag·|x - pose|²/2 in the metric of K.

    start : (n, 3) m, where it begins, and ``ahead``, where what touches something goes if that gives way.
    inertia : (n,) N/m and target : (n, 3) m, those of the aim with the resistance of air in them; flown : (n, 3) m/s²,
    what speeds up that which nothing touches, with it.
    drag : (n,), ``stretch`` is 1 + drag.  left : (bodies,), of changes of shape, after it.  contact : (points,) N/m.
    touches, leans : (bodies,) bool, those near something, and those that something still carries.
    hard : (bodies,) bool, those whose impacts are over within it.
    bounces : those of bodies that are thrown back.  quality : how well it is computed; ``evens``: friction, too.
    """

    start: np.ndarray
    ahead: np.ndarray
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
    hard: np.ndarray
    bounces: Bounces
    still: float
    rounding: float
    quality: Quality
    evens: bool


@dataclass(frozen=True, eq=False)
class Place:
    """Positions (n, 3) m that were tried, their energy short of contact, J, and the force of damping there, N."""

    x: np.ndarray
    bulk: float
    resistance: np.ndarray


@dataclass(frozen=True, eq=False)
class Move:
    """Where a Newton step led; whether it was limited, or cut so that its end is not that of the equations (``short``
    if that was the line search); and whether another one would change nothing that counts.  gained : J;
    friction : as it was taken to be, see Contacts.friction_changes.
    """

    there: Place
    friction: tuple[np.ndarray, ...]
    gained: float
    limited: bool
    cut: bool
    short: bool
    done: bool


class Newton:
    """Finds where the forces of a substep balance.

    effort : what that took.  touch : J, energy of contact at the start of the substep.
    supply : (n, 3) N, what the forces on held nodes are that known motion works against.
    """

    def __init__(self, world: World, system: ElasticSystem, contacts: Contacts, seams: Seams, courses: Courses,
                 stop: Callable[[], bool]) -> None:
        self._world, self._system, self._contacts, self._seams = world, system, contacts, seams
        self._courses, self._stop = courses, stop
        self._no_force, self._no_inertia = np.zeros_like(world.start), np.zeros(len(world.start))
        self._late_motion = np.zeros(world.start.shape, np.float32)
        self._hinged = bool(world.of_balls.any()) or any(
            carrier.filled and carrier.held.any() and not carrier.held.all() for carrier in world.carriers)
        self._finest = min((carrier.size for carrier in world.carriers if not carrier.held.all()), default=1.0)
        self.effort, self.touch, self.supply = Effort(), 0.0, np.zeros_like(world.start)
        self.forget()

    def forget(self) -> None:
        """Elastic energy is not what it was: something it depends on, besides positions, has changed."""
        self._elastic = (NOWHERE, 0.0)      # the last positions and their elastic energy, J

    def minimised(self, place: Place, step: Step, first: int, last: int) -> Move:
        """Where Newton steps from number ``first`` to before ``last`` lead; it is done where that is near enough."""
        most, quality, passed = 0.0, step.quality, [place.x]
        for number in range(first, max(last, PATIENT)):
            if self._stop():
                raise Stopped
            if number or step.hard.any():   # damping goes by the matrix, so it is another one now
                self._system.assemble(place.x)
                place = self._place(place.x, step)
            move = self._newton(place, step, number)
            most = max(most, move.gained)
            little = move.gained <= quality.tolerance * most and not move.limited
            went = np.abs(move.there.x - place.x).max()
            done = (move.done or little or went < SETTLED * self._finest
                    or any(np.abs(move.there.x - x).max() < BACK * went for x in passed[:-1]))
            if (done or number >= last - 1) and self._friction_is_right(move, step):
                return replace(move, done=done)
            place = move.there
            passed.append(place.x)
        return move

    def _friction_is_right(self, move: Move, step: Step) -> bool:
        """Is the friction of what slides, which a Newton step takes from where it begins, still that where it ends?"""
        x = move.there.x
        return not len(move.friction[-1]) or self._contacts.friction_changes(
            move.friction, x, x - step.start, step.contact, HASTE * step.aim.h) < LAGS

    def predict(self, step: Step) -> Place:
        """Where Newton starts.

        Bodies that touch nothing fall, those that touch go on as before, both deflected by contact, if that has
        less energy than staying: friction is so steep at rest that what slides must be seen sliding from the
        start of a step.
        """
        x, aim, body = step.start, step.aim, self._world.node_body
        move = np.where(step.touches[body, None], step.ahead - x, aim.target - x) * self._world.free[:, None]
        self.touch = self._contacts.energy(x, step.contact) + self._seams.energy(x)
        stay = self._led(step)
        move += self._courses.lead(x)
        self._contacts.limit(PREDICTOR, x, move, self._system.compliance)
        most = stay.bulk + self._touch_energy(stay.x, step) + step.rounding
        for share in (1.0,) if self._courses.any else (1.0, 0.5):
            part = share * move
            tn.along_arcs(self._world.mass, x, self._world.first_node, step.hard, part)
            ahead = self._place(x + part, step)
            if ahead.bulk + self._touch_energy(ahead.x, step) <= most:
                return ahead
        return stay

    def _led(self, step: Step) -> Place:
        """Where the step starts, with known motion done and nothing else moved but what is in its way."""
        x = step.start
        if self._courses.any:
            move = self._courses.lead(x)
            self._contacts.limit(PREDICTOR, x, move, self._system.compliance)
            x = x + move
        return self._place(x, step)

    def _newton(self, at: Place, step: Step, number: int) -> Move:
        """One Newton step with line search: the last one needed where the energy fell as its quadratic model said."""
        x = at.x
        contacts, again = self._contacts, number >= EVENED
        ptr, node, coef, normal, curve, force, grip = (
            contacts.evened_pairs(x, step.contact, again) if step.evens else contacts.pairs(x, step.contact))
        slope = np.empty_like(x)
        self._system.gradient(x, slope)
        add_inertia_force(step.inertia, x, step.target, slope)
        slope += at.resistance
        ct.add_contact_force(ptr, node, coef, normal, force, slope)
        firm = ct.stiffness_along(normal, curve)
        ct.add_friction_force(ptr, node, coef, normal, grip, x - step.start, step.still, slope, firm, number == 0)
        pairs: Pairs = (ptr, node, coef, firm)
        pairs = self._seams.add_slope(x, slope, pairs)
        if step.bounces:
            step.bounces.add_slope(x - step.start, slope)
            pairs = step.bounces.beside(pairs)
        if self._courses.any:
            push = slope - step.inertia[:, None] * (x - step.target)
            self.supply = push * (1.0 - self._world.free[:, None])
        tolerance = min(step.quality.tolerance, BOUNCE_TOLERANCE if step.bounces else 1.0,
                        HINGE_TOLERANCE if self._hinged else 1.0)
        move, iterations = self._system.solve(x, -slope, step.stretch, step.inertia, pairs,
                                             tolerance)
        if not np.isfinite(move).all():
            move[:] = 0.0
        tn.along_arcs(self._world.mass, x, self._world.first_node, step.hard, move)
        leap = np.abs(move).max() / max(LEAP * self._finest, np.abs(step.aim.target - step.start).max())
        move /= max(leap, 1.0)
        wanted, friction = move.copy(), (ptr, node, coef, normal, grip)
        expected = -0.5 * float(np.vdot(slope, move))
        limited = self._contacts.limit(NEWTON, x, move, self._system.compliance)
        there, gained, halved = self._search(at, move, step, friction)
        if there is at:                      # deflected, it leads uphill: straight on, but shorter, it does not
            self._contacts.shorten(x, wanted)
            there, gained, halved = self._search(at, wanted, step, friction)
        cut, short = limited == HELD_BACK or halved, halved and limited != HELD_BACK
        self.effort = Effort(self.effort.newton + 1, self.effort.linear + iterations, self.effort.cuts + cut)
        as_told = abs(gained - expected) <= step.quality.tolerance * expected + step.rounding
        limited = bool(limited) or halved or leap > 1.0
        slid = ct.friction_left(*friction, x - step.start, there.x - step.start, SLIDES * step.aim.h)
        return Move(there, friction, gained, limited, cut, short, as_told and not limited and slid < SLID)

    def _search(self, at: Place, move: np.ndarray, step: Step,
                friction: tuple[np.ndarray, ...]) -> tuple[Place, float, bool]:
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

    def _place(self, x: np.ndarray, step: Step) -> Place:
        """What inertia, elasticity and damping make of positions ``x``."""
        resistance, damped = self.resistance(x, step)
        bulk = inertia_energy(step.inertia, x, step.target) + self.stored(x) + damped
        return Place(x, bulk if np.isfinite(bulk) else np.inf, resistance)

    def resistance(self, x: np.ndarray, step: Step) -> tuple[np.ndarray, float]:
        """The force (n, 3), N, of damping at ``x``, and its energy: half of what it takes, J."""
        if not step.drag.any():
            return self._no_force, 0.0
        w, turns, late = self._world, self._world.turns, self._late_motion
        tn.without_motion(w.mass, x, step.aim.pose, w.first_node, turns, late)
        resistance = self._system.product(step.drag, self._no_inertia, late)
        damped = 0.5 * float(np.vdot(late, resistance))
        tn.without_torque(w.mass, x, w.first_node, turns, resistance)
        return resistance, damped

    def stored(self, x: np.ndarray) -> float:
        """The elastic energy, J, at ``x``, kept from one substep to the next, which starts there."""
        if self._elastic[0] is not x:
            self._elastic = (x, self._system.energy(x))
        return self._elastic[1]

    def _touch_energy(self, x: np.ndarray, step: Step) -> float:
        energy = self._contacts.energy(x, step.contact) + self._seams.energy(x)
        return energy + step.bounces.energy(x - step.start)

    def _friction(self, x: np.ndarray, friction: tuple[np.ndarray, ...], step: Step) -> float:
        return ct.friction_energy(*friction, x - step.start, step.still)
