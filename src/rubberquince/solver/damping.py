"""How wobbles die: Rayleigh's two factors, found anew in every substep from what each body does."""

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from rubberquince.kernels import turning as tn
from rubberquince.solver.frequency import bending_frequency, free_frequency, shell_frequency
from rubberquince.solver.specs import AnyMaterial, Material, ShellMaterial, ShellSpec, SolidSpec
from rubberquince.solver.system import ElasticSystem
from rubberquince.solver.world import World

USUAL_STIFFNESS, USUAL_DENSITY = 1e4, 1e3       # Pa and kg/m³, at which pitches are found
STIFF_SHARE = 0.1           # of the damping of shapes that goes with stiffness: so the finest ripples die first
MOST, MOST_CARRIED = 0.85, 0.4                  # of the critical, for what is free and for what something carries
LOWEST = 1 / 6              # of the pitch: what is carried and swings more slowly rolls rather than wobbles
SWING = 0.2                 # rad: so does what turns on by more in the time of a wobble
AIR_SHARE = 0.8             # of the damping of a load on an air pad that its air takes; its skin does the rest
LEAST_UNDER = 0.02          # of a skin: what is carried counts as lying on so much of it
THROWS = 0.87               # of its speed, what a ball that nothing damps does not keep as wobble
OF_GAS, OF_PRESSURE = 0.82, 0.95     # the same of a shell that a gas, or a constant pressure, throws back
AIR_FADES = 0.35            # of a swing on that: how long wobbles fade in it
REST = 1e-5                 # m/s: slower is no wobble
TICK = 1e-4                 # s: so short that moves add up


class Damping:
    """The damping of a world's bodies, from the time in which their wobbles are to halve."""

    def __init__(self, world: World, system: ElasticSystem, loose: np.ndarray,
                 pitches: Mapping[tuple[int, float], float]) -> None:
        """``loose`` (bodies,) bool: which have no node held.  ``pitches`` are those of ``self.pitches`` that are known.
        """
        self._world, self._system, self._loose = world, system, loose
        self.frequencies = np.zeros(world.bodies)       # Hz, of the first wobble
        self.struck = np.zeros(world.bodies)            # Hz, of what a blow excites: bending, in shells
        self._rates = np.zeros(world.bodies)            # 1/s, at which wobbles are to die
        self._calm = np.array([body.goal.calms if body.goal else 0.0 for body in world.spec.bodies], float)
        self.pitches = dict(pitches)        # Hz, by body and Poisson's ratio, of a usual material
        skin = world.skin
        self._area = np.bincount(skin.piece, skin.area, len(world.gap))[: world.bodies]
        self._ones, self._zeros = np.ones(len(world.mass)), np.zeros(len(world.mass))
        self._change = np.zeros(world.start.shape, np.float32)
        for body in range(world.bodies):
            self.set_material(body, world.materials[body])

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """Pitch goes with √(stiffness / density): it is found once, and scaled when one of these changes."""
        spec = self._world.spec.bodies[body]
        if isinstance(spec, SolidSpec) and isinstance(material, Material):
            key = body, material.poisson
            if key not in self.pitches:
                usual = replace(material, stiffness=USUAL_STIFFNESS, density=USUAL_DENSITY, grown=1.0, dents=None)
                self.pitches[key] = free_frequency(replace(spec, material=usual, rest=None))
            scale = np.sqrt(np.mean(material.stiffness) / USUAL_STIFFNESS * USUAL_DENSITY / np.mean(material.density))
            self.frequencies[body] = self.struck[body] = self.pitches[key] * scale
        elif isinstance(spec, ShellSpec) and isinstance(material, ShellMaterial):
            self.frequencies[body] = shell_frequency(spec, material)
            self.struck[body] = bending_frequency(spec, material)
        halves = material.wobble_halves
        self._rates[body] = np.log(2.0) / halves if halves > 0.0 else 0.0

    @property
    def throws(self) -> np.ndarray:
        """The share of the speed of a meeting that bodies (bodies,) part with: a contact takes as long as a wobble."""
        return np.array(THROWS * np.exp(-self._rates / np.maximum(self.struck, 1e-12)))

    def pressed(self) -> np.ndarray:
        """Frequency (bodies,), Hz, with which what presses in shells throws them back: √(2πRp / m) / 2π.

        A sphere of radius R that is flattened by d touches with 2πRd, on which its pressure p pushes.
        """
        w, out = self._world, np.zeros(self._world.bodies)
        for body, carrier in enumerate(w.carriers):
            given = w.pressing.given(body)
            if given > 0.0 and not carrier.filled:
                mass = w.mass[w.first_node[body] : w.first_node[body + 1]].sum()
                out[body] = np.sqrt(np.sqrt(np.pi * self._area[body]) * given / mass) / (2.0 * np.pi)
        return out

    def thrown_by_air(self, pressed: np.ndarray) -> np.ndarray:
        """The share (bodies,) of the speed of a meeting that such shells part with; see ``pressed``."""
        is_gas = [inflation.backing is not None for inflation in self._world.pressing.inflations]
        fades = AIR_FADES * self._rates / np.maximum(pressed, 1e-12)
        return np.array(np.where(is_gas, OF_GAS, OF_PRESSURE) * np.exp(-fades))

    def calm_wholes(self, x: np.ndarray, v: np.ndarray, led: np.ndarray, h: float) -> None:
        """Slow down, in ``v`` (n, 3), m/s, of nodes at ``x`` what goals draw as a whole, after ``h``, s.

        ``led`` (n, 3) are the speeds with which they are led.
        """
        w = self._world
        for body in np.flatnonzero(w.anchored & w.turns & (self._calm > 0.0)):
            lo, hi = int(w.first_node[body]), int(w.first_node[body + 1])
            mass, gone = w.mass[lo:hi], 1.0 - np.exp(-2.0 * h * self._calm[body])
            if w.goals.draws(int(body)) == "whole":
                tn.turn_nodes(x, lo, hi, mass @ x[lo:hi] / mass.sum(), -gone * self._spin(x, v - led, lo, hi), v)
            v[lo:hi] -= gone * (mass @ (v[lo:hi] - led[lo:hi]) / mass.sum())

    def _spin(self, x: np.ndarray, v: np.ndarray, lo: int, hi: int) -> np.ndarray:
        """ω (3,), rad/s, of the nodes between lo and hi."""
        centre, momentum, omega, inertia = np.empty(3), np.empty(3), np.empty(3), np.empty((3, 3))
        tn.centre_of(self._world.mass, x, lo, hi, centre)
        tn.inertia_of(self._world.mass, x, lo, hi, centre, inertia)
        tn.momentum_of(self._world.mass, x, v, lo, hi, centre, momentum)
        tn.solve_spin(inertia, momentum, omega)
        return omega

    def set_calm(self, body: int, calms: float) -> None:
        """Let the motion of a body with a goal die at a rate of ``calms``, 1/s, besides."""
        self._calm[body] = calms

    def factors(self, x: np.ndarray, v: np.ndarray, carried: np.ndarray,
                spin: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """α, 1/s, and β, s, of each body (bodies,) at nodes ``x`` and speeds ``v`` (n, 3), m and m/s.

        Changes of shape die by α, at any pitch: amplitude goes as exp(-α t / 2) (Rayleigh 1877, §81).  What is
        ``carried`` (bodies,) bool by something still also wobbles as a whole against it.  The stiffness part, a force
        β K v, which no rigid motion feels, is therefore given the power that α would take from that: so wobbles halve
        in their time on the ground, too, and what slides or rolls is not held back.  ``spin`` (bodies, 3) rad/s.
        """
        square = (2.0 * np.pi * self.frequencies) ** 2
        most = np.where(carried, MOST_CARRIED, MOST) * np.sqrt(square)
        rates = np.minimum(self._rates, most)
        beta = 2.0 * STIFF_SHARE * rates / np.maximum(square, 1e-12)
        wobbling = carried & self._loose & (rates > 0.0)
        if wobbling.any():
            pitch = np.maximum(self._squared_pitch(x, v, square), LOWEST ** 2 * square)
            turning = (spin ** 2).sum(axis=1) / SWING ** 2
            beta[wobbling] += (2.0 * rates / np.maximum(pitch + turning, 1e-12))[wobbling]
        return 2.0 * ((1.0 - STIFF_SHARE) * rates + self._calm), beta

    def thickness(self, x: np.ndarray, area: np.ndarray, load: np.ndarray, carried: np.ndarray) -> np.ndarray:
        """How much (bodies,), N s/m⁵, what presses in bodies with nodes at ``x`` (n, 3), m, resists changes of volume.

        An air pad goes up and down with what lies on it, and its skin hardly stretches meanwhile: the air has to be
        what calms that.  ``area`` (bodies,), m², of a skin touches, half of it on either side, and ``load`` (bodies,),
        kg, is all that hangs on it; it bears no more of that than the pressure on the area carries.
        """
        w, out = self._world, np.zeros(len(load))
        for body in np.flatnonzero(carried & (load > 0.0) & (self._rates > 0.0)):
            pressure, under = w.pressing.pressure(int(body), x), 0.5 * area[body]
            borne = min(load[body], max(pressure, 0.0) * under / max(abs(w.gravity), 1e-9))
            out[body] = 2.0 * AIR_SHARE * self._rates[body] * borne / max(under, LEAST_UNDER * self._area[body]) ** 2
        return out

    def _squared_pitch(self, x: np.ndarray, v: np.ndarray, usual: np.ndarray) -> np.ndarray:
        """ω² (bodies,), 1/s², of what bodies do as a whole: Rayleigh's quotient, ``usual`` for those at rest."""
        w, change = self._world, self._change
        tn.without_motion(w.mass, x + TICK * v, x, w.first_node, self._loose, change)
        change /= TICK
        bend = self._system.product(self._ones, self._zeros, change)
        whole = w.mass * ((v ** 2).sum(axis=1) - (change.astype(float) ** 2).sum(axis=1))
        stiff, kinetic, rest = (np.add.reduceat(a, w.first_node[:-1])
                                for a in ((change * bend).sum(axis=1), whole, w.mass * REST ** 2))
        return (np.maximum(stiff, 0.0) + usual * rest) / (np.maximum(kinetic, 0.0) + rest)
