"""From one substep to the next: what nodes are drawn to, and how fast they are at its end."""

from dataclasses import dataclass

import numpy as np

from rubberquince.kernels import turning as tn
from rubberquince.kernels.motion import aim, change_of_shape
from rubberquince.solver.state import State
from rubberquince.solver.world import World

SHELL_RINGING = 0.3         # as of a quality, the most for shells


@dataclass(frozen=True, eq=False)
class Aim:
    """What nodes are drawn to in one substep of ``h``, s; arrays (n, 3) or by nodes (n,), see kernels.motion.

    pose : m, where bodies are that go on and turn as a whole, at ``spin`` (bodies, 3), rad/s.  going : with the change
    of shape going on.  pushed, forced : m/s², what the state has of them, turned.  base, target : m; inertia : N/m.
    pull : m/s², see solver.forces.
    """

    h: float
    pose: np.ndarray
    going: np.ndarray
    pushed: np.ndarray
    forced: np.ndarray
    base: np.ndarray
    target: np.ndarray
    inertia: np.ndarray
    met: np.ndarray
    spin: np.ndarray
    pull: np.ndarray


class Scheme:
    """The generalised-α scheme (Chung, Hulbert 1993) in frames that turn with the bodies, and momentum kept exactly."""

    def __init__(self, world: World, loose: np.ndarray, ringing: float) -> None:
        """``loose`` (bodies,) bool turn as a whole; ``ringing`` 0 .. 1 is left of the fastest vibrations in a step.

        Of shells less is: what buckles feeds them.
        """
        self._world, self._loose = world, loose
        filled = np.array([carrier.filled for carrier in world.carriers], bool)
        left = np.where(filled, ringing, min(ringing, SHELL_RINGING))
        lag, back = (2.0 * left - 1.0) / (left + 1.0), left / (left + 1.0)
        self._alpha = np.column_stack([lag, back, 0.5 - lag + back, 0.25 * (1.0 - lag + back) ** 2])
        self._back = back[world.node_body, None]

    def turned_on(self, state: State, h: float, flies: np.ndarray) -> tuple[np.ndarray, ...]:
        """pose, going, pushed, forced, swing and spin after ``h``, s; see kernels.turning.turned_on."""
        w = self._world
        pose, going, pushed, forced, swing = (np.empty_like(state.x) for _ in range(5))
        spin = np.zeros((w.bodies, 3))
        due = self.due(state.v, state.push, state.force, h)
        tn.turned_on(w.mass, state.x, state.v, due, flies, state.push, state.force, w.first_node, h, self._loose, pose,
                     going, pushed, forced, swing, spin)
        return pose, going, pushed, forced, swing, spin

    def aim(self, turned: tuple[np.ndarray, ...], h: float, touches: np.ndarray, met: np.ndarray,
            pull: np.ndarray) -> Aim:
        """The aim of a substep; ``touches`` (bodies,) bool are near something, ``met`` (n,) bool at rest on it."""
        pose, going, pushed, forced, swing, spin = turned
        w, inertia, base, target = self._world, np.empty(len(met)), np.empty_like(pose), np.empty_like(pose)
        flies = (self._loose & ~touches)[w.node_body]
        even = np.add.reduceat(w.mass[:, None] * pull, w.first_node[:-1])
        even /= np.add.reduceat(w.mass, w.first_node[:-1])[:, None]
        aim(going, pushed, forced, swing, pull, even, flies, met, h, self._alpha, w.node_body, w.mass,
            base, target, inertia)
        return Aim(h, pose, going, pushed, forced, base, target, inertia, met, spin, pull)

    def drift(self, aim: Aim) -> np.ndarray:
        """How bodies are speeding up as a whole, (bodies, 3) m/s²: from the nodes that are not at rest on something."""
        w = self._world
        inner = np.where(aim.met, 0.0, w.mass)
        total = np.add.reduceat(inner, w.first_node[:-1])
        return np.add.reduceat(inner[:, None] * aim.pushed, w.first_node[:-1]) / np.maximum(total, 1e-300)[:, None]

    def speeds(self, state: State, x: np.ndarray, aim: Aim,
               left: np.ndarray, led: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Node speeds at ``x``, m/s, what pushes nodes, evened out, and what does now, m/s²; (n, 3) each.

        ``left`` (bodies,) is what is left of changes of shape, ``led`` (n, 3) the speeds, m/s, of known motion.
        The scheme spreads what a force does over some steps, and steps along a tangent lose spin: each body as a whole
        gets at the end what forces left it.
        """
        w, loose, h = self._world, self._loose, aim.h
        v, push, force = np.empty_like(x), np.empty_like(x), np.empty_like(x)
        change_of_shape(x, aim.pose, aim.going, aim.pushed, aim.forced, aim.base, aim.met, h, self._alpha,
                        w.node_body, v, push, force)
        tn.add_rigid(w.mass, x, state.v, w.first_node, loose, aim.spin, v)
        before, after = self.due(state.v, state.push, state.force, h), self.due(v, push, force, h)
        tn.keep_momentum(w.mass, state.x, before, x, after, aim.target, aim.inertia, aim.pull, w.first_node, loose,
                         h, v)
        tn.fade_shape(w.mass, x, w.first_node, loose, left, led, v)
        held = w.free == 0.0
        v[held], push[held], force[held] = (x[held] - state.x[held]) / h, 0.0, 0.0
        return v, push, force

    def due(self, v: np.ndarray, push: np.ndarray, force: np.ndarray, h: float) -> np.ndarray:
        """The speeds (n, 3), m/s, that nodes come to when what pushes has been evened out: forces change them at once.
        """
        back = self._back
        return v + h * ((0.5 - back) * push + back * force)

    def keep_moving(self, bodies: np.ndarray, more: np.ndarray, v: np.ndarray) -> None:
        """Take from the speeds ``v`` (n, 3) of some bodies, as wholes, what they are ``more`` (n, 3) by, m/s."""
        for body in bodies:
            mine = slice(self._world.first_node[body], self._world.first_node[body + 1])
            v[mine] -= self._world.mass[mine] @ more[mine] / self._world.mass[mine].sum()

    def keep_motion(self, state: State, x: np.ndarray, v: np.ndarray, due: np.ndarray, aim: Aim,
                    adrift: list[np.ndarray]) -> None:
        """Give bodies that touch only each other the momenta that they had, the angular about their common centre.

        Nothing but their weight can change them; what inexact solving and the motion limit left of them is not true.
        ``due`` (n, 3) are the speeds that ``v``, changed in place, comes to.
        """
        w = self._world
        was = self.due(state.v, state.push, state.force, aim.h)
        for bodies in adrift:
            parts = [slice(w.first_node[body], w.first_node[body + 1]) for body in bodies]
            mass = np.concatenate([w.mass[part] for part in parts])
            share = mass / mass.sum()
            before, speed, after, now, pull = (np.concatenate([a[part] for part in parts])
                                               for a in (state.x, was, x, due, aim.pull))
            before, centre = before - share @ before, share @ after
            after = after - centre
            speed += aim.h * pull                       # weights turn them where not alike
            lack = mass @ (np.cross(before, speed - share @ speed) - np.cross(after, now - share @ now))
            spread = after * mass[:, None]
            omega = np.empty(3)
            tn.solve_spin(np.eye(3) * (spread * after).sum() - spread.T @ after, lack, omega)
            drift = share @ (speed - now)
            for part in parts:
                v[part] += drift
                tn.turn_nodes(x, part.start, part.stop, centre, omega, v)
