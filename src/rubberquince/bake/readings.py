"""What is measured of every frame, a row a body."""

import numpy as np

from rubberquince.bake.layout import READINGS
from rubberquince.shapes.polymesh import rims, surface_area, volume
from rubberquince.solver.stepper import Stepper

LEAST_VOLUME = 1e-9         # m³: what encloses less at rest, or is open, has no volume to be compared with


class Measure:
    """Readings of a stepper's bodies: see bake.layout.READINGS for the columns."""

    def __init__(self, stepper: Stepper) -> None:
        self._stepper = stepper
        world = stepper.world
        skin = world.skin
        self._volume = [0.0 if rims(skin.triangles[k]) else abs(volume(skin.points, skin.triangles[k]))
                        for k in range(world.bodies)]
        self._area = [surface_area(skin.points, skin.triangles[k]) for k in range(world.bodies)]
        self._stretch = np.zeros(len(world.octahedra.corner))

    def row(self) -> np.ndarray:
        """(bodies, 10): volume relative to rest, largest lengthening of a cell or a triangle, part of the gap used up
        by the deepest contact (1 = touching), largest speed m/s, height of the centre m, speed of the centre m/s;
        largest shortening of a triangle, area relative to rest, pressure inside, Pa, largest turn of an edge, rad.
        """
        world, state = self._stepper.world, self._stepper.state
        skin = self._stepper.contacts.all_skins(state.x)
        world.octahedra.stretches(state.x, self._stretch)
        cell_body, depth = world.octahedra.body.reshape(-1), self._stepper.deepest_contact()
        stretches, folds = world.membrane.stretches(state.x), np.abs(world.bending.angles(state.x))
        rows = np.zeros((world.bodies, len(READINGS)))
        for k in range(world.bodies):
            mine, triangles = world.node_body == k, world.skin.triangles[k]
            share = world.mass[mine] / world.mass[mine].sum()
            own = stretches[world.membrane.body == k]
            stretched = np.concatenate([self._stretch[cell_body == k], own[:, 0]])
            longest = stretched.max() if len(stretched) else 1.0
            enclosed = abs(volume(skin, triangles)) / self._volume[k] if self._volume[k] > LEAST_VOLUME else 1.0
            rows[k] = (enclosed, longest - 1.0, depth[k], np.sqrt((state.v[mine] ** 2).sum(axis=1).max(initial=0.0)),
                       share @ state.x[mine, 1], np.linalg.norm(share @ state.v[mine]),
                       1.0 - own[:, 1].min(initial=1.0), surface_area(skin, triangles) / max(self._area[k], 1e-12),
                       world.pressing.pressure(k, state.x), folds[world.bending.body == k].max(initial=0.0))
        return rows
