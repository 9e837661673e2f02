"""Small bodies that tests of the solver need."""

import numpy as np

from rubberquince.shapes import primitives
from rubberquince.shapes.lattice import build_lattice
from rubberquince.solver.specs import ColliderSpec, Material, SolidSpec, Touch

JELLY = Material(stiffness=4000.0, poisson=0.44, density=1050.0, wobble_halves=0.3)


def make_solid(mesh, size, cells, at=(0.0, 0.0, 0.0), material=JELLY, touch=None, held=None, rotation=None):
    """A solid of a unit mesh scaled to ``size``, m, with ``cells`` cubes across its smallest side."""
    points = mesh.points * np.asarray(size)
    lattice = build_lattice(points, mesh.triangles, float(np.min(size)) / cells)
    return SolidSpec(mesh.triangles, lattice, np.eye(3) if rotation is None else rotation, np.asarray(at, float),
                     material, touch or Touch(1e-3, 0.5), None if held is None else held(lattice.nodes))


def make_block_collider(size, at, rotation=None, touch=None, cells=(4, 1, 4)):
    mesh = primitives.block(cells)
    points = mesh.points * np.asarray(size)
    if rotation is not None:
        points = points @ rotation.T
    return ColliderSpec(points + np.asarray(at), mesh.triangles, touch or Touch(1e-3, 0.5))
