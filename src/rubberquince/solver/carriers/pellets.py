"""Pellets: each is one node, and one point of the skin, that is a ball wide."""

import numpy as np

from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import PelletSpec


def pellet_carrier(spec: PelletSpec) -> Carrier:
    """A ball has a triangle whose three corners are one point: so it is in all lists of what may touch."""
    count, radius = len(spec.points), np.asarray(spec.radius, float)
    own = np.arange(count)
    return Carrier(
        start=np.asarray(spec.points, float), place=np.asarray(spec.points, float),
        share=4.0 / 3.0 * np.pi * radius ** 3, held=spec.released > 0.0, size=2.0 * float(np.median(radius)),
        triangles=np.repeat(own[:, None], 3, axis=1), bind_node=own[:, None], bind_weight=np.ones((count, 1)), near=0.0,
        filled=False, parts=1, radius=radius)
