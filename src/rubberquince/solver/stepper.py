"""One run, frame by frame: each substep minimises inertia + elastic + damping + contact + friction."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rubberquince.errors import Stopped
from rubberquince.kernels import contact as ct
from rubberquince.kernels import turning as tn
from rubberquince.kernels.limit import HELD_BACK, NEWTON, PREDICTOR
from rubberquince.kernels.motion import add_inertia_force, inertia_energy
from rubberquince.solver.bounce import Bounce, find_bounces
from rubberquince.solver.contacts import NOWHERE, Contacts
from rubberquince.solver.frequency import damping_time, standing_frequency
from rubberquince.solver.specs import Material, RunSpec, Touch
from rubberquince.solver.state import State
from rubberquince.solver.system import ElasticSystem, Pairs
from rubberquince.solver.world import World

STILL_SPEED = 1e-3          # m/s: slower sliding counts as sticking
CONTACT_INERTIA = 5.0       # contact stiffness in units of mass / step²
CONTACT_LOAD = 4.0          # and in units of the body's own weight pressure over the gap
USUAL_FPS = 24.0            # fewer frames a second have more substeps each: a step never gets longer
USUAL_STIFFNESS, USUAL_DENSITY = 1e4, 1e3     # Pa and kg/m³, at which pitches are found
MOST_HALVINGS = 12
ROUNDING = 1e-7             # of the energy a step of gravity brings: a rise below is not one
BOUNCE_TOLERANCE = 1e-3     # of the linear solver, where bodies are thrown back: what is left is lost momentum
LEAP = 2.0                  # cells a Newton step may go, if the free motion goes less far: farther is never right
LEAST_TURN = 1e-6           # rad: less is rounding
SETTLED = 1e-5              # of a cell: a Newton step smaller than this is the last of its substep


@dataclass(frozen=True)
class Effort:
    """What a frame took: Newton steps, conjugate gradient iterations, and how often a body was held back."""

    newton: int = 0
    linear: int = 0
    cuts: int = 0


@dataclass(frozen=True, eq=False)
class _Weights:
    """What the substeps of a frame weigh motion with, by nodes (n,) and by skin points; see kernels.linear."""

    rate: float
    inertia: np.ndarray
    stretch: np.ndarray
    drag: np.ndarray
    contact: np.ndarray


@dataclass(frozen=True, eq=False)
class _Scheme:
    """One substep: inertia·|x - target|²/2, the damping velocity rate·(x - origin), and going on as before.

    touches, leans : (bodies,) bool, those near something, and near something still, at its start.  ``pose`` (n, 3) m is
    where bodies are that go on and turn as a whole, ``spin`` (bodies, 3) rad/s how they turn.
    """

    weights: _Weights
    lasting: bool
    target: np.ndarray
    steady: np.ndarray
    origin: np.ndarray
    touches: np.ndarray
    leans: np.ndarray
    pose: np.ndarray
    spin: np.ndarray
    still: float
    rounding: float


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
                 tell: Callable[[float], None] = lambda share: None) -> None:
        self.world = World(spec)
        self.system = ElasticSystem(self.world)
        self.contacts = Contacts(self.world)
        self._stop, self._tell = stop, tell
        self.quality = spec.quality
        self.fps = spec.fps
        self.substeps = max(spec.quality.substeps, round(spec.quality.substeps * USUAL_FPS / spec.fps))
        rest = self.world.start
        self.state = State.at_rest(rest)
        self._elastic = (NOWHERE, 0.0)      # the last positions and their elastic energy, J
        self._late_motion = np.zeros(rest.shape, np.float32)
        held = np.bincount(self.world.node_body, self.world.free == 0.0, self.world.solids)
        self._loose = held == 0.0           # bodies with no node held: they turn as a whole
        self._bounces: list[Bounce] = []
        self.frequencies = np.zeros(len(spec.solids))
        self._pitches: dict[tuple[int, float], float] = {}      # Hz, of a body and Poisson's ratio, of a usual material
        self._weights: dict[bool, _Weights] = {}        # by whether the wobble lasts
        self._no_force, self._no_inertia = np.zeros_like(rest), np.zeros(len(rest))
        self.effort = Effort()
        self._finest = min((s.lattice.cell for s in spec.solids), default=1.0)
        for body in range(len(spec.solids)):
            self._set_damping(body)

    # --- values that change while it runs -------------------------------------------------------------

    def set_material(self, body: int, material: Material) -> None:
        """Change a solid's material at once, without a new world."""
        if material == self.world.materials[body]:
            return
        self.world.set_material(body, material)
        self._elastic = (NOWHERE, 0.0)
        self.system.stiffen()
        self._set_damping(body)

    def set_touch(self, piece: int, touch: Touch) -> None:
        """Change how a piece (solids first, then colliders) touches."""
        if touch != self.world.touches[piece]:
            self.world.set_touch(piece, touch)
            self.contacts.touching.forget()

    def set_gravity(self, gravity: float) -> None:
        self.world.gravity = gravity

    def set_weight(self, body: int, weight: float) -> None:
        """Change how strongly gravity pulls at a solid: 1 is as it does."""
        self.world.weight[body] = weight

    def set_ground_friction(self, friction: float) -> None:
        self.world.ground_friction = friction

    def restore(self, state: State) -> None:
        """Go on from a state of this same world, whatever was done with it before."""
        self.state = state
        self._elastic = (NOWHERE, 0.0)
        self.contacts.touching.forget()

    def _set_damping(self, body: int) -> None:
        """Pitch goes with √(stiffness / density): it is found once, and scaled when one of these changes."""
        material = self.world.materials[body]
        key = body, material.poisson
        if key not in self._pitches:
            usual = replace(material, stiffness=USUAL_STIFFNESS, density=USUAL_DENSITY)
            self._pitches[key] = standing_frequency(replace(self.world.spec.solids[body], material=usual))
        scale = np.sqrt(material.stiffness / USUAL_STIFFNESS * USUAL_DENSITY / material.density)
        self.frequencies[body] = self._pitches[key] * scale
        self.world.damping[body] = damping_time(material, self.frequencies[body])

    # --- stepping -------------------------------------------------------------------------------------

    def skin(self) -> np.ndarray:
        """Positions (moving, 3) of all moving skin points, m."""
        return self.contacts.carry(self.state.x)[: self.world.skin.moving].copy()

    def deepest_contact(self) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        return self.contacts.deepest(self.state.x)

    def frame(self) -> Effort:
        """Go on by one frame.  Raises Stopped with the state as it was when asked to stop."""
        self.effort = Effort()
        if not len(self.world.mass):
            return self.effort
        before = self.state
        h = 1.0 / (self.fps * self.substeps)
        self._weights = {lasting: self._weigh(h, lasting) for lasting in (False, True)}
        self.state = self.contacts.begin(self.state, self.fps)
        try:
            for k in range(self.substeps):
                self._tell(k / self.substeps)
                if k == 0 or self.quality.refresh != "frame":
                    self.system.assemble(self.state.x)
                self._substep(h)
        except Stopped:
            self.state = before
            raise
        self.state = self.contacts.end(self.state)
        return self.effort

    def _substep(self, h: float) -> None:
        state, quality = self.state, self.quality
        self._bounces = self._find_bounces(h)
        lasting = quality.keeps_wobble and not state.restart and not self._bounces
        scheme = self._scheme(h, lasting)
        self.system.prepare(state.x, scheme.weights.stretch, scheme.weights.inertia)
        place, cut = self._predict(scheme)
        cut = cut or bool(self._bounces)
        deflected = False
        for iteration in range(quality.iterations):
            if self._stop():
                raise Stopped
            if iteration and quality.refresh == "step":
                self.system.assemble(place.x)
            before = place.x
            place, short, deflected, done = self._newton(place, scheme)
            cut = cut or short
            if done or np.abs(place.x - before).max() < SETTLED * self._finest:
                break
        x = self._balanced(place.x, scheme) if deflected else place.x
        may_drift = self._loose & ~scheme.leans
        adrift = self.contacts.adrift(state.x, x) if may_drift.any() else []
        x = self._turned_as_free(x, scheme, adrift)
        v = self._velocity(x, scheme, h, cut)
        for bounce in self._bounces:
            bounce.part(v)
        self._keep_spin(x, v, h, adrift)
        self.state = replace(state, x=x, v=v, x_before=state.x, v_before=state.v, restart=cut)

    def _velocity(self, x: np.ndarray, scheme: _Scheme, h: float, cut: bool) -> np.ndarray:
        """Node speeds at the end of a substep, m/s.

        Steps lose spin, as they follow the tangent: each body that turns gets the angular momentum that its torques
        left it, by the very formula that its parts move by.
        """
        w, s = self.world, self.state
        if not scheme.lasting:
            v = np.empty_like(x)
            tn.speeds_after(w.mass, x, scheme.pose, s.x, w.first_node, h, self._loose, scheme.spin, v)
        elif cut:
            return (x - s.x) / h
        else:
            v = scheme.weights.rate * (x - scheme.origin)
        wanted, earlier = np.empty((w.solids, 3)), np.empty((w.solids, 3))
        tn.momenta(w.mass, s.x, s.v, w.first_node, wanted)
        if scheme.lasting:
            tn.momenta(w.mass, s.x_before, s.v_before, w.first_node, earlier)
            wanted = (4.0 * wanted - earlier) / 3.0
        tn.add_torques(scheme.weights.inertia, w.mass, x, scheme.target, w.first_node,
                       2.0 * h / 3.0 if scheme.lasting else h, wanted)
        tn.give_spin(w.mass, x, w.first_node, self._loose, wanted, v)
        return v

    def _turned_as_free(self, x: np.ndarray, scheme: _Scheme, adrift: list[np.ndarray]) -> np.ndarray:
        """``x`` with bodies that are near nothing turned as far as their spin takes them: solving leaves some of it."""
        w, angle, turned = self.world, np.empty(3), x
        for bodies in adrift:
            if len(bodies) == 1:
                lo, hi = w.first_node[bodies[0]], w.first_node[bodies[0] + 1]
                tn.turned_from(w.mass, x, scheme.pose, lo, hi, angle)
                if np.abs(angle).max() > LEAST_TURN:
                    turned = turned.copy() if turned is x else turned
                    tn.turn_back(w.mass, turned, lo, hi, angle)
        return turned

    def _keep_spin(self, x: np.ndarray, v: np.ndarray, h: float, adrift: list[np.ndarray]) -> None:
        """Give bodies that touch only each other the angular momentum that they had, about their common centre.

        Nothing but their weight can change it; what inexact solving and the motion limit left of it is not true.
        """
        w, s = self.world, self.state
        for bodies in adrift:
            parts = [slice(w.first_node[body], w.first_node[body + 1]) for body in bodies]
            mass = np.concatenate([w.mass[part] for part in parts])
            share = mass / mass.sum()
            before, speed, after, now = (np.concatenate([a[part] for part in parts]) for a in (s.x, s.v, x, v))
            pull = np.concatenate([np.full(part.stop - part.start, w.gravity * w.weight[body])
                                   for part, body in zip(parts, bodies)])
            before, after = before - share @ before, after - share @ after
            speed[:, 1] -= h * pull         # their weights turn them where these are not alike
            lack = mass @ (np.cross(before, speed - share @ speed) - np.cross(after, now - share @ now))
            spread = after * mass[:, None]
            inertia = np.eye(3) * (spread * after).sum() - spread.T @ after
            omega = np.empty(3)
            tn.solve_spin(inertia, lack, omega)
            for part in parts:
                tn.turn_nodes(x, part.start, part.stop, share @ np.concatenate([x[p] for p in parts]), omega, v)

    def _balanced(self, x: np.ndarray, scheme: _Scheme) -> np.ndarray:
        """``x`` with bodies that only touch each other shifted as one, so that they keep their momentum.

        What deflects bodies from each other knows what gives way where, not what weighs how much.
        """
        shifted, groups = x.copy(), self.contacts.adrift(self.state.x, x)
        for bodies in groups:
            mine = np.isin(self.world.node_body, bodies)
            weight = scheme.weights.inertia[mine]
            shifted[mine] += weight @ (scheme.target[mine] - x[mine]) / weight.sum()
        after = self.contacts.adrift(x, shifted)
        alone = sum(map(len, after)) == sum(map(len, groups)) and all(
            any(np.isin(bodies, before).all() for before in groups) for bodies in after)
        return shifted if alone else x      # else they would come near something

    def _weigh(self, h: float, lasting: bool) -> _Weights:
        """Weights of BDF2 (Gear 1971) when ``lasting``, else of implicit Euler, in steps of ``h``, s."""
        w, skin = self.world, self.world.skin
        c, rate = (2.25, 1.5 / h) if lasting else (1.0, 1.0 / h)
        drag = w.damping[w.node_body] * rate
        contact = np.zeros(len(skin.points))
        for body in range(w.solids):
            mine = slice(*np.searchsorted(skin.piece[: skin.moving], [body, body + 1]))
            mass = w.mass[w.node_body == body].sum() / max(skin.area[mine].sum(), 1e-300)
            contact[mine] = skin.area[mine] * (CONTACT_INERTIA * c * mass / (h * h)
                                               + CONTACT_LOAD * w.weight_pressure(body) / max(w.gap[body], 1e-6))
        return _Weights(rate, c * w.mass / (h * h), 1.0 + drag, drag, contact)

    def _scheme(self, h: float, lasting: bool) -> _Scheme:
        s, w, fall = self.state, self.world, self.world.gravity * self.world.weight[self.world.node_body]
        touches, leans = self.contacts.touches(s.x, h * s.v)
        pose, ahead, target, spin = np.empty_like(s.x), np.empty_like(s.x), np.empty_like(s.x), np.zeros((w.solids, 3))
        tn.turned_on(w.mass, s.x, s.v, w.first_node, h, self._loose, pose, ahead, target, spin)
        if lasting:
            origin, steady = (4 * s.x - s.x_before) / 3, h * s.v
            target = origin + (2 * h / 3) * (4 * s.v - s.v_before) / 3
            target[:, 1] -= (4 * h * h / 9) * fall
        else:
            steady = ahead - s.x
            origin = s.x if touches.all() else np.where(touches[w.node_body, None], s.x, pose)
            target[:, 1] -= h * h * fall
        rounding = ROUNDING * float(w.mass.sum()) * max((w.gravity * h) ** 2, STILL_SPEED ** 2)
        return _Scheme(self._weights[lasting], lasting, target, steady, origin, touches, leans, pose, spin,
                       STILL_SPEED * h, rounding)

    def _predict(self, scheme: _Scheme) -> tuple[_Place, bool]:
        """Where Newton starts, and whether a body had to be held back on the way.

        Bodies that touch nothing fall, those that touch go on as before, both deflected by contact, if that has
        less energy than staying: friction is so steep at rest that what slides must be seen sliding from the
        start of a step.
        """
        x = self.state.x
        touches = scheme.touches[self.world.node_body, None]
        move = np.where(touches, scheme.steady, scheme.target - x) * self.world.free[:, None]
        held_back = self.contacts.limit(PREDICTOR, x, move, self.system.compliance) == HELD_BACK
        stay = self._place(x, scheme)
        most = stay.bulk + self._touch_energy(x, scheme) + scheme.rounding
        for share in (1.0, 0.5):
            ahead = self._place(x + share * move, scheme)
            if ahead.bulk + self._touch_energy(ahead.x, scheme) <= most:
                return ahead, held_back
        return stay, False

    def _newton(self, at: _Place, scheme: _Scheme) -> tuple[_Place, bool, bool, bool]:
        """One Newton step with line search.

        Returns where it leads, whether it had to be cut, whether it was limited at all, and whether the energy fell
        as its quadratic model said: then another step would change nothing that counts.
        """
        x = at.x
        ptr, node, coef, normal, curve, force, grip = self.contacts.pairs(x, scheme.weights.contact)
        slope = np.empty_like(x)
        self.system.gradient(x, slope)
        add_inertia_force(scheme.weights.inertia, x, scheme.target, slope)
        slope += at.resistance
        ct.add_contact_force(ptr, node, coef, normal, force, slope)
        hold = np.zeros(len(grip))
        ct.add_friction_force(ptr, node, coef, normal, grip, x - self.state.x, scheme.still, slope, hold)
        pairs: Pairs = (ptr, node, coef, normal, curve, hold)
        for bounce in self._bounces:
            slope += bounce.slope(x - self.state.x)
            pairs = bounce.beside(pairs)
        tolerance = min(self.quality.tolerance, BOUNCE_TOLERANCE if self._bounces else 1.0)
        move, iterations = self.system.solve(-slope, scheme.weights.stretch, scheme.weights.inertia, pairs,
                                             tolerance)
        if not np.isfinite(move).all():
            move[:] = 0.0
        leap = np.abs(move).max() / max(LEAP * self._finest, np.abs(scheme.target - self.state.x).max())
        move /= max(leap, 1.0)
        wanted, friction = move.copy(), (ptr, node, coef, normal, grip)
        expected = -0.5 * float(np.vdot(slope, move))
        limited = self.contacts.limit(NEWTON, x, move, self.system.compliance)
        there, gained, halved = self._search(at, move, scheme, friction)
        if there is at:                      # deflected, it leads uphill: straight on, but shorter, it does not
            self.contacts.shorten(x, wanted)
            there, gained, halved = self._search(at, wanted, scheme, friction)
        cut = limited == HELD_BACK or halved
        self.effort = Effort(self.effort.newton + 1, self.effort.linear + iterations, self.effort.cuts + cut)
        as_told = abs(gained - expected) <= self.quality.tolerance * expected + scheme.rounding
        limited = bool(limited) or halved or leap > 1.0
        return there, cut, limited, as_told and not limited

    def _search(self, at: _Place, move: np.ndarray, scheme: _Scheme,
                friction: tuple[np.ndarray, ...]) -> tuple[_Place, float, bool]:
        """Halve ``move`` until the whole energy, friction included, does not rise.

        Returns where that leads, the energy gained, J, and whether it was halved.
        """
        before = at.bulk + self._touch_energy(at.x, scheme) + self._friction(at.x, friction, scheme)
        share = 1.0
        for halvings in range(MOST_HALVINGS):
            there = self._place(at.x + share * move, scheme)
            after = there.bulk + self._touch_energy(there.x, scheme) + self._friction(there.x, friction, scheme)
            if after <= before + scheme.rounding:
                return there, before - after, halvings > 0
            share *= 0.5
        return at, 0.0, True

    def _place(self, x: np.ndarray, scheme: _Scheme) -> _Place:
        """What inertia, elasticity and damping make of positions ``x``."""
        bulk, resistance = inertia_energy(scheme.weights.inertia, x, scheme.target), self._no_force
        if self._elastic[0] is not x:        # each substep starts where the last one ended
            self._elastic = (x, self.system.energy(x))
        bulk += self._elastic[1]
        if x is not scheme.origin and self.world.damping.any():
            w, turns = self.world, self._loose & ~scheme.touches
            late = self._late_motion
            tn.without_motion(w.mass, x, scheme.origin, w.first_node, turns, late)
            resistance = self.system.product(scheme.weights.drag, self._no_inertia, late)
            bulk += 0.5 * float(np.vdot(late, resistance))
            tn.without_torque(w.mass, x, w.first_node, turns, resistance)
        return _Place(x, bulk if np.isfinite(bulk) else np.inf, resistance)

    def _touch_energy(self, x: np.ndarray, scheme: _Scheme) -> float:
        energy = self.contacts.energy(x, scheme.weights.contact)
        return energy + sum(bounce.energy(x - self.state.x) for bounce in self._bounces)

    def _friction(self, x: np.ndarray, friction: tuple[np.ndarray, ...], scheme: _Scheme) -> float:
        return ct.friction_energy(*friction, x - self.state.x, scheme.still)

    def _find_bounces(self, h: float) -> list[Bounce]:
        if (self.world.bounce < 0.0).all():
            return []
        return find_bounces(self.world, self.contacts.touching, self.contacts.carry(self.state.x), self.state.v, h)
