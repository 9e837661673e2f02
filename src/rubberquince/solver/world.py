"""The flat arrays of one run: nodes, terms, matrix pattern, skin.  Compiled once a run.

Values that keep the topology (materials, gaps, friction, gravity) are written into these arrays while
the run goes on; everything else needs a new world.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from rubberquince.shapes.polymesh import is_closed
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.carriers.led import led_carrier
from rubberquince.solver.carriers.pellets import pellet_carrier
from rubberquince.solver.carriers.rigid import rigid_carrier
from rubberquince.solver.carriers.shell import shell_carrier
from rubberquince.solver.carriers.solid import solid_carrier
from rubberquince.solver.specs import (
    AnyMaterial,
    Course,
    Inflation,
    LedSpec,
    PelletSpec,
    RigidSpec,
    RunSpec,
    ShellSpec,
    SolidSpec,
    Touch,
)
from rubberquince.solver.terms.bending import Bending
from rubberquince.solver.terms.flow import Flow
from rubberquince.solver.terms.goals import Goals
from rubberquince.solver.terms.membrane import Membrane
from rubberquince.solver.terms.octahedra import Octahedra
from rubberquince.solver.terms.pressing import Pressing
from rubberquince.solver.terms.reshaping import Reshaping
from rubberquince.solver.terms.springs import Springs
from rubberquince.solver.terms.term import Term

RIGID, LED = 1, 2            # how firm something is; see World.firm
OWN_BOUNCE = -1.0            # no number for the bounce: what bodies are made of decides
CARRIERS: dict[type, Callable[[Any], Carrier]] = {
    SolidSpec: solid_carrier, ShellSpec: shell_carrier, LedSpec: led_carrier,
    RigidSpec: rigid_carrier, PelletSpec: pellet_carrier}


@dataclass(eq=False)
class Pattern:
    """Where the 3x3 blocks of all terms go: block rows, and for each block on or above the diagonal, its number
    (``upper``), that of its mirror image, and the parts it sums.
    """

    row_ptr: np.ndarray
    col: np.ndarray
    diagonal: np.ndarray
    upper: np.ndarray
    mirror: np.ndarray
    block_ptr: np.ndarray
    block_item: np.ndarray
    block_flip: np.ndarray


def make_pattern(pairs: np.ndarray, n: int) -> Pattern:
    """Pattern of the matrix over ``n`` nodes that blocks between ``pairs`` (blocks, 2) of nodes add up to.

    Each node has a block of its own, if only of zeros.
    """
    own = np.arange(n, dtype=np.int64)
    a, b = pairs[:, 0].astype(np.int64), pairs[:, 1].astype(np.int64)
    kept = np.flatnonzero((a >= 0) & (b >= 0))
    key = np.minimum(a, b)[kept] * n + np.maximum(a, b)[kept]
    order = kept[np.argsort(key, kind="stable")]
    above = np.union1d(key, own * n + own)
    below = above % n * n + above // n
    unique = np.union1d(above, below)
    rows, col = unique // n, unique % n
    return Pattern(
        row_ptr=np.searchsorted(rows, np.arange(n + 1)).astype(np.uint64), col=col.astype(np.uint64),
        diagonal=np.flatnonzero(rows == col), upper=np.searchsorted(unique, above),
        mirror=np.searchsorted(unique, below),
        block_ptr=np.append(np.searchsorted(np.sort(key), above), len(key)),
        block_item=order, block_flip=(a > b)[order])


@dataclass(eq=False)
class Skin:
    """All surfaces: moving points first, then those of colliders.  One piece after another."""

    points: np.ndarray              # (n, 3) m, at the start
    moving: int
    bind_node: np.ndarray           # (moving, k)
    bind_weight: np.ndarray
    triangles: list[np.ndarray]     # a piece, global point numbers
    edges: np.ndarray
    owned_edge: list[np.ndarray]    # a piece, (t, 3) edge number or -1
    owned_point: list[np.ndarray]   # a piece, (t, 3) bool
    piece: np.ndarray               # (n,)
    area: np.ndarray                # (n,) m²
    studs: list[np.ndarray]         # a piece, (k, 4) the point and the corners of the face that it lies on
    shown: np.ndarray               # (moving,) bool: which are no studs


class World:
    """Arrays of all bodies and the skins of everything that touches.  A body is a number: their order in the spec."""

    def __init__(self, spec: RunSpec) -> None:
        self.spec = spec
        self.bodies = len(spec.bodies)
        self.carriers = [CARRIERS[type(body)](body) for body in spec.bodies]
        counts = [len(carrier.start) for carrier in self.carriers]
        self.first_node = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        n = int(self.first_node[-1])
        self.start = _stack([carrier.start for carrier in self.carriers], (0, 3))
        self.node_body = np.repeat(np.arange(self.bodies), counts)
        self.share = _stack([carrier.share for carrier in self.carriers], (0,))
        self.free = 1.0 - _stack([carrier.held.astype(float) for carrier in self.carriers], (0,))
        self.of_balls = np.array([carrier.radius is not None for carrier in self.carriers]
                                 + [False] * len(spec.colliders), bool)     # pieces (pieces,)
        held = (np.bincount(self.node_body, self.free == 0.0, self.bodies) > 0.0) | self.of_balls[: self.bodies]
        drawn = np.array([body.goal is not None for body in spec.bodies], bool)
        as_one = np.array([body.goal is not None and body.goal.draws in ("middle", "whole") for body in spec.bodies],
                          bool)
        self.anchored = held | drawn                    # bodies (bodies,) bool whose momentum is not theirs alone
        self.turns = ~held & (~drawn | as_one)          # those that turn as a whole
        balls = self.of_balls[self.node_body]
        self.part = np.where(balls, self.bodies + np.arange(n), self.node_body)    # (n,), what is held back as one
        self.octahedra = Octahedra(spec.bodies, self.carriers, self.first_node)
        self.flow = Flow(spec.bodies, self.octahedra)
        self.reshaping = Reshaping(spec.bodies, self.octahedra, self.first_node)
        self.membrane = Membrane(spec.bodies, self.carriers, self.first_node)
        self.bending = Bending(spec.bodies, self.carriers, self.first_node)
        self.pressing = Pressing(spec.bodies, self.carriers, self.first_node)
        self.springs = Springs(spec.bodies, self.carriers, self.first_node)
        self.goals = Goals(spec.bodies, self.carriers, self.first_node)
        self.terms: tuple[Term, ...] = (self.octahedra, self.flow, self.reshaping, self.membrane, self.bending,
                                        self.pressing, self.springs, self.goals)
        self.pattern = make_pattern(np.concatenate([term.pairs for term in self.terms]), n)
        self.skin = _skin(spec, self.carriers, self.first_node)
        self.elements = 4 * len(self.octahedra.corner) + sum(
            map(len, (self.membrane.tri, self.bending.hinge, self.springs.pair)))
        self.mass = np.zeros(n)
        self.gravity, self.pulls = spec.gravity, spec.pulls
        self.weight = np.array([body.weight for body in spec.bodies], float)
        self.ground_friction = float(np.max(spec.ground.friction)) if spec.ground else 0.0
        self.materials: list[AnyMaterial] = [body.material for body in spec.bodies]
        pieces = self.bodies + len(spec.colliders)
        self.gap = np.zeros(pieces)                                 # the widest of each piece
        self.point_gap, self.friction = np.zeros((2, len(self.skin.points)))
        rigid = [isinstance(body, RigidSpec) for body in spec.bodies]
        self.any_rigid = any(rigid)
        # of pieces, then the ground: 0 gives way, RIGID, and LED is led or stands
        self.firm = np.array([*(LED if isinstance(body, LedSpec) else int(r) for r, body in zip(rigid, spec.bodies)),
                              *([LED] * (len(spec.colliders) + 1))])
        shells = [isinstance(body, ShellSpec) for body in spec.bodies]
        self.thin = np.array(shells + [False] * len(spec.colliders), bool)
        self.bounce, self.outside_only = np.full(pieces, OWN_BOUNCE), np.zeros(pieces, bool)
        self.meets = self._that_give_way(pieces)                    # which pieces touch; the last is the ground
        for one, two in spec.apart:
            self.meets[one, two] = self.meets[two, one] = False
        self.rests: dict[int, Course] = {k: body.rest for k, body in enumerate(spec.bodies)
                                         if isinstance(body, SolidSpec | ShellSpec) and body.rest is not None}
        self.touches = [body.touch for body in spec.bodies] + [c.touch for c in spec.colliders]
        for k, touch in enumerate(self.touches):
            self.set_touch(k, touch)
        for k, body in enumerate(spec.bodies):
            self.set_material(k, body.material)

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """Write a material into the running arrays; damping is set apart, it needs a frequency."""
        self.materials[body] = material
        for term in self.terms:
            term.set_material(body, material)
        mine = self.node_body == body
        self.mass[mine] = material.density * self.share[mine]

    def set_rest(self, body: int, course: Course) -> None:
        """Let a body that has a rest course have another one."""
        self.rests[body] = course
        self.reshaping.set_rest(body, course)
        self.membrane.set_rest(body, course)
        self.bending.set_rest(body, course)
        self.springs.set_rest(body, course)

    def set_inflation(self, body: int, inflation: Inflation) -> None:
        self.pressing.set_inflation(body, inflation)

    def set_touch(self, piece: int, touch: Touch) -> None:
        """Write how a piece (bodies first, then colliders) touches into the running arrays."""
        self.touches[piece] = touch
        mine = self.skin.piece == piece
        radius = self.carriers[piece].radius if piece < self.bodies else None
        gap = touch.gap if radius is None else radius
        gaps, friction = gap, touch.friction
        if piece < self.bodies:
            gaps, friction = (self.carriers[piece].at_all_points(values) for values in (gap, friction))
        self.gap[piece], self.point_gap[mine], self.friction[mine] = np.max(gap), gaps, friction
        self.bounce[piece] = OWN_BOUNCE if touch.bounce is None or radius is not None else touch.bounce
        self.outside_only[piece] = touch.outside_only and is_closed(self.skin.triangles[piece])

    def _that_give_way(self, pieces: int) -> np.ndarray:
        """Which of all ``pieces`` and the ground can push each other: one gives way, and is not rigid by itself."""
        gives_way = np.zeros(pieces + 1, bool)
        np.logical_or.at(gives_way, self.node_body, (self.free > 0.0) | self.of_balls[self.node_body])
        meets = gives_way[:, None] | gives_way
        for k, body in enumerate(self.spec.bodies):
            meets[k, k] &= not isinstance(body, RigidSpec)
        return meets

    def own_pressure(self, body: int) -> float:
        """Pressure, Pa, that a body's contact has to bear at least: of its own weight, and of what presses in it."""
        mine, skin = self.node_body == body, self.skin
        pull = abs(self.gravity * self.weight[body])
        if self.carriers[body].filled:
            load = float(np.mean(self.materials[body].density)) * pull * np.ptp(self.start[mine, 1])
        else:
            area = skin.area[: skin.moving][skin.piece[: skin.moving] == body].sum()
            load = pull * self.mass[mine].sum() / max(area, 1e-300)
        return load + abs(self.pressing.inflations[body].pressure)


def _stack(parts: list[np.ndarray], empty: tuple[int, ...]) -> np.ndarray:
    return np.concatenate(parts) if parts else np.zeros(empty)


def _skin(spec: RunSpec, carriers: list[Carrier], first_node: np.ndarray) -> Skin:
    points, triangles, bind_node, bind_weight, studs = [], [], [], [], []
    width = max((carrier.bind_node.shape[1] for carrier in carriers), default=1)
    count = 0
    for carrier, first in zip(carriers, first_node):
        node, weight = carrier.bind_node, carrier.bind_weight
        points.append(np.einsum("pk,pki->pi", weight, carrier.start[node]))
        more = width - node.shape[1]                # nodes without weight, so that all have as many
        bind_node.append(np.concatenate([node, np.repeat(node[:, :1], more, axis=1)], axis=1) + first)
        bind_weight.append(np.pad(weight, ((0, 0), (0, more))))
        triangles.append(carrier.triangles + count)
        on = np.zeros((0, 3), np.int64) if carrier.studs is None else carrier.studs.corner
        studs.append(np.column_stack([np.arange(carrier.points, len(node)), on]) + count)
        count += len(points[-1])
    moving = count
    for collider in spec.colliders:
        points.append(np.asarray(collider.points, float))
        triangles.append(collider.triangles.astype(np.int64) + count)
        alone = np.zeros(0, np.int64) if collider.studs is None else collider.studs
        studs.append(np.repeat(alone[:, None], 4, axis=1) + count)
        count += len(points[-1])
    piece = [np.full(len(part), k) for k, part in enumerate(points)]
    all_points = _stack(points, (0, 3))
    edges, owned_edge, owned_point = _owners(triangles, count)
    area = np.zeros(count)
    for tri in triangles:
        a, b, c = all_points[tri[:, 0]], all_points[tri[:, 1]], all_points[tri[:, 2]]
        third = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
        for side in range(3):
            np.add.at(area, tri[:, side], third)
    shown = np.ones(moving, bool)
    for k, carrier in enumerate(carriers):
        if carrier.studs is not None:
            shown[studs[k][:, 0]] = False
            last = int(studs[k][-1, 0]) + 1
            area[last - len(carrier.bind_node):last] = carrier.studs.area
    return Skin(all_points, moving, _stack(bind_node, (0, width)).astype(np.int64),
                _stack(bind_weight, (0, width)), triangles, edges, owned_edge, owned_point,
                _stack(piece, (0,)).astype(np.int64), area, studs, shown)


def _owners(triangles: list[np.ndarray], count: int) -> tuple[np.ndarray, list[np.ndarray], list[np.ndarray]]:
    """Unique edges, and for each triangle the edges and points that it alone lists."""
    edges: list[np.ndarray] = []
    owned_edge: list[np.ndarray] = []
    owned_point: list[np.ndarray] = []
    first = 0
    for tri in triangles:
        if (tri[:, 0] == tri[:, 1]).all():                  # balls: points alone
            owned_edge.append(np.full(tri.shape, -1, np.int64))
            owned_point.append(np.tile([True, False, False], (len(tri), 1)))
            continue
        pairs = np.sort(tri[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        base, once = np.unique(pairs[:, 0] * count + pairs[:, 1], return_index=True)
        mine = np.stack(np.divmod(base, count), axis=1)
        owner = np.full(3 * len(tri), -1, np.int64)
        owner[once] = np.arange(len(base)) + first
        owned_edge.append(owner.reshape(-1, 3))
        flat = tri.reshape(-1)
        at = np.full(count, -1)
        at[flat[::-1]] = np.arange(len(flat))[::-1]             # where each is used first
        first_use = np.zeros(len(flat), bool)
        first_use[at[at >= 0]] = True
        owned_point.append(first_use.reshape(-1, 3))
        edges.append(mine)
        first += len(mine)
    return _stack(edges, (0, 2)).astype(np.int64), owned_edge, owned_point
