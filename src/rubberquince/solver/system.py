"""The linear system of a world: blocks of all terms, coarse space, and its solution by conjugate gradients."""

from itertools import pairwise

import numpy as np

from rubberquince.kernels import linear
from rubberquince.kernels.coarse import balance, coarse_factor
from rubberquince.solver.coarse import CoarseSpace
from rubberquince.solver.world import RIGID, World

SERIAL_ELEMENTS = 8000      # below, a second thread costs more than it gives
CHUNKS = 8                  # of the work of larger worlds, on any machine: the last bits of sums depend on it
MOST_ITERATIONS = 400

Pairs = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
NO_PAIRS: Pairs = (np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0), np.zeros((0, 3, 3)))


class ElasticSystem:
    """Elastic energy, force and stiffness of a world, and solutions of (inertia + stretch·K + contact) d = f."""

    def __init__(self, world: World) -> None:
        self._world = world
        n = len(world.mass)
        ends = np.cumsum([0, *(len(term.pairs) for term in world.terms)])
        self._items = np.zeros((ends[-1], 9), np.float32)           # blocks of all terms, before they are summed
        self._of_term = [self._items[lo:hi] for lo, hi in pairwise(ends)]
        self.split(1 if world.elements < SERIAL_ELEMENTS else CHUNKS)
        self.blocks = np.zeros((len(world.pattern.col), 9), np.float32)
        self._inverse = np.zeros((n, 9))
        self.compliance = np.zeros(n)
        self._left = np.zeros((n, 3))
        self._loose = ~world.anchored
        self._rigid = world.firm[world.node_body] == RIGID
        self.stiffen()

    def split(self, chunks: int) -> None:
        """Split the work in so many ``chunks``, which threads take; the last bits of sums depend on how many."""
        self.chunks = chunks
        self._parts = np.zeros(chunks)
        for term in self._world.terms:
            term.split(chunks)

    def energy(self, x: np.ndarray) -> float:
        """Energy, J, of all terms at nodes ``x`` (n, 3), m."""
        return sum((term.energy(x) for term in self._world.terms), 0.0)

    def gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        """Its gradient into ``out`` (n, 3), N."""
        out[:] = 0.0
        for term in self._world.terms:
            term.add_gradient(x, out)

    def assemble(self, x: np.ndarray) -> None:
        """Stiffness blocks at node positions ``x`` (n, 3)."""
        pattern = self._world.pattern
        for term, items in zip(self._world.terms, self._of_term):
            term.fill_blocks(x, items)
        sums = (self._items, pattern.upper, pattern.mirror, pattern.block_ptr, pattern.block_item, pattern.block_flip,
                self.blocks)
        if self.chunks == 1:
            linear.gather_blocks_range(0, len(pattern.upper), *sums)
        else:
            linear.gather_blocks(self.chunks, *sums)

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

    def stiffen(self) -> None:
        """Learn the stiffness at rest, for the coarse space: at first, and when materials have changed."""
        flow = self._world.flow
        now = flow.memory
        flow.remember(np.zeros_like(now))           # whatever has flowed until then: it would change the bits
        self.assemble(self._world.start)
        flow.remember(now)
        self._coarse = CoarseSpace(self._world, self.blocks)
        self._factor = np.zeros_like(self._coarse.matrix)
        self._start = np.zeros(len(self._factor), np.int64)

    def prepare(self, x: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Get ready to solve at ``x`` (n, 3), m.

        ``compliance`` becomes the compliance of each node, m/N, from the diagonal: the metric of the motion limit.
        """
        w = self._world
        linear.compliance(w.pattern.diagonal, self.blocks, stretch, inertia + w.goals.stiffness, w.free,
                          self.compliance)
        self._coarse.lay(x, self.blocks, stretch, inertia)

    def solve(self, x: np.ndarray, force: np.ndarray, stretch: np.ndarray, inertia: np.ndarray, pairs: Pairs,
              tolerance: float) -> tuple[np.ndarray, int]:
        """Solve for the move (n, 3), m, from ``x`` under ``force`` (n, 3), N; returns it and the iterations.

        ``inertia`` is without the stiffness of goals, which is added here.
        """
        w, pattern, inertia = self._world, self._world.pattern, inertia + self._world.goals.stiffness
        rows = (pattern.row_ptr, pattern.col, self.blocks, stretch, inertia)
        gases = w.pressing.gases(x)
        self._coarse.renew(self.blocks, stretch, inertia)
        self._coarse.arrange(*pairs[:2])
        coarse_factor(self._coarse.with_gases(*gases), self._coarse.rank, *pairs, w.free, self._coarse.aggregate,
                      self._coarse.modes, self._factor, self._start)
        linear.diagonal_inverse(pattern.diagonal, self.blocks, stretch, inertia, *pairs, w.free, self._inverse)
        self._inverse[self._rigid] = 0.0            # of these the coarse space is all
        move = np.empty_like(force)
        iterations = linear.conjugate_gradients(
            self.chunks, force, tolerance, MOST_ITERATIONS, *rows, *pairs, *gases, self._inverse, self._factor,
            self._start, self._coarse.part_ptr, self._coarse.part_node, self._coarse.mode, move, self._left)
        if not self._rigid.all():           # there is nothing left of these
            balance(self._left, x, w.mass, w.first_node, inertia, *pairs, w.node_body, self._loose, move)
        return move, iterations
