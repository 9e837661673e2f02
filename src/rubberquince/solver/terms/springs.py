"""Springs: those that a net is made of, braces across the inside of a skin, those that keep rigid bodies in shape, and
those within solids that are harder to stretch than to squeeze, or the other way round.

See kernels.springs.
"""

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from rubberquince.kernels import springs as sp
from rubberquince.kernels.octahedron import TETS
from rubberquince.shapes.lattice import Lattice
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import (
    LEAST_POISSON,
    MOST_POISSON,
    AnyMaterial,
    BodySpec,
    Course,
    Links,
    Material,
    RigidMaterial,
    RigidSpec,
    ShellMaterial,
    ShellSpec,
    SolidSpec,
)

BLOCKS = np.array([(0, 0), (0, 1), (1, 1)])         # ends of the blocks of a spring


LONG, SHORT = 0.4, 0.6      # of E times a cube edge: springs along its edges, and from corners to the middle, that
                            # together resist alike in every direction (Born, Huang 1954, ch. 5, of such a lattice)
BOTH_WAYS = 1.0 / 6.0       # see _one_sided
NEARLY_NOTHING = 1e-6       # of a spring, that resists squeezing, against being stretched
FIRMNESS = 1e7              # 1/s², of the mass of a rigid body: some hundred times what contact pushes with


class Springs:
    """All springs of all shells: pair (k, 2) nodes, length (k,) m."""

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        parts = [(k, links) for k, body in enumerate(bodies) if isinstance(body, ShellSpec) for links in body.links]
        parts += [(k, _frame(carriers[k].place)) for k, body in enumerate(bodies) if isinstance(body, RigidSpec)]
        self._stretching = {k: body.stretching for k, body in enumerate(bodies)
                            if isinstance(body, SolidSpec) and body.stretching != 1.0}
        parts += [(k, _within_cells(bodies[k].lattice)) for k in self._stretching]        # type: ignore[union-attr]
        self._room = [float(carrier.share.sum()) for carrier in carriers]
        empty = np.zeros((0, 2), np.int64)
        self.pair = np.concatenate([empty, *(links.pairs + first_node[k] for k, links in parts)]).astype(np.int64)
        self.length = np.concatenate([np.zeros(0), *(links.length for _, links in parts)])
        self._weight = np.concatenate([np.zeros(0), *(links.weight for _, links in parts)])
        self._rests = {k: body.rest for k, body in enumerate(bodies) if isinstance(body, ShellSpec | SolidSpec)
                       and body.rest is not None and any(part == k for part, _ in parts)}
        self._made = {k: np.asarray(carriers[k].place, float) for k in self._rests}
        self._made_length, self._grown = self.length.copy(), np.ones(len(self.length))
        counts = [len(links.pairs) for _, links in parts]
        self.body = np.repeat([k for k, _ in parts], counts).astype(np.int64)
        self._braces = np.repeat([links.braces for _, links in parts], counts).astype(bool)
        self.pairs = self.pair[:, BLOCKS].reshape(-1, 2)
        self._first = first_node
        self._stiffness, self._firm, self._calms = np.zeros((3, len(self.pair)))
        self._springs = self.length, self._stiffness    # in this substep

    def split(self, chunks: int) -> None:
        """One is enough."""

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, RigidMaterial):
            mine = self.body == body
            self._stiffness[mine], self._firm[mine] = FIRMNESS * material.density * self._room[body], 1.0
        if isinstance(material, Material) and body in self._stretching:
            self._set_one_sided(body, material)
        if not isinstance(material, ShellMaterial):
            return
        for braces, amount, firm in ((False, material.stretch, material.squeeze), (True, material.brace, 1.0)):
            mine = (self.body == body) & (self._braces == braces)
            self._stiffness[mine] = self._at_ends(amount, body, mine) * self._weight[mine]
            self._firm[mine] = firm
        mine = (self.body == body) & ~self._braces
        self._grow(mine, self._at_ends(material.along, body, mine))
        self._calms[(self.body == body) & self._braces] = material.calms
        self._springs = self.length, self._stiffness

    def _set_one_sided(self, body: int, material: Material) -> None:
        """Springs within a solid that resist only what is harder: they add what its cells lack of that."""
        mine, ratio = self.body == body, self._stretching[body]
        stiffness, grown = (self._at_ends(amount, body, mine) for amount in (material.stiffness, material.grown))
        firm = (max(ratio, 1.0 / ratio) - 1.0) * _one_sided(material.poisson) * stiffness * self._weight[mine]
        squeezed = ratio < 1.0
        self._stiffness[mine] = firm * (NEARLY_NOTHING if squeezed else 1.0)
        self._firm[mine] = 1.0 / NEARLY_NOTHING if squeezed else 0.0
        self._grow(mine, grown)
        self._springs = self.length, self._stiffness

    def _grow(self, mine: np.ndarray, grown: float | np.ndarray) -> None:
        """Those of a body that are ``mine`` (k,) bool are now ``grown`` times as long at rest as they were made."""
        self._grown[mine] = grown
        self.length[mine] = self._made_length[mine] * self._grown[mine]

    def _at_ends(self, amount: float | np.ndarray, body: int, mine: np.ndarray) -> float | np.ndarray:
        if not isinstance(amount, np.ndarray):
            return amount
        mean: np.ndarray = amount[self.pair[mine] - self._first[body]].mean(axis=1)
        return mean

    def begin(self, x: np.ndarray, h: float) -> bool:
        """A substep of ``h``, s, begins at nodes ``x`` (n, 3), m; returns whether springs are others for it.

        A dashpot that resists with c times its speed, taken at the end of the step, is a spring of c/h to the length
        that it has now; with one beside it that is a single one, between both lengths.
        """
        if not self._calms.any():
            return False
        now = np.linalg.norm(x[self.pair[:, 1]] - x[self.pair[:, 0]], axis=1)
        slows = self._calms / h
        firm = self._stiffness + slows
        self._springs = (self._stiffness * self.length + slows * now) / np.maximum(firm, 1e-300), firm
        return True

    def set_rest(self, body: int, course: Course) -> None:
        """Let a body whose lengths at rest move have others."""
        if body in self._rests:
            self._rests[body] = course

    def tell(self, since: float) -> bool:
        for k, course in self._rests.items():
            mine, (now, made) = self.body == k, (course(since), self._made[k])
            one, two = (self.pair[mine] - self._first[k]).T
            before = np.maximum(np.linalg.norm(made[one] - made[two], axis=1), 1e-12)
            made_length = self._made_length[mine] * self._grown[mine]
            self.length[mine] = made_length * np.linalg.norm(now[one] - now[two], axis=1) / before
        return bool(self._rests)

    def energy(self, x: np.ndarray) -> float:
        return sp.spring_energy(x, self.pair, *self._springs, self._firm)

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        sp.add_spring_gradient(x, self.pair, *self._springs, self._firm, out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        sp.spring_blocks(x, self.pair, *self._springs, self._firm, out.reshape(-1, 3, 9))


def _within_cells(lattice: Lattice) -> Links:
    """Springs along all edges of a solid's cells, of the weight that its filled parts give them."""
    size, tets = lattice.cell, lattice.corner[:, TETS].reshape(-1, 4)
    filled = (lattice.fill * lattice.scale[:, None]).reshape(-1)
    tets, filled = tets[filled > 0.0].astype(np.int64), filled[filled > 0.0]
    ends, parts = [], []
    for one, two in combinations(range(4), 2):
        long = (one, two) in ((0, 1), (2, 3))           # from middle to middle and along a face; each is of four cells
        ends.append(np.sort(tets[:, [one, two]], axis=1))
        parts.append(filled * size * (LONG / 4.0 if long else SHORT / 6.0))
    pairs, number = np.unique(np.concatenate(ends), axis=0, return_inverse=True)
    weight = np.bincount(number.reshape(-1), np.concatenate(parts))
    return Links(pairs, np.linalg.norm(lattice.nodes[pairs[:, 0]] - lattice.nodes[pairs[:, 1]], axis=1), weight)


def _one_sided(poisson: float) -> float:
    """How much stiffer springs have to be as only those that a stretch lengthens resist it.

    Along a direction at an angle whose cosine is c to the stretch, of a body with Poisson's ratio ν, the strain is
    (1 + ν) c² - ν; the mean square of it over all directions is 1/6 at ν = 1/4, were none left out.
    """
    nu = min(max(poisson, LEAST_POISSON), MOST_POISSON)
    cosine = (np.arange(1000) + 0.5) / 1000
    return BOTH_WAYS / float((np.maximum((1.0 + nu) * cosine ** 2 - nu, 0.0) ** 2).mean())


def _frame(nodes: np.ndarray) -> Links:
    """The six edges of the tetrahedron that carries a rigid body."""
    pairs = np.array(list(combinations(range(4), 2)), np.int64)
    return Links(pairs, np.linalg.norm(nodes[pairs[:, 0]] - nodes[pairs[:, 1]], axis=1), np.ones(6))
