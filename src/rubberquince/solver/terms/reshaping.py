"""Solids whose rest shape moves: they want to be what their course says, and wobble about it.

At rest an octahedron is deformed by G, the best fit to where its corners then are.  Its elastic deformation is F G⁻¹:
by G's volume the octahedron is larger (see ``Octahedra.set_rest_size``), and the rest of G changes |F|² as what has
flowed does, A = (GᵀG)⁻¹; see kernels.flow.
"""

from collections.abc import Sequence

import numpy as np

from rubberquince.solver.specs import BodySpec, Course, SolidSpec
from rubberquince.solver.terms.flow import CellForms
from rubberquince.solver.terms.octahedra import Octahedra

FLATTEST = 1e-6             # of its length: what is flatter at rest counts as this
SIZES = 0.25, 4.0           # of its length: no cell is asked to be smaller or larger, as where a twist turns it over
MOST = 30.0                 # stretches at rest, squared: none is asked to be longer or shorter, its volume apart


class Reshaping(CellForms):
    """All octahedra of bodies with a rest course."""

    def __init__(self, bodies: Sequence[BodySpec], octahedra: Octahedra, first_node: np.ndarray) -> None:
        self._courses = {k: body.rest for k, body in enumerate(bodies)
                         if isinstance(body, SolidSpec) and body.rest is not None}
        super().__init__(octahedra, np.array([k in self._courses for k in range(len(bodies))], bool))
        self._form = np.zeros((len(self._rows), 7))
        self._first = first_node
        self._made = {k: bodies[k].lattice.nodes for k in self._courses}        # type: ignore[union-attr]
        self._known: dict[int, np.ndarray] = {}
        self._fits = {k: self._fit(k) for k in self._courses}
        self.tell(0.0)

    def set_rest(self, body: int, course: Course) -> None:
        """Let a body that has a rest course have another one."""
        if body in self._courses:
            self._courses[body] = course

    def tell(self, since: float) -> bool:
        changed = [k for k, course in self._courses.items() if self._move(k, course(since))]
        if changed:
            self._weigh(self._form)
        return bool(changed)

    def _fit(self, body: int) -> np.ndarray:
        """What takes the corners (o, 6, 3) of the octahedra of a body to the gradient of their motion (o, 6, 3)."""
        corner, real = self._corners(body)
        way = (self._made[body][corner] - self._made[body][corner].mean(axis=1, keepdims=True,
                                                                       where=real[:, :, None])) * real[:, :, None]
        moment = np.einsum("oci,ocj->oij", way, way)
        return np.einsum("oci,oij->ocj", way, np.linalg.pinv(moment))

    def _corners(self, body: int) -> tuple[np.ndarray, np.ndarray]:
        mine = self._octahedra.corner[self._rows[self.body == body]]
        return np.maximum(mine - self._first[body], 0), mine >= 0

    def _move(self, body: int, nodes: np.ndarray) -> bool:
        """Make the rest of a body that of its ``nodes`` (n, 3), m; returns whether it is another."""
        if body in self._known and np.array_equal(self._known[body], nodes):
            return False
        self._known[body] = nodes
        mine, (corner, _) = self.body == body, self._corners(body)
        gradient = np.einsum("oci,ocj->oij", nodes[corner], self._fits[body])
        metric = np.swapaxes(gradient, 1, 2) @ gradient
        size = np.clip(np.maximum(np.linalg.det(metric), 0.0) ** (1.0 / 6.0), *SIZES)
        squares, axes = np.linalg.eigh(metric)
        logs = -np.log(np.maximum(squares, FLATTEST))
        logs -= logs.mean(axis=1, keepdims=True)
        logs *= np.minimum(1.0, np.log(MOST) / np.maximum(np.abs(logs).max(axis=1, keepdims=True), 1e-12))
        form = (axes * np.exp(logs)[:, None, :]) @ np.swapaxes(axes, 1, 2)
        self._form[mine, :3] = form[:, [0, 1, 2], [0, 1, 2]] - 1.0
        self._form[mine, 3:6] = form[:, [1, 0, 0], [2, 2, 1]]
        self._octahedra.set_rest_size(body, self._rows[mine], size)
        return True

    def _changed(self) -> None:
        self._weigh(self._form)
