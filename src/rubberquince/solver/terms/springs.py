"""Springs: those that a net is made of, braces across the inside of a skin, and those that keep rigid bodies in shape.

See kernels.springs.
"""

from collections.abc import Sequence
from itertools import combinations

import numpy as np

from rubberquince.kernels import springs as sp
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import (
    AnyMaterial,
    BodySpec,
    Course,
    Links,
    RigidMaterial,
    RigidSpec,
    ShellMaterial,
    ShellSpec,
)

BLOCKS = np.array([(0, 0), (0, 1), (1, 1)])         # ends of the blocks of a spring


FIRMNESS = 1e7              # 1/s², of the mass of a rigid body: some hundred times what contact pushes with


class Springs:
    """All springs of all shells: pair (k, 2) nodes, length (k,) m."""

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        parts = [(k, links) for k, body in enumerate(bodies) if isinstance(body, ShellSpec) for links in body.links]
        parts += [(k, _frame(carriers[k].place)) for k, body in enumerate(bodies) if isinstance(body, RigidSpec)]
        self._room = [float(carrier.share.sum()) for carrier in carriers]
        empty = np.zeros((0, 2), np.int64)
        self.pair = np.concatenate([empty, *(links.pairs + first_node[k] for k, links in parts)]).astype(np.int64)
        self.length = np.concatenate([np.zeros(0), *(links.length for _, links in parts)])
        self._weight = np.concatenate([np.zeros(0), *(links.weight for _, links in parts)])
        self._rests = {k: body.rest for k, body in enumerate(bodies)
                       if isinstance(body, ShellSpec) and body.rest is not None and body.links}
        self._made = {k: np.asarray(bodies[k].points, float) for k in self._rests}         # type: ignore[union-attr]
        self._made_length = self.length.copy()
        counts = [len(links.pairs) for _, links in parts]
        self.body = np.repeat([k for k, _ in parts], counts).astype(np.int64)
        self._braces = np.repeat([links.braces for _, links in parts], counts).astype(bool)
        self.pairs = self.pair[:, BLOCKS].reshape(-1, 2)
        self._first = first_node
        self._stiffness, self._firm, self._calms = np.zeros((3, len(self.pair)))
        self._springs = self.length, self._stiffness    # in this substep

    def use_threads(self, threads: int) -> None:
        """One is enough."""

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, RigidMaterial):
            mine = self.body == body
            self._stiffness[mine], self._firm[mine] = FIRMNESS * material.density * self._room[body], 1.0
        if not isinstance(material, ShellMaterial):
            return
        for braces, amount, firm in ((False, material.stretch, material.squeeze), (True, material.brace, 1.0)):
            mine = (self.body == body) & (self._braces == braces)
            if isinstance(amount, np.ndarray):
                amount = amount[self.pair[mine] - self._first[body]].mean(axis=1)
            self._stiffness[mine], self._firm[mine] = amount * self._weight[mine], firm
        self._calms[(self.body == body) & self._braces] = material.calms
        self._springs = self.length, self._stiffness

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
            self.length[mine] = self._made_length[mine] * np.linalg.norm(now[one] - now[two], axis=1) / before
        return bool(self._rests)

    def energy(self, x: np.ndarray) -> float:
        return sp.spring_energy(x, self.pair, *self._springs, self._firm)

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        sp.add_spring_gradient(x, self.pair, *self._springs, self._firm, out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        sp.spring_blocks(x, self.pair, *self._springs, self._firm, out.reshape(-1, 3, 9))


def _frame(nodes: np.ndarray) -> Links:
    """The six edges of the tetrahedron that carries a rigid body."""
    pairs = np.array(list(combinations(range(4), 2)), np.int64)
    return Links(pairs, np.linalg.norm(nodes[pairs[:, 0]] - nodes[pairs[:, 1]], axis=1), np.ones(6))
