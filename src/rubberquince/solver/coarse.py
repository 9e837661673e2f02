"""The coarse space of the linear system: affine motions of a few parts of every body, turned with the body."""

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import reverse_cuthill_mckee

from rubberquince.distinct import distinct
from rubberquince.kernels.coarse import coarse_elastic
from rubberquince.kernels.isometry import fit_isometry
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.world import RIGID, Pattern, World

THIN = 1e-4         # of the longest way through a part: thinner ones are flat, and stretch in their plane only


class CoarseSpace:
    """The system's matrix between affine motions of parts of bodies.

    Of what has an inside it is that of the body as it was made, turned as it now lies: that only guides the solver,
    costs an iteration now and then, and is summed once, not in every frame.  Shells fold, and are summed anew.
    """

    def __init__(self, world: World, blocks: np.ndarray) -> None:
        """``blocks`` (nnz, 9) are the stiffness blocks at rest, N/m."""
        self._world = world
        self.aggregate, modes = _aggregates(world.carriers)
        self._rigid = {int(self.aggregate[lo]): lo for lo in world.first_node[:-1][world.firm[: world.bodies] == RIGID]}
        size = 12 * (int(self.aggregate.max(initial=-1)) + 1)
        self._elastic, self._inertial, self._drawn = np.zeros((3, size, size))
        self.matrix = np.zeros((size, size))
        self.modes, self.mode = modes, modes * world.free[:, None]
        self._node = np.argsort(self.aggregate, kind="stable")      # by parts, as they were made
        self._ptr = np.searchsorted(self.aggregate[self._node], np.arange(size // 12 + 1))
        self._last = np.searchsorted(self._ptr, world.first_node)   # of each body the first part, and their number
        self._joined = np.zeros(0, np.int64), np.zeros(0, np.int64)       # bodies, when they were last arranged
        self._number(np.arange(world.bodies))
        n = len(world.mass)
        coarse_elastic(0, n, 0, *self._rows(blocks, np.ones(n), np.zeros(n)), self._elastic)
        coarse_elastic(0, n, 0, *self._rows(blocks, np.zeros(n), world.mass), self._inertial)
        coarse_elastic(0, n, 0, *self._rows(blocks, np.zeros(n), world.goals.stiffness), self._drawn)

    def _rows(self, blocks: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> tuple[np.ndarray, ...]:
        pattern: Pattern = self._world.pattern
        return (pattern.row_ptr, pattern.col, blocks, stretch, inertia, self._world.free, self.aggregate, self.modes)

    def lay(self, x: np.ndarray, blocks: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Make the matrix for nodes at ``x`` (n, 3), m, with stiffness ``blocks``; see kernels.linear for the rest.

        ``inertia`` is without the stiffness of goals.
        """
        world, back, shift = self._world, np.empty((3, 3)), np.empty(3)
        for carrier, lo, hi in zip(world.carriers, world.first_node[:-1], world.first_node[1:]):
            base, last = self.aggregate[lo:hi].min(), self.aggregate[lo:hi].max() + 1
            rows = slice(12 * base, 12 * last)
            size = rows.stop - rows.start
            if self.aggregate[lo] in self._rigid:       # of these it is made anew anyway
                continue
            if not carrier.filled:
                part = np.zeros((size, size))
                coarse_elastic(lo, hi, base, *self._rows(blocks, stretch, inertia + world.goals.stiffness), part)
                self.matrix[rows, rows] = part
                continue
            fit_isometry(x, lo, hi, world.start, back, shift)
            turn = back.T
            turned = turn @ self._elastic[rows, rows].reshape(-1, 3, size)
            turned = turned.reshape(size, -1, 3) @ turn.T
            self.matrix[rows, rows] = (stretch[lo] * turned.reshape(size, size)
                                       + inertia[lo:hi].sum() / world.mass[lo:hi].sum() * self._inertial[rows, rows]
                                       + self._drawn[rows, rows])

    def arrange(self, ptr: np.ndarray, node: np.ndarray) -> None:
        """Number parts so that bodies which pairs join come one after another (Cuthill, McKee 1969).

        A factor then has little to hold for bodies that do not touch.  Pair e holds nodes ``node[ptr[e]:ptr[e + 1]]``.
        """
        bodies, ptr = self._world.bodies, ptr[np.append(True, ptr[:-1] < ptr[1:])]
        if bodies < 3:
            return
        one, two = (self._world.node_body[node[at]] for at in (ptr[:-1], ptr[1:] - 1))
        one, two = np.divmod(distinct(one * bodies + two), bodies)
        if np.array_equal(self._joined, (one, two)):
            return
        self._joined = one, two
        graph = csr_matrix((np.ones(2 * len(one)), (np.append(one, two), np.append(two, one))), (bodies, bodies))
        self._number(reverse_cuthill_mckee(graph, symmetric_mode=True))

    def _number(self, order: np.ndarray) -> None:
        """Number parts by bodies in this ``order`` (bodies,): ``rank`` (aggregates,) and nodes by parts."""
        parts = np.concatenate([np.arange(*self._last[body: body + 2]) for body in order] or [np.zeros(0, np.int64)])
        self.rank = np.argsort(parts)
        self.part_node = np.concatenate([self._node[slice(*self._ptr[p: p + 2])] for p in parts] or [self._node])
        self.part_ptr = np.concatenate([[0], np.cumsum(np.diff(self._ptr)[parts])])

    def renew(self, blocks: np.ndarray, stretch: np.ndarray, inertia: np.ndarray) -> None:
        """Make the parts of the matrix anew that are of rigid bodies: those are all that their nodes can do."""
        for base, lo in self._rigid.items():
            rows, part = slice(12 * base, 12 * base + 12), np.empty((12, 12))
            coarse_elastic(lo, lo + 4, base, *self._rows(blocks, stretch, inertia), part)
            self.matrix[rows, rows] = part

    def with_gases(self, ranges: np.ndarray, slope: np.ndarray, firm: np.ndarray) -> np.ndarray:
        """The matrix with the stiffness of gases in it, see kernels.linear."""
        if not len(firm):
            return self.matrix
        matrix = self.matrix.copy()
        for (lo, hi), stiffness in zip(ranges, firm):
            base, last = self.aggregate[lo:hi].min(), self.aggregate[lo:hi].max() + 1
            along = np.zeros((last - base, 4, 3))
            np.add.at(along, self.aggregate[lo:hi] - base, self.mode[lo:hi, :, None] * slope[lo:hi, None])
            rows = slice(12 * base, 12 * last)
            matrix[rows, rows] += stiffness * np.outer(along, along)
        return matrix


def _aggregates(carriers: list[Carrier]) -> tuple[np.ndarray, np.ndarray]:
    """Aggregate (n,) of every node and its affine modes (n, 4): 1 and place within the aggregate."""
    numbers, all_modes = [np.zeros(0, np.int64)], [np.zeros((0, 4))]
    first = 0
    for carrier in carriers:
        nodes = carrier.place
        parts = [np.arange(len(nodes))]
        while len(parts) < carrier.parts:            # halve the longest part of all
            parts.sort(key=lambda p: float(np.ptp(nodes[p], axis=0).max()))
            part = parts.pop()
            side = np.ptp(nodes[part], axis=0).argmax()
            order = part[np.argsort(nodes[part, side], kind="stable")]
            parts += [order[: len(order) // 2], order[len(order) // 2:]]
        number, mode = np.zeros(len(nodes), np.int64), np.ones((len(nodes), 4))
        if carrier.radius is not None:               # pellets have no motion in common
            mode[:], number[:], parts = 0.0, first, parts[:1]
        for k, part in enumerate(parts if carrier.radius is None else []):
            number[part] = first + k
            place = nodes[part] - nodes[part].mean(axis=0)
            if not carrier.filled:                   # along its own axes: a flat part has nothing across
                place = place @ np.linalg.svd(place, full_matrices=False)[2].T
                extent = np.abs(place).max(axis=0)
                place[:, extent < THIN * extent.max()] = 0.0
            mode[part, 1:] = place / max(np.abs(place).max(), 1e-300)
        numbers.append(number)
        all_modes.append(mode)
        first += len(parts)
    return np.concatenate(numbers), np.concatenate(all_modes)
