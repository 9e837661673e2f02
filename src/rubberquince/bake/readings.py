"""What is measured of every frame, a row a solid."""

import numpy as np

from rubberquince.kernels.elasticity import stretches
from rubberquince.kernels.octahedron import GRADIENT, TETS
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.stepper import Stepper


class Measure:
    """Readings of a stepper's solids: see bake.layout.READINGS for the columns."""

    def __init__(self, stepper: Stepper) -> None:
        self._stepper = stepper
        world = stepper.world
        skin = world.skin
        solids = range(len(world.spec.bodies))
        self._volume = [abs(volume(skin.points, skin.triangles[k])) for k in solids]
        self._stretch = np.zeros(len(world.octahedra.corner))

    def row(self, skin: np.ndarray) -> np.ndarray:
        """(solids, 6): volume relative to rest, largest lengthening of a cell, part of the gap used up by the deepest
        contact (1 = touching), largest speed m/s, height of the centre m, speed of the centre m/s."""
        stepper = self._stepper
        world, octs = stepper.world, stepper.world.octahedra
        stretches(stepper.state.x, octs.lane_corner, octs.axis, octs.fill, octs.inv, TETS, GRADIENT, self._stretch)
        depth = stepper.deepest_contact()
        rows = np.zeros((len(world.spec.bodies), 6))
        body = octs.body.reshape(-1)
        for k in range(len(rows)):
            mine = world.node_body == k
            share = world.mass[mine] / world.mass[mine].sum()
            rows[k] = (abs(volume(skin, world.skin.triangles[k])) / self._volume[k],
                       self._stretch[body == k].max(initial=1.0) - 1.0, depth[k],
                       np.sqrt((stepper.state.v[mine] ** 2).sum(axis=1).max(initial=0.0)),
                       share @ stepper.state.x[mine, 1], np.linalg.norm(share @ stepper.state.v[mine]))
        return rows
