"""One run, frame by frame: each substep minimises inertia + elastic + damping + contact + friction."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from rubberquince.kernels import contact as ct
from rubberquince.kernels.limit import FREE, HELD_BACK, NEWTON, PREDICTOR, SAFE, is_safe, limit_motion
from rubberquince.kernels.motion import inertia_energy, without_mean
from rubberquince.solver.bounce import Bounce, find_bounces
from rubberquince.solver.frequency import damping_time, standing_frequency
from rubberquince.solver.specs import Material, RunSpec, Touch
from rubberquince.solver.state import State
from rubberquince.solver.system import ElasticSystem, Pairs
from rubberquince.solver.touching import Kept, Touching
from rubberquince.solver.world import World

STILL_SPEED = 1e-3          # m/s: slower sliding counts as sticking
CONTACT_INERTIA = 5.0       # contact stiffness in units of mass / step²
CONTACT_LOAD = 4.0          # and in units of the body's own weight pressure over the gap
USUAL_FPS = 24.0            # fewer frames a second have more substeps each: a step never gets longer
MOST_HALVINGS = 12
MOST_SHORTENINGS = 24
MOST_WIDENINGS = 4          # of the boxes that a deflected motion may leave
ROUNDING = 1e-7             # of the energy a step of gravity brings: a rise below is not one
BOUNCE_TOLERANCE = 1e-3     # of the linear solver, where bodies are thrown back: what is left is lost momentum
SETTLED = 1e-5              # of a cell: a Newton step smaller than this is the last of its substep

NOWHERE = np.zeros((0, 3))


class Stopped(Exception):
    """The run was asked to stop within a frame; the state is that of the last whole frame."""


@dataclass(frozen=True)
class Effort:
    """What a frame took: Newton steps, conjugate gradient iterations, and how often a body was held back."""

    newton: int = 0
    linear: int = 0
    cuts: int = 0


@dataclass
class _Scheme:
    """Coefficients of one substep: c·|x - target|²/(2h²) and damping velocity rate·(x - origin)."""

    inertia: np.ndarray
    target: np.ndarray
    steady: np.ndarray
    origin: np.ndarray
    rate: float
    stretch: np.ndarray
    drag: np.ndarray
    still: float
    rounding: float


@dataclass(frozen=True, eq=False)
class _Place:
    """Positions (n, 3) m that were tried, their energy short of contact, J, and the force of damping there, N."""

    x: np.ndarray
    bulk: float
    resistance: np.ndarray


class Stepper:
    """Steps a world through time.  ``stop`` is asked at every Newton step."""

    def __init__(self, spec: RunSpec, stop: Callable[[], bool] = lambda: False) -> None:
        self.world = World(spec)
        self.system = ElasticSystem(self.world)
        self.touching = Touching(self.world)
        self._stop = stop
        self.quality = spec.quality
        self.fps = spec.fps
        self.substeps = max(spec.quality.substeps, round(spec.quality.substeps * USUAL_FPS / spec.fps))
        rest = self.world.start
        self.state = State.at_rest(rest)
        self._skin, self._carried = self.world.skin.points.copy(), NOWHERE      # of which nodes it is the skin
        self._skin_move = np.zeros_like(self._skin)
        self._elastic = (NOWHERE, 0.0)      # the last positions and their elastic energy, J
        self._late_motion = np.zeros(rest.shape, np.float32)
        self._pushes, self._distance = np.zeros(0, bool), np.zeros(0)
        self._chosen = (NOWHERE, NOWHERE)                                       # for which nodes and lists
        self._bounces: list[Bounce] = []
        self.frequencies = np.zeros(len(spec.solids))
        self._point_mass, self._point_load = np.zeros(len(self._skin)), np.zeros(len(self._skin))
        self._point_stiffness = np.zeros(len(self._skin))
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
        self.world.set_touch(piece, touch)
        self.touching.forget()

    def set_gravity(self, gravity: float) -> None:
        self.world.gravity = gravity

    def set_weight(self, body: int, weight: float) -> None:
        """Change how strongly gravity pulls at a solid: 1 is as it does."""
        self.world.weight[body] = weight

    def set_ground_friction(self, friction: float) -> None:
        self.world.ground_friction = friction

    def restore(self, state: State) -> None:
        """Go on from a state of this same world."""
        self.state = state

    def _set_damping(self, body: int) -> None:
        solid = replace(self.world.spec.solids[body], material=self.world.materials[body])
        self.frequencies[body] = standing_frequency(solid)
        self.world.damping[body] = damping_time(solid.material, self.frequencies[body])

    # --- stepping -------------------------------------------------------------------------------------

    def skin(self) -> np.ndarray:
        """Positions (moving, 3) of all moving skin points, m."""
        self._carry(self.state.x)
        return self._skin[: self.world.skin.moving].copy()

    def frame(self) -> Effort:
        """Go on by one frame.  Raises Stopped with the state as it was when asked to stop."""
        self.effort = Effort()
        if not len(self.world.mass):
            return self.effort
        before = self.state
        self._contact_shares()
        self.state = self._listed(self.state)
        try:
            for k in range(self.substeps):
                if k == 0 or self.quality.refresh != "frame":
                    self.system.assemble(self.state.x)
                self._substep(1.0 / (self.fps * self.substeps))
        except Stopped:
            self.state = before
            raise
        x, apart_at, own_at = self.state.x, self.touching.apart.made_at, self.touching.own.made_at
        self.state = replace(self.state, apart_at=x if apart_at is None else apart_at,
                             own_at=x if own_at is None else own_at)
        return self.effort

    def _listed(self, state: State) -> State:
        """The state with lists of what is close that depend on it and on nothing else."""
        if self.world.outside_only.any():
            self._carry(state.x)
            self.touching.look_inside(self._skin)
            self.touching.apart.made_at = None
            state = replace(state, apart_at=state.x)
        self.touching.drop()
        return replace(state, apart_at=self._made_at(self.touching.apart, state.apart_at, state),
                       own_at=self._made_at(self.touching.own, state.own_at, state))

    def _made_at(self, kept: Kept, at: np.ndarray, state: State) -> np.ndarray:
        """Where the nodes were when a list was made: ``at``, if it may last this frame, else where they are."""
        if kept.made_at is not at:
            self._carry(at)
            kept.make(self._skin)
            kept.made_at = at
        if at is not state.x:
            self._carry(state.x + state.v / self.fps)
            lasts = kept.holds(self._skin)
        self._carry(state.x)
        if at is not state.x and not (lasts and kept.holds(self._skin)):
            kept.make(self._skin)
            kept.made_at = state.x
        return kept.made_at

    def deepest_contact(self) -> np.ndarray:
        """For each solid, the part of a gap that its deepest contact uses up: 0 = clear, 1 = touching."""
        skin = self.world.skin
        self._carry(self.state.x)
        self.touching.cover(self._skin)
        depth = np.zeros(len(self.world.gap))
        ct.deepest(self.touching.ids, self.touching.kind, self.touching.gap, self._skin, skin.piece, skin.moving, depth)
        return depth[: len(self.world.spec.solids)]

    def _substep(self, h: float) -> None:
        state, quality = self.state, self.quality
        self._bounces = self._find_bounces(h)
        lasting = quality.keeps_wobble and not state.restart and not self._bounces
        scheme = self._scheme(h, lasting)
        self._point_stiffness = CONTACT_INERTIA * (2.25 if lasting else 1.0) / (h * h) * self._point_mass + self._point_load
        self.system.prepare(state.x, scheme.stretch, scheme.inertia)
        place, cut = self._predict(scheme)
        cut = cut or bool(self._bounces)
        for iteration in range(quality.iterations):
            if self._stop():
                raise Stopped
            if iteration and quality.refresh == "step":
                self.system.assemble(place.x)
            before = place.x
            place, short, done = self._newton(place, scheme)
            cut = cut or short
            if done or np.abs(place.x - before).max() < SETTLED * self._finest:
                break
        v = (place.x - state.x) / h
        if lasting and not cut:
            v = scheme.rate * (place.x - scheme.origin)
        for bounce in self._bounces:
            bounce.part(v)
        self.state = replace(state, x=place.x, v=v, x_before=state.x, v_before=state.v, restart=cut)

    def _scheme(self, h: float, lasting: bool) -> _Scheme:
        """BDF2 (Gear 1971) when ``lasting``, else implicit Euler."""
        s, w = self.state, self.world
        pull = np.zeros_like(s.x)
        pull[:, 1] = -w.gravity * w.weight[w.node_body]
        if lasting:
            c, rate = 2.25, 1.5 / h
            origin = (4 * s.x - s.x_before) / 3
            target = origin + (2 * h / 3) * (4 * s.v - s.v_before) / 3 + (4 * h * h / 9) * pull
        else:
            c, rate = 1.0, 1.0 / h
            origin, target = s.x, s.x + h * s.v + h * h * pull
        drag = w.damping[w.node_body] * rate
        return _Scheme(c * w.mass / (h * h), target, h * s.v, origin, rate, 1.0 + drag, drag, STILL_SPEED * h,
                       ROUNDING * float(w.mass.sum()) * max((w.gravity * h) ** 2, STILL_SPEED ** 2))

    def _contact_shares(self) -> None:
        """What the stiffness of contact is made of at each skin point: its mass, kg, and its load's stiffness, N/m."""
        w, skin = self.world, self.world.skin
        for body in range(w.solids):
            mine = slice(*np.searchsorted(skin.piece[: skin.moving], [body, body + 1]))
            area = skin.area[mine]
            self._point_mass[mine] = w.mass[w.node_body == body].sum() * area / max(area.sum(), 1e-300)
            self._point_load[mine] = CONTACT_LOAD * w.weight_pressure(body) * area / max(w.gap[body], 1e-6)

    def _predict(self, scheme: _Scheme) -> tuple[_Place, bool]:
        """Where Newton starts, and whether a body had to be held back on the way.

        Bodies that touch nothing fall, those that touch go on as before, both deflected by contact, if that has
        less energy than staying: friction is so steep at rest that what slides must be seen sliding from the
        start of a step.
        """
        x = self.state.x
        move = np.where(self._touches(x, scheme.steady)[self.world.node_body, None], scheme.steady, scheme.target - x)
        move *= self.world.free[:, None]
        held_back = self._limit(PREDICTOR, x, move) == HELD_BACK
        stay = self._place(x, scheme)
        most = stay.bulk + self._contact(x) + scheme.rounding
        for share in (1.0, 0.5):
            ahead = self._place(x + share * move, scheme)
            if ahead.bulk + self._contact(ahead.x) <= most:
                return ahead, held_back
        return stay, False

    def _touches(self, x: np.ndarray, move: np.ndarray) -> np.ndarray:
        """Which solids (bodies,) bool are nearer to something than the gap; the lists then hold for ``move`` too."""
        w, t = self.world, self.touching
        self._carry(x)
        ct.carry(move, w.skin.bind_node, w.skin.bind_weight, self._skin_move)
        t.cover(self._skin, self._skin + self._skin_move)
        self._choose()
        near = self._pushes & (self._distance < t.gap)
        piece = w.skin.piece[t.ids[near][:, [0, 3]]]        # of the ground, it repeats some piece: it has no point
        touches = np.zeros(len(w.gap), bool)
        touches[piece[:, 0]] = True
        touches[piece[t.ids[near, 3] >= 0, 1]] = True
        return touches[: w.solids]

    def _newton(self, at: _Place, scheme: _Scheme) -> tuple[_Place, bool, bool]:
        """One Newton step with line search.

        Returns where it leads, whether it had to be cut, and whether the energy fell as its quadratic model said:
        then another step would change nothing that counts.
        """
        w, skin, x = self.world, self.world.skin, at.x
        self._carry(x)
        self.touching.cover(self._skin)
        self._choose()
        ptr, node, coef, normal, curve, force, grip = ct.active_pairs(
            *self._lists(), self._skin, skin.moving, self._point_stiffness, skin.bind_node, skin.bind_weight,
            skin.piece, w.friction, w.ground_friction)
        slope = np.empty_like(x)
        self.system.gradient(x, slope)
        slope += scheme.inertia[:, None] * (x - scheme.target)
        slope += at.resistance
        ct.add_contact_force(ptr, node, coef, normal, force, slope)
        hold = np.zeros(len(grip))
        ct.add_friction_force(ptr, node, coef, normal, grip, x - self.state.x, scheme.still, slope, hold)
        pairs: Pairs = (ptr, node, coef, normal, curve, hold)
        for bounce in self._bounces:
            slope += bounce.slope(x - self.state.x)
            pairs = bounce.beside(pairs)
        tolerance = min(self.quality.tolerance, BOUNCE_TOLERANCE if self._bounces else 1.0)
        move, iterations = self.system.solve(-slope, scheme.stretch, scheme.inertia, pairs, tolerance)
        if not np.isfinite(move).all():
            move[:] = 0.0
        wanted, friction = move.copy(), (ptr, node, coef, normal, grip)
        expected = -0.5 * float(np.vdot(slope, move))
        limited = self._limit(NEWTON, x, move)
        there, gained, halved = self._search(at, move, scheme, friction)
        if there is at:                      # deflected, it leads uphill: straight on, but shorter, it does not
            self._shorten(x, wanted)
            there, gained, halved = self._search(at, wanted, scheme, friction)
        cut = limited == HELD_BACK or halved
        self.effort = Effort(self.effort.newton + 1, self.effort.linear + iterations, self.effort.cuts + cut)
        as_told = abs(gained - expected) <= self.quality.tolerance * expected + scheme.rounding
        return there, cut, as_told and not limited and not halved

    def _search(self, at: _Place, move: np.ndarray, scheme: _Scheme,
                friction: tuple[np.ndarray, ...]) -> tuple[_Place, float, bool]:
        """Halve ``move`` until the whole energy, friction included, does not rise.

        Returns where that leads, the energy gained, J, and whether it was halved.
        """
        before = at.bulk + self._contact(at.x) + self._friction(at.x, friction, scheme)
        share = 1.0
        for halvings in range(MOST_HALVINGS):
            there = self._place(at.x + share * move, scheme)
            after = there.bulk + self._contact(there.x) + self._friction(there.x, friction, scheme)
            if after <= before + scheme.rounding:
                return there, before - after, halvings > 0
            share *= 0.5
        return at, 0.0, True

    def _place(self, x: np.ndarray, scheme: _Scheme) -> _Place:
        """What inertia, elasticity and damping make of positions ``x``."""
        bulk, resistance = inertia_energy(scheme.inertia, x, scheme.target), np.zeros_like(x)
        if self._elastic[0] is not x:        # each substep starts where the last one ended
            self._elastic = (x, self.system.energy(x))
        bulk += self._elastic[1]
        if x is not scheme.origin and scheme.drag.any():
            late = self._late(x, scheme)
            resistance = self.system.product(scheme.drag, np.zeros(len(x)), late)
            bulk += 0.5 * float(np.vdot(late, resistance))
        return _Place(x, bulk if np.isfinite(bulk) else np.inf, resistance)

    def _late(self, x: np.ndarray, scheme: _Scheme) -> np.ndarray:
        """What damping resists, (n, 3) float32 m: the motion without each body's mean."""
        without_mean(x, scheme.origin, self.world.first_node, self._late_motion)
        return self._late_motion

    def _contact(self, x: np.ndarray) -> float:
        self._carry(x)
        energy = ct.contact_energy(*self._lists(), self._skin, self.world.skin.moving, self._point_stiffness)
        return energy + sum(bounce.energy(x - self.state.x) for bounce in self._bounces)

    def _friction(self, x: np.ndarray, friction: tuple[np.ndarray, ...], scheme: _Scheme) -> float:
        return ct.friction_energy(*friction, x - self.state.x, scheme.still)

    # --- contact --------------------------------------------------------------------------------------

    def _find_bounces(self, h: float) -> list[Bounce]:
        if (self.world.bounce < 0.0).all():
            return []
        self._carry(self.state.x)
        return find_bounces(self.world, self.touching, self._skin, self.state.v, h)

    def _lists(self) -> tuple[np.ndarray, ...]:
        return self.touching.ids, self.touching.kind, self.touching.gap, self._pushes

    def _carry(self, x: np.ndarray) -> None:
        if self._carried is not x:
            skin, self._carried = self.world.skin, x
            ct.carry(x, skin.bind_node, skin.bind_weight, self._skin)

    def _choose(self) -> None:
        """Which relations push, and their distances, at where the skin is carried."""
        t = self.touching
        if self._chosen[0] is self._carried and self._chosen[1] is t.ids:
            return
        self._chosen = (self._carried, t.ids)
        self._pushes, self._distance = np.zeros(len(t.ids), bool), np.zeros(len(t.ids))
        ct.choose(t.ids, t.kind, t.gap, self._skin, self.world.skin.moving, self._distance, self._pushes)

    def _limit(self, stage: int, x: np.ndarray, move: np.ndarray) -> int:
        """Bound ``move`` in place; returns how it had to, as kernels.limit does."""
        skin, t = self.world.skin, self.touching
        self._carry(x)
        wanted = move.copy()
        ct.carry(move, skin.bind_node, skin.bind_weight, self._skin_move)
        reach = [self._skin + self._skin_move]
        for attempt in range(MOST_WIDENINGS):
            t.cover(self._skin, *reach)
            self._choose()
            result = self._limit_once(stage, move)
            if result == FREE or t.holds(self._skin + self._skin_move):
                return result
            reach.append(self._skin + self._skin_move)      # deflected to where nothing was listed: look again
            if attempt < MOST_WIDENINGS - 1:
                move[:] = wanted
        for _ in range(MOST_SHORTENINGS):
            if t.holds(self._skin + self._skin_move):
                break
            move *= 0.5
            ct.carry(move, skin.bind_node, skin.bind_weight, self._skin_move)
        else:
            move[:] = 0.0
            ct.carry(move, skin.bind_node, skin.bind_weight, self._skin_move)
        self._limit_once(SAFE, move)
        return HELD_BACK

    def _shorten(self, x: np.ndarray, move: np.ndarray) -> None:
        """Halve ``move`` as a whole, in place, until it brings nothing too near: it keeps its direction."""
        skin, t = self.world.skin, self.touching
        self._carry(x)
        for _ in range(MOST_SHORTENINGS):
            ct.carry(move, skin.bind_node, skin.bind_weight, self._skin_move)
            t.cover(self._skin, self._skin + self._skin_move)
            self._choose()
            if is_safe(t.ids, t.kind, t.gap, self._distance, self._skin, skin.moving, skin.bind_node, len(move),
                       self._skin_move):
                return
            move *= 0.5
        move[:] = 0.0

    def _limit_once(self, stage: int, move: np.ndarray) -> int:
        skin, t = self.world.skin, self.touching
        return limit_motion(stage, t.ids, t.kind, t.gap, self._distance, self._pushes, self._skin, skin.moving,
                            skin.bind_node, skin.bind_weight, self.world.node_body, self.system.ease, move,
                            self._skin_move)
