"""What is led along a course is carried by the frame that it moves with, or by its own points."""

import numpy as np

from rubberquince.shapes.polymesh import edges_of
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import LedSpec


def led_carrier(spec: LedSpec) -> Carrier:
    points, triangles = np.asarray(spec.points, float), spec.triangles.astype(np.int64)
    start = np.asarray(spec.course(0.0), float)
    if spec.free:
        node, weight, place = np.arange(len(points))[:, None], np.ones((len(points), 1)), points
    else:
        place = np.concatenate([np.zeros((1, 3)), np.eye(3)])
        node = np.tile(np.arange(4), (len(points), 1))
        weight = np.column_stack([1.0 - points.sum(axis=1), points])
    edges = edges_of(triangles)
    at = np.einsum("pk,pki->pi", weight, start[node])
    length = np.linalg.norm(at[edges[:, 0]] - at[edges[:, 1]], axis=1)
    return Carrier(
        start=start, place=place, share=np.full(len(start), 1.0 / len(start)), held=np.ones(len(start), bool),
        size=float(np.median(length)) if len(length) else 1.0, triangles=triangles, bind_node=node, bind_weight=weight,
        near=0.0, filled=False, parts=1)
