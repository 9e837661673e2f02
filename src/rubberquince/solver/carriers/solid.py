"""A solid is carried by the lattice that fills it."""

import numpy as np

from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import SolidSpec

NEAR = 0.25             # of a cell: what is nearer at rest shares cells and moves together
PART_CELLS, MOST_PARTS = 2500, 24       # tetrahedra an aggregate of the coarse space


def solid_carrier(spec: SolidSpec) -> Carrier:
    lattice = spec.lattice
    held = np.zeros(len(lattice.nodes), bool) if spec.held is None else spec.held.astype(bool)
    return Carrier(
        start=lattice.nodes @ spec.rotation.T + spec.translation, place=lattice.nodes, share=lattice.share, held=held,
        size=lattice.cell, triangles=spec.triangles.astype(np.int64), bind_node=lattice.bind_node.astype(np.int64),
        bind_weight=lattice.bind_weight, studs=lattice.studs if len(lattice.studs) else None,
        near=NEAR * lattice.cell, filled=True, parts=min(max(round(lattice.cells / PART_CELLS), 1), MOST_PARTS))
