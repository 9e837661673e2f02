"""Solids that keep a dent: what the plastic part of their cells changes in their energy; see kernels.flow."""

from collections.abc import Sequence

import numpy as np

from rubberquince.kernels import flow as fl
from rubberquince.kernels.stiffness import PAIRS
from rubberquince.solver.specs import AnyMaterial, BodySpec, Dents, Material, SolidSpec
from rubberquince.solver.terms.octahedra import Octahedra

DIAGONAL = np.array([0, 4, 8])          # of a block


class CellForms:
    """A quadratic form of the corners of each octahedron of some bodies, in the order of ``Octahedra``.

    body : (o,), that of each.
    """

    def __init__(self, octahedra: Octahedra, gives: np.ndarray) -> None:
        """``gives`` (bodies,) bool are the bodies whose octahedra have one."""
        self._octahedra = octahedra
        of_lane, real = octahedra.body.reshape(-1), octahedra.corner[:, 0] >= 0
        self._rows = np.flatnonzero(gives[of_lane] & real) if len(of_lane) else np.zeros(0, np.int64)
        self.body = of_lane[self._rows]
        corner = octahedra.corner[self._rows]
        self._corner = np.maximum(corner, 0)
        self._axis = np.repeat(octahedra.axis, octahedra.body.shape[1])[self._rows]
        self._fill = np.ascontiguousarray(octahedra.fill.swapaxes(1, 2).reshape(-1, 4)[self._rows])
        self.pairs = corner[:, PAIRS].reshape(-1, 2)
        self._weight = np.zeros((len(self._rows), 21))

    def _weigh(self, form: np.ndarray) -> None:
        """Make the forms those of ``form`` (o, 6 or 7), what A is besides 1; see kernels.flow."""
        o = self._octahedra
        mu, inv, volume = (values.reshape(-1)[self._rows] for values in (o.mu, o.inv, o.volume))
        fl.pair_weights(self._axis, self._fill, mu, inv, volume, form, self._weight)

    def _changed(self) -> None:
        """What bodies are made of has changed."""

    def set_material(self, body: int, material: AnyMaterial) -> None:
        self._changed()

    def split(self, chunks: int) -> None:
        """It always works in one."""

    def tell(self, since: float) -> bool:
        return False

    def energy(self, x: np.ndarray) -> float:
        return float(fl.flow_energy(x, self._corner, self._weight)) if len(self._rows) else 0.0

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        if len(self._rows):
            fl.add_flow_gradient(x, self._corner, self._weight, out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        """Only together with the blocks of the octahedra are these positive semidefinite."""
        out[:] = 0.0
        out[:, DIAGONAL] = self._weight.reshape(-1, 1)


class Flow(CellForms):
    """All octahedra of bodies that keep dents; their memory is part of the state.

    memory : (o, 7), see kernels.flow.
    """

    def __init__(self, bodies: Sequence[BodySpec], octahedra: Octahedra) -> None:
        super().__init__(octahedra, np.array(
            [isinstance(body, SolidSpec) and body.material.dents is not None for body in bodies], bool))
        self._dents = np.zeros((3, len(self._rows)))        # yields, stays, time
        self.memory = np.zeros((len(self._rows), 7))

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, Material) and material.dents is not None:
            dents: Dents = material.dents
            self._dents[:, self.body == body] = np.array([[dents.yields], [dents.stays], [dents.time]])
        self._changed()

    def _changed(self) -> None:
        self._weigh(self.memory)

    def remember(self, memory: np.ndarray) -> None:
        """Take up ``memory`` (o, 7), which is kept as it is."""
        self.memory = memory
        self._weigh(memory)

    def go_on(self, x: np.ndarray, h: float) -> bool:
        """Let cells flow for ``h``, s, with nodes at ``x`` (n, 3), m; returns whether any did."""
        memory = self.memory.copy()
        inv = self._octahedra.inv.reshape(-1)[self._rows]
        flowed: bool = fl.flow(x, self._corner, self._axis, self._fill, inv, *self._dents, h, memory)
        if flowed:
            self.remember(memory)
        return flowed
