"""Pellets in a step: when they are let go and come back, and how they fly where nothing is near."""

from dataclasses import replace

import igl
import numpy as np

from rubberquince.distinct import distinct
from rubberquince.solver.contacts import Contacts
from rubberquince.solver.specs import PelletSpec
from rubberquince.solver.state import State
from rubberquince.solver.world import World

MOMENT = 1e-9               # s
BURIED = 0.5                # of a radius: what is nearer than that was not brought there by motion
TOUCHES = 0.01              # of a distance of two: as near they may wait as they are made
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
        self._life, self._again = (np.concatenate([np.zeros(0), *(np.full(len(spec.points), getattr(spec, name))
                                                                  for _, spec in specs)]) for name in ("life", "again"))
        solid = [tri for k, tri in enumerate(world.skin.triangles) if not world.of_balls[k]]
        self._faces = np.concatenate([np.zeros((0, 3), np.int64), *solid]).astype(np.int64)
        self._around = np.zeros(len(self.nodes))        # how often something closes round each at the start
        if len(self._faces) and np.isfinite(self._life).any():
            self._around = igl.fast_winding_number(world.skin.points, self._faces, world.start[self.nodes])
        ends = self._released + np.where(np.isfinite(self._life), self._life, 0.0)
        ends[np.isfinite(self._again)] = np.inf
        self.last = float(ends.max(initial=0.0))        # s, when the last is let go or goes back

    def _age(self, since: float) -> np.ndarray:
        """How long ago, s, each (k,) was let go the last time; below 0 it has not been."""
        age = since - self._released
        again = np.isfinite(self._again) & (age > 0.0) & np.isfinite(age)
        age[again] -= np.floor((age[again] + MOMENT) / self._again[again]) * self._again[again]
        return age

    def _waits(self, x: np.ndarray) -> np.ndarray:
        return np.array((x[self.nodes] == self._world.start[self.nodes]).all(axis=1))

    def let_go(self, x: np.ndarray, v: np.ndarray, since: float, h: float) -> np.ndarray:
        """Speeds (n, 3), m/s, with those of what is let go in the step of ``h``, s, that ends at ``since``.

        Until then it is held where it waits, which is where ``x`` (n, 3) has not changed.
        """
        age = self._age(since - h)
        lives = (age >= -MOMENT) & ((age < self._life - MOMENT) | np.isinf(self._life))
        free = (lives | ((since - h > self._released + MOMENT) & ~self._waits(x))) & ~self._held
        self._world.free[self.nodes] = free
        now = free & lives & (age < h - MOMENT) & (self._speed != 0.0).any(axis=1)
        if now.any():
            v = v.copy()
            v[self.nodes[now]] = self._speed[now]
        return v

    def gone_back(self, state: State, skin: np.ndarray, since: float) -> State:
        """A state with those back where they waited whose life is over ``since``, s, after the start.

        Where something else is in that place, with all skins at ``skin`` (n, 3), m, they wait for it to go.
        """
        world, age = self._world, self._age(since)
        over = np.flatnonzero((age >= self._life - MOMENT) & ~self._waits(state.x) & ~self._held)
        if not len(over):
            return state
        place, radius = world.start[self.nodes[over]], self._radius[over]
        free = np.ones(len(over), bool)
        if len(self._faces):
            squared = igl.point_mesh_squared_distance(place, skin, self._faces)[0]
            around = igl.fast_winding_number(skin, self._faces, place)
            free = (squared > (radius + float(world.gap.max())) ** 2) & (np.abs(around - self._around[over]) < 0.5)
        x, v, push, force = (part.copy() for part in (state.x, state.v, state.push, state.force))
        for k in np.flatnonzero(free):                  # one after another: what is back is in the way of the next
            others = np.delete(self.nodes, over[k])
            room = self._radius[over[k]] + np.delete(self._radius, over[k])
            if (np.linalg.norm(x[others] - place[k], axis=1) >= (1.0 - TOUCHES) * room).all():
                node = self.nodes[over[k]]
                x[node], v[node], push[node], force[node] = place[k], 0.0, 0.0, 0.0
        return replace(state, x=x, v=v, push=push, force=force)

    def buried(self, contacts: Contacts) -> np.ndarray:
        """Which of the pellets (k,) bool are deep in something at the start of a step."""
        t, near = contacts.touching, contacts.near
        deep = t.ids[t.distance < BURIED * t.gap]
        nodes = near.bind_node[distinct(deep[(deep >= 0) & (deep < near.moving)])]
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
