"""Pellets in a step: when they are let go, and how they fly where nothing is near."""

import numpy as np

from rubberquince.solver.contacts import Contacts
from rubberquince.solver.specs import PelletSpec
from rubberquince.solver.world import World

MOMENT = 1e-9               # s
BURIED = 0.5                # of a radius: what is nearer than that was not brought there by motion
RISES = 0.1                 # s, in which what is buried comes out by a radius, at most


class Balls:
    """The pellets of a world; ``nodes`` are theirs, ``any`` is whether there are some."""

    def __init__(self, world: World) -> None:
        self._world = world
        specs = [(body, spec) for body, spec in enumerate(world.spec.bodies) if isinstance(spec, PelletSpec)]
        mine = [np.arange(world.first_node[body], world.first_node[body + 1]) for body, _ in specs]
        self.nodes = np.concatenate([np.zeros(0, np.int64), *mine])
        self.any = len(self.nodes) > 0
        self._held = np.concatenate([np.zeros(0, bool), *(np.full(len(spec.points), spec.held) for _, spec in specs)])
        self._released = np.concatenate([np.zeros(0), *(spec.released for _, spec in specs)])
        self._speed = np.concatenate([np.zeros((0, 3)), *(np.tile(spec.speed, (len(spec.points), 1))
                                                          for _, spec in specs)])
        self._radius = np.concatenate([np.zeros(0), *(np.asarray(spec.radius, float) for _, spec in specs)])
        self.last = float(self._released.max(initial=0.0))      # s, when the last is let go

    def let_go(self, v: np.ndarray, since: float, h: float) -> np.ndarray:
        """Speeds (n, 3), m/s, with those of what is let go in the step of ``h``, s, that ends at ``since``.

        Until then it is held where it waits.
        """
        free = (self._released <= since - h + MOMENT) & ~self._held
        self._world.free[self.nodes] = free
        now = free & (self._released > since - 2.0 * h + MOMENT) & (self._speed != 0.0).any(axis=1)
        if now.any():
            v = v.copy()
            v[self.nodes[now]] = self._speed[now]
        return v

    def buried(self, contacts: Contacts) -> np.ndarray:
        """Which of the pellets (k,) bool are deep in something at the start of a step."""
        t, skin = contacts.touching, self._world.skin
        deep = t.ids[t.distance < BURIED * t.gap]
        nodes = skin.bind_node[np.unique(deep[(deep >= 0) & (deep < skin.moving)])]
        return np.isin(self.nodes, nodes)

    def calm(self, buried: np.ndarray, before: np.ndarray, v: np.ndarray) -> None:
        """Let what was ``buried`` come out slowly, in ``v`` (n, 3), m/s: it was ``before``, and is not shot."""
        nodes, radius = self.nodes[buried], self._radius[buried]
        most = np.maximum(np.linalg.norm(before[nodes], axis=1), radius / RISES)
        v[nodes] *= np.minimum(1.0, most / np.maximum(np.linalg.norm(v[nodes], axis=1), 1e-300))[:, None]

    def fly(self, contacts: Contacts, x: np.ndarray, v: np.ndarray, pull: np.ndarray, h: float,
            *after: np.ndarray) -> np.ndarray:
        """Positions (n, 3), m, with those of pellets that nothing has reached as they fly from ``x`` at ``v``: what
        they came to in the end, see Scheme.due.

        after : positions, speeds, and what pushes, twice, at the end of the step of ``h``, s; these are changed.
        """
        there, speed, push, force = after
        alone = self.nodes[~contacts.reached()[self.nodes] & (self._world.free[self.nodes] > 0.0)]
        if len(alone):
            way = np.zeros_like(x)
            way[alone] = h * v[alone] + 0.5 * h * h * pull[alone]
            contacts.look(x, way)           # it is not quite the way that was solved for
            alone = alone[~contacts.reached()[alone]]
            there = there.copy()
            there[alone] = x[alone] + way[alone]
            speed[alone] = v[alone] + h * pull[alone]
            push[alone] = force[alone] = 0.0
        return there
