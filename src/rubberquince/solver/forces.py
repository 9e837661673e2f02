"""What pushes nodes besides what they are made of: weight, uneven pressure, air and pullers."""

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import igl
import numpy as np

from rubberquince.kernels.air import DENSITY, add_air, add_share, clamp
from rubberquince.kernels.contact import carry, spread
from rubberquince.shapes.polymesh import is_closed
from rubberquince.shapes.rigid_move import rigid_move
from rubberquince.solver import fields
from rubberquince.solver.specs import ForceSpec
from rubberquince.solver.world import World

TUG_PITCH, TUG_REACH = 16.0, 0.15   # rad/s, at which what is tugged at swings; of its size, about the spot
BALL_DRAG = 0.5 * DENSITY * 0.47 * np.pi       # of a ball: force over radius² and speed² (Hoerner 1965, ch. 3)
TUG_MOST = 40.0             # of its weight: it is pulled no harder
MOST, FASTEST = 1e5, 300.0  # m/s² and m/s: whatever is asked for, nothing pulls harder, no air goes faster


class Forces:
    """Forces on a world's nodes that are taken as they are at the start of a substep."""

    def __init__(self, world: World) -> None:
        self._world, self.scene = world, list[ForceSpec]()
        self._here = self.scene             # where those that ride are now
        skin = world.skin
        first = np.searchsorted(skin.piece[: skin.moving], np.arange(world.bodies + 1))
        self._points = [slice(int(lo), int(hi)) for lo, hi in pairwise(first)]
        self._nodes = [slice(int(lo), int(hi)) for lo, hi in pairwise(world.first_node)]
        self._closed = [is_closed(skin.triangles[k]) for k in range(world.bodies)]
        self._windward = [self._facing_out(k) for k in range(world.bodies)]
        self._tug: tuple[np.ndarray, np.ndarray, float, np.ndarray] | None = None     # nodes, shares, kg, and to where
        self.tug_force = 0.0                # N, of the last step
        self._surfaces: dict[tuple[int, int], np.ndarray] = {}      # by force and body: places that draw in this frame
        self._stirred: dict[tuple[int, int], np.ndarray] = {}       # and how turbulent air goes in it
        self.set_forces(world.spec.forces)

    def set_forces(self, forces: Sequence[ForceSpec]) -> None:
        """Put other forces in the place of all."""
        self.scene = [force for force in forces if force.strength or force.inflow or force.lift]
        self._here = self.scene
        self._surfaces, self._stirred = {}, {}

    def grab(self, body: int, x: np.ndarray, place: np.ndarray) -> None:
        """Take hold of a body with nodes at ``x`` (n, 3), m, about a ``place`` (3,) of its skin."""
        w, mine, nodes = self._world, self._points[body], self._nodes[body]
        skin = self._carried(x)[mine]
        reach = TUG_REACH * float(np.ptp(w.start[nodes], axis=0).max())
        near = np.exp(-((skin - place) ** 2).sum(axis=1) / (0.5 * reach * reach))
        share = np.zeros(len(x))
        for node, weight in zip(w.skin.bind_node[mine].T, w.skin.bind_weight[mine].T):
            np.add.at(share, node, np.abs(weight) * near)
        share *= w.free
        held = np.flatnonzero(share > 1e-3 * share.max(initial=1e-300))
        self._tug = held, share[held] / share[held].sum(), float(w.mass[nodes].sum()), place.copy()

    def tug(self, target: np.ndarray | None) -> None:
        """Pull what is held towards a place, or let go."""
        if self._tug is not None:
            self._tug = None if target is None else (*self._tug[:3], np.asarray(target, float))
        self.tug_force = 0.0

    @property
    def tugs(self) -> bool:
        return self._tug is not None

    def where_it_rides(self, force: ForceSpec, x: np.ndarray) -> ForceSpec:
        """A force with its place and axis where the body that it rides on took them, with nodes at ``x`` (n, 3), m."""
        if force.rides < 0:
            return force
        mine = self._nodes[force.rides]
        turn, shift = rigid_move(self._world.start[mine], x[mine])
        return replace(force, place=turn @ force.place + shift, axis=turn @ force.axis, rides=-1)

    def begin_frame(self, x: np.ndarray, all_skins: np.ndarray) -> None:
        """Nodes are at ``x`` and all skins at ``all_skins`` (points, 3), m, as a frame begins.

        Which place of a surface is nearest is found once a frame, and how turbulent air goes.
        """
        self._surfaces, self._stirred = {}, {}
        skin = self._world.skin
        for number, force in enumerate(self.scene):
            if force.kind == "puller" and force.about == "piece" and force.piece >= 0:
                for body in np.flatnonzero(force.bodies):
                    at = np.ascontiguousarray(x[self._nodes[body]])
                    self._surfaces[number, int(body)] = igl.point_mesh_squared_distance(
                        at, all_skins, skin.triangles[force.piece])[2]

    def at(self, x: np.ndarray, v: np.ndarray, since: float, h: float) -> tuple[np.ndarray, np.ndarray]:
        """What nodes at ``x`` (n, 3), m, with speeds ``v`` (n, 3), m/s, are pushed with in a step of ``h``, s.

        (n, 3) m/s², and by how much less for what they speed up in it, (n,) N s/m.
        The step ends ``since``, s, after the start; forces are those half way through it.
        """
        w = self._world
        x, since, slope = x + 0.5 * h * v, since - 0.5 * h, np.zeros(len(x))
        self._here = [self.where_it_rides(force, x) for force in self.scene]
        out = np.repeat((w.gravity * w.weight)[:, None] * w.pulls, np.diff(w.first_node), axis=0)
        uneven = [k for k, inflation in enumerate(w.pressing.inflations) if inflation.spread is not None]
        windy = [k for k in range(w.bodies) if any(force.bodies[k] for force in self.scene if force.kind != "puller")]
        if uneven or windy:
            felt, skin = np.zeros((len(x), 4)), self._carried(x)
            for body in uneven:
                self._add_uneven(body, x, skin, since, felt)
            speed = self._carried(v) if windy else skin
            for body in windy:
                self._add_wind(body, skin, speed, since, felt)
            out += felt[:, :3] / w.mass[:, None]
            slope += felt[:, 3]
        if self._tug is not None or any(force.kind == "puller" for force in self.scene):
            pulled = np.zeros_like(x)
            self._add_pulls(x, v, since, pulled)
            if self._tug is not None:
                self._add_tug(x, v, h, pulled, slope)
            clamp(pulled, MOST)
            out += pulled
        return out, slope

    def _add_tug(self, x: np.ndarray, v: np.ndarray, h: float, out: np.ndarray, slope: np.ndarray) -> None:
        """The spring of a tug, damped critically; its firmness goes into the solve, too."""
        assert self._tug is not None
        nodes, share, mass, target = self._tug
        firm = mass * TUG_PITCH ** 2
        force = firm * (target - share @ x[nodes]) - 2.0 * mass * TUG_PITCH * (share @ v[nodes])
        force *= min(1.0, TUG_MOST * 9.81 * mass / max(float(np.linalg.norm(force)), 1e-300))
        self.tug_force = float(np.linalg.norm(force))
        out[nodes] += share[:, None] * force / self._world.mass[nodes, None]
        slope[nodes] += share * (firm * h + 2.0 * mass * TUG_PITCH)

    def _carried(self, values: np.ndarray) -> np.ndarray:
        skin = self._world.skin
        out = np.empty((skin.moving, 3))
        carry(values, skin.bind_node, skin.bind_weight, out)
        return out

    def _facing_out(self, body: int) -> np.ndarray:
        """Triangles (t, 3) of a body, by its own points, that look outwards if it is closed."""
        tri = self._world.skin.triangles[body] - self._points[body].start
        inside_out = self._closed[body] and not self._world.of_balls[body] and self._world.pressing.way(body) < 0.0
        return np.ascontiguousarray(tri[:, ::-1] if inside_out else tri)

    def _spread(self, body: int, of_points: np.ndarray, out: np.ndarray) -> None:
        """Add what skin points of a body feel (points, k) to its nodes ``out`` (n, k)."""
        skin = self._world.skin
        spread(of_points, self._points[body].start, skin.bind_node, skin.bind_weight, out)

    def _add_uneven(self, body: int, x: np.ndarray, skin: np.ndarray, since: float, felt: np.ndarray) -> None:
        """Add to ``felt`` (n, 4), N, what pressure by its map has more or less than its mean."""
        w, inflation = self._world, self._world.pressing.inflations[body]
        mine = self._points[body]
        pressure = w.pressing.pressure(body, x) if inflation.backing is not None else inflation.now(since)
        assert inflation.spread is not None
        tri = w.skin.triangles[body]
        more = inflation.spread[tri - mine.start].mean(axis=1) - 1.0
        a, b, c = (skin[tri[:, k]] for k in range(3))
        push = (w.pressing.way(body) * pressure / 6.0 * more)[:, None] * np.cross(b - a, c - a)
        points = np.zeros((mine.stop - mine.start, 3))
        for k in range(3):
            np.add.at(points, tri[:, k] - mine.start, push)
        self._spread(body, points, felt)

    def _add_wind(self, body: int, skin: np.ndarray, speed: np.ndarray, since: float, felt: np.ndarray) -> None:
        """Add to ``felt`` (n, 4) the force of all air that reaches a body, N, and how it grows with speed, N s/m."""
        mine, tri = self._points[body], self._windward[body]
        at, flow = skin[mine], np.zeros((mine.stop - mine.start, 4))
        for number, one in enumerate(self._here):
            if one.kind != "puller" and one.bodies[body]:
                share = fields.presence(one, at, since)
                if share.any():
                    add_share(self._air(number, body, at, since), share, flow)
        clamp(flow, FASTEST)
        push = np.zeros_like(flow)
        if self._world.of_balls[body]:
            past = (flow[:, :3] - speed[mine]) * (flow[:, 3:] > 0.0)
            push[:, 3] = BALL_DRAG * self._world.point_gap[mine] ** 2 * np.linalg.norm(past, axis=1)
            push[:, :3] = push[:, 3:] * past
        else:
            add_air(at, speed[mine], tri, self._closed[body], flow, push)
        self._spread(body, push, felt)

    def _air(self, number: int, body: int, at: np.ndarray, since: float) -> np.ndarray:
        force = self._here[number]
        if force.kind != "turbulence":
            return fields.air(force, at, since)
        if (number, body) not in self._stirred:
            self._stirred[number, body] = fields.air(force, at, since)
        return self._stirred[number, body]

    def _add_pulls(self, x: np.ndarray, v: np.ndarray, since: float, out: np.ndarray) -> None:
        for number, one in enumerate(self._here):
            if one.kind != "puller":
                continue
            for body in np.flatnonzero(one.bodies):
                mine = self._nodes[body]
                to = self._surfaces.get((number, int(body)))
                if to is None:
                    if one.about == "piece":
                        continue                    # the piece is gone
                    to = fields.middle_of(one, x[mine])
                out[mine] += fields.presence(one, x[mine], since)[:, None] * fields.pull(one, x[mine], v[mine], to)
