"""One run, frame by frame, each in some substeps; see solver.newton for what these minimise."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import numpy as np

from rubberquince.errors import Stopped
from rubberquince.kernels import turning as tn
from rubberquince.solver.balls import Balls
from rubberquince.solver.bounce import Bounces
from rubberquince.solver.care import Care
from rubberquince.solver.contacts import Contacts, OutgrownError
from rubberquince.solver.courses import Courses
from rubberquince.solver.damping import Damping
from rubberquince.solver.energy import Energy
from rubberquince.solver.firmness import Firmness, contact_firmness
from rubberquince.solver.forces import Forces
from rubberquince.solver.meetings import find_bounces
from rubberquince.solver.newton import PATIENT, Effort, Move, Newton, Step
from rubberquince.solver.overlaps import parted
from rubberquince.solver.scheme import Aim, Scheme
from rubberquince.solver.seams import Seams
from rubberquince.solver.specs import (
    DOWN,
    USUAL_GRAVITY,
    AnyMaterial,
    Course,
    ForceSpec,
    Goal,
    Inflation,
    Material,
    RunSpec,
    Touch,
    alike,
)
from rubberquince.solver.state import State
from rubberquince.solver.system import ElasticSystem
from rubberquince.solver.world import RIGID, World

STILL_SPEED = 1e-4          # m/s: slower sliding counts as sticking
USUAL_FPS = 24.0            # fewer frames a second have more substeps each: a step never gets longer
RESTS = 4.0                 # steps of gravity: what gains less speed than these rests or rolls
SLOW_STEPS = 1.0            # of gravity: what nears or leaves another by less than these gain is at rest on it
ROUNDING = 1e-7             # of the energy a step of gravity brings: a rise below is not one
LEAST_TURN = 1e-6           # rad: less is rounding
FALSE_ENERGY = 0.02         # of the kinetic energy: a substep that brings more is taken in halves
STEADY = 4.0                # of ω²h, 1/s: so changes of shape fade where a body spins, or each step would feed them
SLOW_TURN, CARRIED_TURN = 0.05, 0.2     # rad, in a substep: what spins more slowly, free or carried, needs none
STIFFEST = 5.0              # swings in a substep: a ball of 5 cm that is stiffer sinks in by less than a micrometre


# Positions, m, the bodies that are adrift, speeds, m/s, and what pushes, evened out and now, m/s².
_Arrival = tuple[np.ndarray, list[np.ndarray], np.ndarray, np.ndarray, np.ndarray]


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
        self.contacts.sew(self.seams.points)
        self._stop, self._tell = stop, tell
        self.quality = spec.quality
        self.fps = spec.fps
        self.substeps = max(spec.quality.substeps, round(spec.quality.substeps * USUAL_FPS / spec.fps))
        rest = self.world.start
        self.state = State.at_rest(parted(self.world), len(self.world.flow.memory), self.world.bodies)
        self._loose = self.world.turns
        self._rigid = self._loose & (self.world.firm[: self.world.bodies] == RIGID)
        self._solid = self._loose & np.array([carrier.filled for carrier in self.world.carriers], bool)
        self._scheme = Scheme(self.world, self._loose, min(spec.quality.ringing, USUAL_FPS / spec.fps))
        self._damping = Damping(self.world, self.system, self._loose, pitches)
        self._care = Care(self.world, self._damping, spec.quality, 1.0 / (self.fps * self.substeps))
        self._forces, self._courses = Forces(self.world), Courses(self.world)
        self._newton = Newton(self.world, self.system, self.contacts, self.seams, self._courses, stop)
        self._energy = Energy(self.world, self._newton, self.contacts, self.seams, self._courses)
        self._balls = Balls(self.world)
        self._firmness = Firmness(*np.zeros((3, 0)))        # of the contact of points in this frame
        self._nothing = np.zeros_like(rest)
        self.effort = Effort()
        self._materials = list(self.world.materials)
        for body in np.flatnonzero(self._care.hard(1.0 / (self.fps * self.substeps))):
            self._stiffen(int(body))

    @property
    def frequencies(self) -> np.ndarray:
        """The first wobble of each solid, (solids,) Hz."""
        return self._damping.frequencies

    # --- values that change while it runs -------------------------------------------------------------

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """Change what a body is made of at once, without a new world."""
        if not alike(material, self._materials[body]):
            self._materials[body] = material
            self._damping.set_material(body, material)
            self._stiffen(body)

    def _stiffen(self, body: int) -> None:
        """Compute with what a body is made of, no stiffer than a substep can tell from what does not deform."""
        material, most = self._materials[body], STIFFEST * self.fps * self.substeps
        excess = self._damping.struck[body] / most
        if excess > 1.0 and self._solid[body] and isinstance(material, Material) and material.dents is None:
            material = replace(material, stiffness=material.stiffness / excess ** 2)
        self.world.set_material(body, material)
        self._newton.forget()
        self.system.stiffen()

    def set_inflation(self, body: int, inflation: Inflation) -> None:
        """Change what presses in a body."""
        self.world.set_inflation(body, inflation)
        self._newton.forget()

    def set_goal(self, body: int, goal: Goal) -> None:
        """Change where a body that has a goal is drawn to, and how strongly."""
        self.world.goals.set_goal(body, goal)
        self._damping.set_calm(body, goal.calms)
        self._newton.forget()
        self.system.stiffen()

    def set_rest(self, body: int, course: Course) -> None:
        """Change what a body that has a rest course wants to be in time."""
        self.world.set_rest(body, course)
        self._newton.forget()

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
            self.contacts.find_out()

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
        self._newton.forget()
        self.contacts.forget()

    # --- stepping -------------------------------------------------------------------------------------

    def skin(self) -> np.ndarray:
        """Positions (points, 3), m, of all moving skin points, without studs."""
        skin = self.world.skin
        return self.contacts.all_skins(self.state.x)[: skin.moving][skin.shown]

    def deepest_contact(self) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        return self.contacts.deepest(self.state.x)

    def frame(self, since: float = np.inf) -> Effort:
        """Go on by one frame, which begins ``since``, s, after the start; unless told, all that grows has grown.

        Raises Stopped with the state as it was when asked to stop.
        """
        self.effort = self._newton.effort = Effort()
        if not len(self.world.mass):
            return self.effort
        before, again = self.state, 0
        while not self._went_on(since, again):
            again += 1
            self._take_back(before)
        self.effort = self._newton.effort
        return self.effort

    def _went_on(self, since: float, again: int) -> bool:
        """Take a frame that was taken ``again`` times before; False if it has to be once more."""
        before = self.state
        try:
            self._take_frame(since, again)
        except OutgrownError:
            return False
        except Stopped:
            self._take_back(before)
            raise
        return True

    def _take_back(self, before: State) -> None:
        self.state = before
        self.world.flow.remember(before.memory)

    def _take_frame(self, since: float, again: int) -> None:
        before, self._energy.owed = self.state, 0.0
        if self._balls.any:
            self.state = self._balls.gone_back(before, self.contacts.all_skins(before.x), since)
        h = 1.0 / (self.fps * self.substeps)
        x, v = self.state.x, self.state.v
        self.contacts.begin_frame(x, v / self.fps, again)
        self._firmness = contact_firmness(self.world, h).of(self.contacts.near.number)
        self._forces.begin_frame(x, self.contacts.all_skins(x))
        for k in range(self.substeps):
            self._tell(k / self.substeps)
            self._go_on(h, since + (k + 1) * h)

    def _go_on(self, h: float, since: float) -> None:
        """Take a substep of ``h``, s, that ends ``since``, s, after the start; in two halves if it would make energy
        that nothing can take, or lose some for no reason.
        """
        before, owed = self.state, self._energy.owed
        if self._substep(h, since) <= FALSE_ENERGY or self._courses.any:
            return                          # what leads works as well, which is known but roughly
        self.state, self._energy.owed = before, owed
        self.world.flow.remember(before.memory)
        self._change_step(h, 0.5 * h)
        for end in (since - 0.5 * h, since):
            self._substep(0.5 * h, end)
        self._change_step(0.5 * h, h)

    def _change_step(self, was: float, h: float) -> None:
        """Give bodies the speeds, as wholes, that steps of ``h``, s, would have, so that they come to the same when
        forces have changed them: else they would lose or get momentum.
        """
        w, v, pushes = self.world, self.state.v, (self.state.push, self.state.force)
        more = self._scheme.due(v, *pushes, was) - self._scheme.due(v, *pushes, h)
        tn.fade_shape(w.mass, self.state.x, w.first_node, self._loose, np.zeros(w.bodies), self._nothing, more)
        self.state = replace(self.state, v=v + more)

    def _substep(self, h: float, since: float) -> float:
        """Returns how much energy came from nowhere or is gone without a reason, of the kinetic energy."""
        self.seams.tell(since)
        self._courses.tell(since, h)
        if any([term.tell(since) for term in self.world.terms]):
            self._newton.forget()
        tangled = self.contacts.tangled()
        if self._balls.any:
            self.state = replace(self.state, v=self._balls.let_go(self.state.x, self.state.v, since, h))
        state = self.state
        if self.world.springs.begin(state.x, h):
            self._newton.forget()
        step = self._plan(h, since)
        buried = self._balls.buried(self.contacts)
        self.system.prepare(state.x, step.stretch, step.inertia)
        end = self._newton.minimised(self._newton.predict(step), step, 0, step.quality.iterations)
        x, adrift, v, push, force = self._arrived(end, step)
        hard, fast = self._care.hard(h), self._care.fast(h)
        if (fast & ~step.touches).any() and self.contacts.energy(x, step.contact) > 0.0:
            # what comes down in this step touches, too
            step = replace(step, touches=step.touches | fast & self.contacts.touches(x, self._nothing)[0])
        gain, most = self._energy.gain(state, x, v, step)
        gains = not end.cut and self._leaps(gain, most, x, v, push, force, h)
        short = end.short and ((self._rigid | hard) & step.touches).any()
        if (gains or short) and not end.done:       # it is not where forces balance yet
            first = step.quality.iterations
            end = self._newton.minimised(end.there, step, first, first + (PATIENT if gains else first))
            x, adrift, v, push, force = self._arrived(end, step)
            gain, most = self._energy.gain(state, x, v, step)
            gains = not end.cut and self._leaps(gain, most, x, v, push, force, h)
        arrived = v.copy()
        if end.cut or gains:
            v, push, force = self._stopped(x, v, push, force, step, end.cut)
        if step.bounces:
            step.bounces.part(x, v)
        if self._balls.any:
            self._balls.calm(buried, state.v, v)
            due = self._scheme.due(state.v, state.push, state.force, h)
            x = self._balls.fly(self.contacts, state.x, due, step.flown, h, x, v, push, force)
        for bodies, stands in tangled:      # they are drawn apart, not shot
            self._go_as_one(bodies, stands, v, push, force)
        self._scheme.keep_motion(state, x, v, self._scheme.due(v, push, force, h), step.aim, adrift)
        gain += self._energy.kinetic(v) - self._energy.kinetic(arrived)
        wrong = self._energy.settle(state, x, v, gain, step, end.cut)
        if self.world.flow.go_on(x, h):
            self._newton.forget()
        self.state = replace(state, x=x, v=v, push=push, force=force, memory=self.world.flow.memory)
        return wrong

    def _go_as_one(self, bodies: np.ndarray, stands: bool, *moves: np.ndarray) -> None:
        """Let all nodes of ``bodies`` have the mean of their ``moves`` (n, 3), of those that nothing moves if there are
        some, and none if something else ``stands``.
        """
        w, mine = self.world, np.isin(self.world.node_body, bodies)
        held = w.free[mine] == 0.0
        share = np.where(held | (not held.any()), w.mass[mine], 0.0)
        share *= 0.0 if stands else 1.0 / share.sum()
        for move in moves:
            move[mine] = np.where(held[:, None], move[mine], share @ move[mine])

    def _leaps(self, gain: float, most: float, x: np.ndarray, v: np.ndarray, push: np.ndarray, force: np.ndarray,
               h: float) -> bool:
        """Is a ``gain`` of energy, J, more than the ``most`` there may be, with what bodies come to?

        Of what bends in more than a substep, but is stretched within one, what is stored in this counts as there, too.
        """
        hard, energy = self._care.hard(h), self._energy.kinetic
        if gain + self._thrown(hard, x, v, push, force, h) > most:
            return True
        limp = self._care.fast(h) & ~hard
        stored = abs(self._newton.stored(x) - self._newton.stored(self.state.x)) if limp.any() else 0.0
        allowed = max(energy(self.state.v), energy(v)) + stored
        return most < np.inf and gain + self._thrown(limp, x, v, push, force, h) > allowed

    def _thrown(self, bodies: np.ndarray, x: np.ndarray, v: np.ndarray, push: np.ndarray, force: np.ndarray,
                h: float) -> float:
        """How much more energy, J, ``bodies`` (bodies,) bool come to as wholes than speeds ``v`` say, more than before.

        What a contact pushes with in one step speeds them up in the next.  What is so slow that it rests is left out.
        """
        if not bodies.any():
            return 0.0
        w, state, more = self.world, self.state, []
        mass = w.mass * bodies[w.node_body]
        for at, speeds, due in ((state.x, state.v, self._scheme.due(state.v, state.push, state.force, h)),
                                (x, v, self._scheme.due(v, push, force, h))):
            for whole in (due.copy(), speeds.copy()):
                tn.fade_shape(w.mass, at, w.first_node, bodies, np.zeros(w.bodies), self._nothing, whole)
                more.append(0.5 * float(mass @ (whole ** 2).sum(axis=1)))
        rests = 0.5 * float(mass.sum()) * (RESTS * USUAL_GRAVITY * h) ** 2
        return max(more[2] - more[3] - more[0] + more[1] - rests, 0.0)

    def _stopped(self, x: np.ndarray, v: np.ndarray, push: np.ndarray, force: np.ndarray, step: Step,
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
            self._scheme.keep_moving(np.flatnonzero((self._rigid | self._care.hard(h)) & step.touches),
                                     self._scheme.due(v, push, force, h) - due, v)
        return v, push, force

    def _arrived(self, end: Move, step: Step) -> _Arrival:
        """What a substep that ends there makes of nodes."""
        state = self.state
        x = self._balanced(end.there.x, step) if end.limited else end.there.x
        may_drift = self._loose & ~step.leans
        adrift = self.contacts.adrift(state.x, x, self._meetings(step)) if may_drift.any() else []
        x = self._turned_as_free(x, step.aim, adrift)
        v, push, force = self._scheme.speeds(state, x, step.aim, step.left, self._courses.speed)
        self._damping.calm_wholes(x, v, self._courses.speed, step.aim.h)
        return x, adrift, v, push, force

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

    def _balanced(self, x: np.ndarray, step: Step) -> np.ndarray:
        """``x`` with bodies that only touch each other shifted as one, so that they keep their momentum.

        What deflects bodies from each other knows what gives way where, not what weighs how much.
        """
        shifted, aim, meet = x.copy(), step.aim, self._meetings(step)
        groups = self.contacts.adrift(self.state.x, x, meet)
        for bodies in groups:
            mine = np.isin(self.world.node_body, bodies)
            weight = aim.inertia[mine]
            shifted[mine] += weight @ (aim.target[mine] - x[mine]) / weight.sum()
        after = self.contacts.adrift(x, shifted, meet)
        alone = sum(map(len, after)) == sum(map(len, groups)) and all(
            any(np.isin(bodies, before).all() for before in groups) for bodies in after)
        return shifted if alone else x      # else they would come near something

    def _plan(self, h: float, since: float) -> Step:
        """What a substep of ``h``, s, that ends ``since``, s, after the start is about to do.

        The matrix becomes that of the bodies turned as a whole.
        """
        w, state = self.world, self.state
        self.contacts.begin(state.x)
        bounces = self._find_bounces(h)
        turned = self._scheme.turned_on(state, h, np.zeros(w.bodies, bool))
        going = turned[1]
        touches, leans = self.contacts.touches(state.x, going - state.x)
        contact = self.contacts.squeezed(self._firmness)
        if self._press(touches, leans, h):
            self._newton.forget()
        met = self.contacts.met(state.x, going - state.x, SLOW_STEPS * USUAL_GRAVITY * h * h, self._care.firm(h))
        met[bounces.node] = True
        met |= (self._care.hard(h) & (np.bincount(w.node_body, met, w.bodies) > 0.0))[w.node_body]
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
        ahead = aim.going + h ** 2 * self._scheme.drift(aim)[w.node_body]
        quality = self._care.quality(touches, bool(bounces), state.v, h)
        return Step(state.x, ahead, aim, inertia, target, flown, 1.0 + drag, drag, np.exp(-h * fade), contact,
                    touches, leans, self._care.hard(h), bounces, STILL_SPEED * h, rounding,
                    quality, quality.iterations > self.quality.iterations)

    def _press(self, touches: np.ndarray, leans: np.ndarray, h: float) -> bool:
        """Tell what presses in bodies what touches them; returns whether that makes other forces than before."""
        w, x = self.world, self.state.x
        if not w.pressing.any:
            return False
        thick = self._damping.thickness(x, *self.contacts.pressed(), touches & leans)
        changes = w.pressing.cover(x, touches | ~self._loose)
        return w.pressing.thicken(x, thick, h) or changes

    def _meetings(self, step: Step) -> list[tuple[int, int]]:
        return [*self.seams.bodies, *step.bounces.pieces]

    def _find_bounces(self, h: float) -> Bounces:
        drawn = self.contacts.draws(self.state.x, h)
        own, light = self._care.throws(h)
        if not ((self.world.bounce >= 0.0).any() or self.world.any_rigid or (own >= 0.0).any()):
            return Bounces([], drawn)
        return Bounces(find_bounces(self.world, self.contacts, self.state.x, self.state.v, own, light, h), drawn)
