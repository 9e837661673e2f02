"""The elasticity of solids: all octahedra of their lattices; see kernels.elasticity."""

from collections.abc import Sequence

import numpy as np

from rubberquince.kernels import elasticity as el
from rubberquince.kernels import stiffness as st
from rubberquince.kernels.elasticity import LANES
from rubberquince.kernels.octahedron import GRADIENT, TETS
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import USUAL_GRAVITY, AnyMaterial, BodySpec, Material, SolidSpec

SMALLEST = 1e-3             # of the size at rest
DENSE_MU = 30.0             # how stiff what is crushed is: so many times its shear modulus, or the pressure of its own
DENSE_WEIGHTS = 10.0        # weight: flesh that bears less would be pressed through itself and the ground


class Octahedra:
    """All octahedra, sorted by axis and padded to whole batches of lanes.

    corner : (o, 6) int64, -1 where missing.  The rest are lane arrays, (batches, ..., 16).
    """

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        solids = [(k, s, first) for k, (s, first) in enumerate(zip(bodies, first_node)) if isinstance(s, SolidSpec)]
        corner = _stack([np.where(s.lattice.corner >= 0, s.lattice.corner + first, -1) for _, s, first in solids],
                        (0, 6)).astype(np.int64)
        axis = _stack([s.lattice.axis for _, s, _ in solids], (0,)).astype(np.int64)
        fill = _stack([s.lattice.fill for _, s, _ in solids], (0, 4))
        scale = _stack([s.lattice.scale for _, s, _ in solids], (0,))
        body = np.repeat([k for k, _, _ in solids], [len(s.lattice.corner) for _, s, _ in solids]).astype(np.int64)
        cell, self._tall = np.zeros((2, len(bodies)))           # m
        for k, s, _ in solids:
            cell[k] = s.lattice.cell
            self._tall[k] = np.ptp(s.lattice.nodes, axis=0).max()
        take, self.axis = _batches(axis)
        self.corner = np.full((len(take), 6), -1, np.int64)
        real = take >= 0
        self.corner[real] = corner[take[real]]
        padded = np.zeros((len(take), 4))
        padded[real] = fill[take[real]]
        number, size = np.zeros(len(take), np.int64), np.ones(len(take))
        if len(take):
            number, size = body[take], scale[take]          # of padding those of the last, which has no fill
        self.body, self._scale = number.reshape(-1, LANES), size.reshape(-1, LANES)
        self.lane_corner, self.fill = _lanes(np.maximum(self.corner, 0)), _lanes(padded)
        self.mu, self.lam, self.dense = np.zeros((3, *self.body.shape))
        lane_cell = cell[self.body] if len(bodies) else np.zeros(self.body.shape)
        self._cell = np.maximum(lane_cell, 1e-300)
        self._grown, self._rest_size = np.ones((2, *self.body.shape))   # of what it was made as
        self.inv, self.volume = 1.0 / self._cell, self._cell ** 3 / 12.0
        self._first = first_node
        self.pairs = self.corner[:, st.PAIRS].reshape(-1, 2)
        flat = self.corner.reshape(-1)
        order = np.argsort(flat, kind="stable")
        self.item = order[flat[order] >= 0]        # where forces on each node come from
        self.ptr = np.searchsorted(flat[self.item], np.arange(int(first_node[-1]) + 1))
        self._force = np.zeros((len(self.corner), 6, 3))
        self.split(1)

    @property
    def cells(self) -> int:
        """How many tetrahedra there are."""
        return int((self.fill > 0.0).sum())

    def split(self, chunks: int) -> None:
        self._chunks, self._parts = chunks, np.zeros(chunks)

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, Material):
            mine = self.body == body
            for lame, value in zip((self.lam, self.mu), material.lame):
                even = self._meant(value, body) if isinstance(value, np.ndarray) else value
                lame[mine] = even * self._scale[mine]
            weight = USUAL_GRAVITY * float(np.max(material.density)) * self._tall[body]
            self.dense[mine] = np.maximum(DENSE_MU * self.mu[mine], DENSE_WEIGHTS * weight)
            grown = material.grown
            if isinstance(grown, np.ndarray):
                grown = np.maximum(self._meant(grown, body), SMALLEST)      # of padding it is nothing
            self._grown[mine] = grown
            self._size_up(mine)

    def set_rest_size(self, body: int, rows: np.ndarray, size: np.ndarray) -> None:
        """Let octahedra ``rows`` (k,) of a body be at rest at ``size`` (k,) times the length they were made with."""
        self._rest_size.reshape(-1)[rows] = np.maximum(size, SMALLEST)
        self._size_up(self.body == body)

    def _size_up(self, mine: np.ndarray) -> None:
        edge = self._cell[mine] * self._grown[mine] * self._rest_size[mine]
        self.inv[mine], self.volume[mine] = 1.0 / edge, edge ** 3 / 12.0

    def _meant(self, values: np.ndarray, body: int) -> np.ndarray:
        """The mean of the ``values`` (nodes,) of a body over the corners of each of its octahedra."""
        corner = self.corner[self.body.reshape(-1) == body]
        real = corner >= 0
        total = (values[np.where(real, corner - self._first[body], 0)] * real).sum(axis=1)
        return total / np.maximum(real.sum(axis=1), 1)

    def _cells(self) -> tuple[np.ndarray, ...]:
        return (self.lane_corner, self.axis, self.fill, self.mu, self.lam, self.dense, self.inv, self.volume, TETS,
                GRADIENT)

    def tell(self, since: float) -> bool:
        return False

    def energy(self, x: np.ndarray) -> float:
        if self._chunks == 1:
            return el.energy_range(0, len(self.axis), x, *self._cells())
        return el.energy_all(x, *self._cells(), self._parts)

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        if self._chunks == 1:
            el.gradient_range(0, len(self.axis), x, *self._cells(), self._force)
        else:
            el.gradient_all(self._chunks, x, *self._cells(), self._force)
        el.gather_nodes(self._force.reshape(-1, 3), self.ptr, self.item, out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        tables = (st.GRADIENT32, st.DOTS32, st.CROSSES32, st.TET_PAIRS, st.SLOT, st.PAIRS, out.reshape(-1, 21, 9))
        if self._chunks == 1:
            st.hessian_range(0, len(self.axis), x, *self._cells()[:-1], *tables)
        else:
            st.hessian_all(self._chunks, x, *self._cells()[:-1], *tables)

    def stretches(self, x: np.ndarray, out: np.ndarray) -> None:
        """The largest stretch of each octahedron into ``out`` (o,); see kernels.elasticity."""
        el.stretches(x, self.lane_corner, self.axis, self.fill, self.inv, TETS, GRADIENT, out)

    def inside_out(self, x: np.ndarray, flat: float, bodies: int) -> np.ndarray:
        """The share (bodies,) of each solid's cells that have less than ``flat`` of their volume; 0 of all else."""
        out = np.zeros((bodies, 2))
        el.inside_out(x, self.lane_corner, self.axis, self.fill, self.inv, self.body, flat, TETS, GRADIENT, out)
        return out[:, 0] / np.maximum(out[:, 1], 1e-300)


def _batches(axis: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which octahedron each lane holds, -1 for padding, and the axis of each batch."""
    take, batch_axis = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)]
    for a in range(3):
        mine = np.flatnonzero(axis == a)
        batches = -(-len(mine) // LANES)
        take.append(np.concatenate([mine, np.full(batches * LANES - len(mine), -1)]))
        batch_axis.append(np.full(batches, a))
    return np.concatenate(take).astype(np.int64), np.concatenate(batch_axis)


def _lanes(values: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(values.reshape(-1, LANES, values.shape[1]).swapaxes(1, -1))


def _stack(parts: list[np.ndarray], empty: tuple[int, ...]) -> np.ndarray:
    return np.concatenate(parts) if parts else np.zeros(empty)
