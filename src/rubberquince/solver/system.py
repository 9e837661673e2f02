"""The linear system of a world: elastic blocks, coarse space, and its solution by conjugate gradients."""

import os

import numpy as np

from rubberquince.kernels import elasticity as el
from rubberquince.kernels import linear
from rubberquince.solver.world import World

SERIAL_CELLS = 5000         # below, a second thread costs more than it gives
MOST_ITERATIONS = 400
COARSE_AGE = 24             # refreshes of the matrix after which the coarse matrix is made anew

Pairs = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]
NO_PAIRS: Pairs = (np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0), np.zeros((0, 3)), np.zeros(0),
                   np.zeros(0))


class ElasticSystem:
    """Elastic energy, force and stiffness of a world, and solutions of (inertia + stretch·K + contact) d = f."""

    def __init__(self, world: World) -> None:
        self._world = world
        octs, n = len(world.octahedra.corner), len(world.mass)
        self.use_threads(1 if world.cells < SERIAL_CELLS else min(os.cpu_count() or 1, 8))
        self._oct_force = np.zeros((octs, 6, 3))
        self._oct_blocks = np.zeros((octs, 21, 9), np.float32)
        self.blocks = np.zeros((len(world.pattern.col), 9), np.float32)
        aggregates = int(world.aggregate.max()) + 1 if n else 0
        self._coarse = np.zeros((12 * aggregates, 12 * aggregates))
        self._factor = np.zeros_like(self._coarse)
        self._inverse = np.zeros((n, 9))
        self._coarse_age = COARSE_AGE
        self._fresh_iterations = 0
        self.ease = np.zeros(n)

    def use_threads(self, threads: int) -> None:
        """Split the work in so many chunks; the last bits of sums depend on it."""
        self.chunks = threads
        self._parts = np.zeros(threads)

    def _material(self) -> tuple[np.ndarray, ...]:
        o = self._world.octahedra
        return o.lane_corner, o.axis, o.fill, o.mu, o.lam, o.inv, o.volume, el.TETS, el.GRADIENT

    def energy(self, x: np.ndarray) -> float:
        if self.chunks == 1:
            return el.energy_range(0, len(self._world.octahedra.axis), x, *self._material())
        return el.energy_all(x, *self._material(), self._parts)

    def gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        """Elastic energy gradient into ``out`` (n, 3), N."""
        if self.chunks == 1:
            el.gradient_range(0, len(self._world.octahedra.axis), x, *self._material(), self._oct_force)
        else:
            el.gradient_all(self.chunks, x, *self._material(), self._oct_force)
        pattern = self._world.pattern
        el.gather_nodes(self._oct_force.reshape(-1, 3), pattern.node_ptr, pattern.node_item, out)

    def assemble(self, x: np.ndarray) -> None:
        """Stiffness blocks at node positions ``x`` (n, 3)."""
        tables = (el.GRADIENT32, el.DOTS32, el.CROSSES32, el.TET_PAIRS, el.SLOT, el.PAIRS, self._oct_blocks)
        pattern = self._world.pattern
        sums = (self._oct_blocks.reshape(-1, 9), pattern.block_ptr, pattern.block_item, pattern.block_flip,
                self.blocks)
        if self.chunks == 1:
            el.hessian_range(0, len(self._world.octahedra.axis), x, *self._material()[:-1], *tables)
            linear.gather_blocks_range(0, len(self.blocks), *sums)
        else:
            el.hessian_all(self.chunks, x, *self._material()[:-1], *tables)
            linear.gather_blocks(self.chunks, *sums)
        self._coarse_age += 1

    def product(self, stretch: np.ndarray, inertia: np.ndarray, p: np.ndarray) -> np.ndarray:
        """(diag(inertia) + stretch·K) p, N."""
        y = np.empty(p.shape, np.float32)
        pattern = self._world.pattern
        rows = (pattern.row_ptr, pattern.col, self.blocks, stretch, inertia, p.astype(np.float32), y)
        if self.chunks == 1:
            linear.product_range(0, len(p), *rows)
        else:
            linear.product_all(self.chunks, *rows)
        return y.astype(float)

    def quadratic_form(self, stretch: np.ndarray, p: np.ndarray) -> float:
        """p · stretch·K p, of (n, 3) float32."""
        pattern = self._world.pattern
        rows = (pattern.row_ptr, pattern.col, self.blocks, stretch, p)
        if self.chunks == 1:
            return linear.quadratic_form_range(0, len(p), *rows)
        return linear.quadratic_form_all(*rows, self._parts)

    def set_ease(self, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Compliance of each node, m/N, from the diagonal: the metric of the motion limit."""
        trace = self.blocks[self._world.pattern.diagonal][:, [0, 4, 8]].sum(axis=1) / 3.0
        self.ease = self._world.free / (inertia + stretch * trace)

    def stale(self) -> None:
        """Values have jumped: the coarse matrix must be made anew."""
        self._coarse_age = COARSE_AGE

    def solve(self, force: np.ndarray, stretch: np.ndarray, inertia: np.ndarray, pairs: Pairs,
              tolerance: float) -> tuple[np.ndarray, int]:
        """Solve for the move (n, 3), m, under ``force`` (n, 3), N; returns it and the iterations."""
        w, pattern = self._world, self._world.pattern
        rows = (pattern.row_ptr, pattern.col, self.blocks, stretch, inertia)
        fresh = self._coarse_age >= COARSE_AGE
        if fresh:
            linear.coarse_elastic(*rows, w.free, w.aggregate, w.mode, self._coarse)
            self._coarse_age = 0
        linear.coarse_factor(self._coarse, *pairs, w.free, w.aggregate, w.mode, self._factor)
        linear.diagonal_inverse(pattern.diagonal, self.blocks, stretch, inertia, *pairs, w.free, self._inverse)
        move = np.empty_like(force)
        iterations = linear.conjugate_gradients(
            self.chunks, force, tolerance, MOST_ITERATIONS, *rows, w.free, *pairs, self._inverse, self._factor,
            w.aggregate, w.mode, move)
        if fresh:
            self._fresh_iterations = iterations
        elif iterations > 2 * self._fresh_iterations + 6:
            self._coarse_age = COARSE_AGE
        return move, iterations
