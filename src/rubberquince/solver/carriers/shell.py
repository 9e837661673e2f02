"""A shell is carried by the points of its own skin."""

import numpy as np

from rubberquince.shapes.polymesh import edges_of
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import ShellSpec

PART_NODES, MOST_PARTS = 100, 12        # nodes an aggregate of the coarse space
LEAST_SHARE = 1e-3                      # of the mean: what only faces without an area have, or none at all


def shell_carrier(spec: ShellSpec) -> Carrier:
    """Points that no face uses weigh next to nothing and go their own way."""
    points, triangles = np.asarray(spec.points, float), spec.triangles.astype(np.int64)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    third = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
    share = np.bincount(triangles.reshape(-1), np.repeat(third, 3), len(points))
    edges = edges_of(triangles)
    length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    return Carrier(
        start=points @ spec.rotation.T + spec.translation, place=points,
        share=np.maximum(share, LEAST_SHARE * max(share.mean(), 1e-12)),
        held=np.zeros(len(points), bool) if spec.held is None else spec.held.astype(bool),
        size=float(np.median(length)), triangles=triangles, bind_node=np.arange(len(points))[:, None],
        bind_weight=np.ones((len(points), 1)), near=0.0, filled=False,
        parts=min(max(round(len(points) / PART_NODES), 1), MOST_PARTS))
