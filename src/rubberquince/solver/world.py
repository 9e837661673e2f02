"""The flat arrays of one run: nodes, octahedra, matrix pattern, skin.  Compiled once a run.

Values that keep the topology (materials, gaps, friction, gravity) are written into these arrays while
the run goes on; everything else needs a new world.
"""

from dataclasses import dataclass

import numpy as np

from rubberquince.kernels.elasticity import LANES
from rubberquince.kernels.stiffness import PAIRS
from rubberquince.shapes.polymesh import edges_of, is_closed
from rubberquince.solver.specs import Material, RunSpec, SolidSpec, Touch

AGGREGATE_CELLS = 2500       # tetrahedra an aggregate of the coarse space
MOST_AGGREGATES = 24
OWN_BOUNCE = -1.0            # no number for the bounce: what bodies are made of decides


@dataclass(eq=False)
class Pattern:
    """Where the 3x3 blocks of octahedra go: block rows, and for each block on or above the diagonal, its number
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
    node_ptr: np.ndarray
    node_item: np.ndarray


def make_pattern(corner: np.ndarray, n: int) -> Pattern:
    """Pattern of the matrix that octahedra with corners (o, 6) give over ``n`` nodes."""
    a, b = corner[:, PAIRS[:, 0]].reshape(-1), corner[:, PAIRS[:, 1]].reshape(-1)
    kept = np.flatnonzero((a >= 0) & (b >= 0))
    key = np.minimum(a, b)[kept].astype(np.int64) * n + np.maximum(a, b)[kept]
    order = kept[np.argsort(key, kind="stable")]
    above, first = np.unique(np.sort(key), return_index=True)
    below = above % n * n + above // n
    unique = np.union1d(above, below)
    rows, col = unique // n, unique % n
    flat = corner.reshape(-1)
    node_order = np.argsort(flat, kind="stable")
    node_order = node_order[flat[node_order] >= 0]
    return Pattern(
        row_ptr=np.searchsorted(rows, np.arange(n + 1)).astype(np.uint64), col=col.astype(np.uint64),
        diagonal=np.flatnonzero(rows == col), upper=np.searchsorted(unique, above),
        mirror=np.searchsorted(unique, below), block_ptr=np.append(first, len(key)),
        block_item=order, block_flip=(a > b)[order],
        node_ptr=np.searchsorted(flat[node_order], np.arange(n + 1)), node_item=node_order)


@dataclass(eq=False)
class Octahedra:
    """All octahedra, sorted by axis and padded to whole batches of lanes; see kernels.elasticity.

    corner : (o, 6) int64, -1 where missing.  The rest are lane arrays, (batches, ..., 16).
    """

    corner: np.ndarray
    body: np.ndarray
    scale: np.ndarray
    lane_corner: np.ndarray
    axis: np.ndarray
    fill: np.ndarray
    mu: np.ndarray
    lam: np.ndarray
    inv: np.ndarray
    volume: np.ndarray

    def set_lame(self, body: int, lam: float, mu: float) -> None:
        self.lam[self.body == body] = lam
        self.mu[self.body == body] = mu
        np.multiply(self.lam, self.scale, out=self.lam, where=self.body == body)
        np.multiply(self.mu, self.scale, out=self.mu, where=self.body == body)


def make_octahedra(solids: list[SolidSpec], first_node: np.ndarray) -> Octahedra:
    corner = _stack([np.where(s.lattice.corner >= 0, s.lattice.corner + first, -1)
                     for s, first in zip(solids, first_node)], (0, 6)).astype(np.int64)
    axis = _stack([s.lattice.axis for s in solids], (0,)).astype(np.int64)
    fill = _stack([s.lattice.fill for s in solids], (0, 4))
    scale = _stack([s.lattice.scale for s in solids], (0,))
    body = np.repeat(np.arange(len(solids)), [len(s.lattice.corner) for s in solids])
    cell = np.array([s.lattice.cell for s in solids], float)
    order: list[np.ndarray] = []
    batch_axis: list[np.ndarray] = []
    for a in range(3):
        mine = np.flatnonzero(axis == a)
        batches = -(-len(mine) // LANES)
        order.append(np.concatenate([mine, np.full(batches * LANES - len(mine), -1)]))
        batch_axis.append(np.full(batches, a))
    take = np.concatenate(order).astype(np.int64)
    real = take >= 0
    corner = np.where(real[:, None], corner[take], -1) if len(corner) else np.zeros((0, 6), np.int64)
    fill = np.where(real[:, None], fill[take], 0.0) if len(corner) else np.zeros((0, 4))

    def lanes(values: np.ndarray) -> np.ndarray:
        return np.ascontiguousarray(values.reshape(-1, LANES, *values.shape[1:]).swapaxes(1, -1))

    lane_body = body[take].reshape(-1, LANES) if len(take) else np.zeros((0, LANES), np.int64)
    lane_cell = cell[lane_body] if len(take) else np.zeros((0, LANES))
    lane_scale = scale[take].reshape(-1, LANES) if len(take) else np.zeros((0, LANES))
    return Octahedra(
        corner=corner, body=lane_body, scale=lane_scale, lane_corner=lanes(np.maximum(corner, 0)),
        axis=np.concatenate(batch_axis).astype(np.int64), fill=lanes(fill), mu=np.zeros(lane_body.shape),
        lam=np.zeros(lane_body.shape), inv=1.0 / np.maximum(lane_cell, 1e-300), volume=lane_cell ** 3 / 12.0)


@dataclass(eq=False)
class Skin:
    """All surfaces: moving points first, then those of colliders.  One piece after another."""

    points: np.ndarray              # (n, 3) m, at the start
    moving: int
    bind_node: np.ndarray           # (moving, 4)
    bind_weight: np.ndarray
    triangles: list[np.ndarray]     # a piece, global point numbers
    edges: np.ndarray
    owned_edge: list[np.ndarray]    # a piece, (t, 3) edge number or -1
    owned_point: list[np.ndarray]   # a piece, (t, 3) bool
    piece: np.ndarray               # (n,)
    area: np.ndarray                # (n,) m²


class World:
    """Arrays of all solids and the skins of everything that touches."""

    def __init__(self, spec: RunSpec) -> None:
        self.spec = spec
        solids = spec.solids
        self.solids = len(solids)
        counts = [len(s.lattice.nodes) for s in solids]
        self.first_node = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        n = int(self.first_node[-1])
        self.start = _stack([s.lattice.nodes @ s.rotation.T + s.translation for s in solids], (0, 3))
        self.node_body = np.repeat(np.arange(len(solids)), counts)
        self.share = _stack([s.lattice.share for s in solids], (0,))
        self.free = 1.0 - _stack([_held(s) for s in solids], (0,))
        self.octahedra = make_octahedra(solids, self.first_node)
        self.pattern = make_pattern(self.octahedra.corner, n)
        self.aggregate, self.mode = _coarse_space(solids)
        self.skin = _skin(spec, self.first_node)
        self.cells = sum(s.lattice.cells for s in solids)
        self.mass = np.zeros(n)
        self.gravity = spec.gravity
        self.weight = np.array([s.weight for s in solids], float)
        self.ground_friction = spec.ground.friction if spec.ground else 0.0
        self.materials: list[Material] = [s.material for s in solids]
        pieces = len(solids) + len(spec.colliders)
        self.gap, self.friction = np.zeros(pieces), np.zeros(pieces)
        self.bounce, self.outside_only = np.full(pieces, OWN_BOUNCE), np.zeros(pieces, bool)
        self.touches = [s.touch for s in solids] + [c.touch for c in spec.colliders]
        for k, touch in enumerate(self.touches):
            self.set_touch(k, touch)
        for k, solid in enumerate(solids):
            self.set_material(k, solid.material)

    def set_material(self, body: int, material: Material) -> None:
        """Write a material into the running arrays; damping is set apart, it needs a frequency."""
        self.materials[body] = material
        self.octahedra.set_lame(body, *material.lame)
        mine = self.node_body == body
        self.mass[mine] = material.density * self.share[mine]

    def set_touch(self, piece: int, touch: Touch) -> None:
        """Write how a piece (solids first, then colliders) touches into the running arrays."""
        self.touches[piece] = touch
        self.gap[piece], self.friction[piece] = touch.gap, touch.friction
        self.bounce[piece] = OWN_BOUNCE if touch.bounce is None else touch.bounce
        self.outside_only[piece] = touch.outside_only and is_closed(self.spec.colliders[piece - self.solids].triangles)

    def weight_pressure(self, body: int) -> float:
        """Pressure, Pa, of the body's own column of material under gravity."""
        height = np.ptp(self.start[self.node_body == body, 1])
        return self.materials[body].density * abs(self.gravity * self.weight[body]) * height


def _stack(parts: list[np.ndarray], empty: tuple[int, ...]) -> np.ndarray:
    return np.concatenate(parts) if parts else np.zeros(empty)


def _held(solid: SolidSpec) -> np.ndarray:
    return np.zeros(len(solid.lattice.nodes)) if solid.held is None else solid.held.astype(float)


def _coarse_space(solids: list[SolidSpec]) -> tuple[np.ndarray, np.ndarray]:
    """Aggregate (n,) of every node and its affine modes (n, 4): 1 and place within the aggregate."""
    numbers: list[np.ndarray] = []
    modes: list[np.ndarray] = []
    first = 0
    for solid in solids:
        nodes = solid.lattice.nodes
        parts = [np.arange(len(nodes))]
        wanted = min(max(round(solid.lattice.cells / AGGREGATE_CELLS), 1), MOST_AGGREGATES)
        while len(parts) < wanted:                   # halve the longest part of all
            parts.sort(key=lambda p: float(np.ptp(nodes[p], axis=0).max()))
            part = parts.pop()
            side = np.ptp(nodes[part], axis=0).argmax()
            order = part[np.argsort(nodes[part, side], kind="stable")]
            parts += [order[: len(order) // 2], order[len(order) // 2:]]
        number, mode = np.zeros(len(nodes), np.int64), np.ones((len(nodes), 4))
        for k, part in enumerate(parts):
            number[part] = first + k
            place = nodes[part] - nodes[part].mean(axis=0)
            mode[part, 1:] = place / max(np.abs(place).max(), 1e-300)
        numbers.append(number)
        modes.append(mode)
        first += len(parts)
    return _stack(numbers, (0,)).astype(np.int64), _stack(modes, (0, 4))


def _skin(spec: RunSpec, first_node: np.ndarray) -> Skin:
    points, triangles, piece, bind_node, bind_weight = [], [], [], [], []
    count = 0
    for k, solid in enumerate(spec.solids):
        lattice = solid.lattice
        bind_node.append(lattice.bind_node.astype(np.int64) + first_node[k])
        bind_weight.append(lattice.bind_weight)
        nodes = lattice.nodes @ solid.rotation.T + solid.translation
        points.append(np.einsum("pk,pki->pi", lattice.bind_weight, nodes[lattice.bind_node]))
        triangles.append(solid.triangles.astype(np.int64) + count)
        count += len(points[-1])
    moving = count
    for collider in spec.colliders:
        points.append(np.asarray(collider.points, float))
        triangles.append(collider.triangles.astype(np.int64) + count)
        count += len(points[-1])
    for k, part in enumerate(points):
        piece.append(np.full(len(part), k))
    all_points = _stack(points, (0, 3))
    edges, owned_edge, owned_point = _owners(triangles, count)
    area = np.zeros(count)
    for tri in triangles:
        a, b, c = all_points[tri[:, 0]], all_points[tri[:, 1]], all_points[tri[:, 2]]
        third = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
        for side in range(3):
            np.add.at(area, tri[:, side], third)
    return Skin(all_points, moving, _stack(bind_node, (0, 4)).astype(np.int64),
                _stack(bind_weight, (0, 4)), triangles, edges, owned_edge, owned_point,
                _stack(piece, (0,)).astype(np.int64), area)


def _owners(triangles: list[np.ndarray], count: int) -> tuple[np.ndarray, list[np.ndarray], list[np.ndarray]]:
    """Unique edges, and for each triangle the edges and points that it alone lists."""
    edges: list[np.ndarray] = []
    owned_edge, owned_point = [], []
    first = 0
    seen = np.zeros(count, bool)
    for tri in triangles:
        mine = edges_of(tri).astype(np.int64)
        pairs = np.sort(tri[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        key, base = pairs[:, 0] * count + pairs[:, 1], mine[:, 0] * count + mine[:, 1]
        number = np.searchsorted(base, key)
        _, once = np.unique(number, return_index=True)
        owner = np.full(len(key), -1, np.int64)
        owner[once] = number[once] + first
        owned_edge.append(owner.reshape(-1, 3))
        flat = tri.reshape(-1)
        _, at = np.unique(flat, return_index=True)
        first_use = np.zeros(len(flat), bool)
        first_use[at] = ~seen[flat[at]]
        owned_point.append(first_use.reshape(-1, 3))
        edges.append(mine)
        first += len(mine)
    return _stack(edges, (0, 2)).astype(np.int64), owned_edge, owned_point
