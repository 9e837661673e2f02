"""What a term is: a local energy that the solver knows nothing else of."""

from typing import Protocol

import numpy as np

from rubberquince.solver.specs import AnyMaterial


class Term(Protocol):
    """An energy over stencils of a few nodes each.  Positions are those of all nodes of the run, (n, 3) m.

    pairs : (blocks, 2), the two nodes of each 3x3 block of its stiffness, -1 where there is none.  A block stands for
    its mirror image, too.
    """

    pairs: np.ndarray

    def set_material(self, body: int, material: AnyMaterial) -> None:
        """Write what body number ``body`` is made of into the running arrays; nothing if it has no part in this."""

    def split(self, chunks: int) -> None:
        """Split the work in so many ``chunks``; the last bits of sums depend on how many."""

    def tell(self, since: float) -> bool:
        """It is now ``since``, s, after the start; returns whether energies are others for it."""

    def energy(self, x: np.ndarray) -> float:
        """J."""

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        """The energy's gradient, N, added to ``out`` (n, 3)."""

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        """Second derivatives, N/m, into ``out`` (blocks, 9) float32; as a whole positive semidefinite."""
