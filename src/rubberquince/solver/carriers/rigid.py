"""A rigid body is carried by four equal masses that have its own mass, centre and moments (Routh 1905, art. 33)."""

import numpy as np

from rubberquince.shapes.polymesh import edges_of, is_closed
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import RigidSpec

CORNERS = np.array([[1, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]], float)
THINNEST = 0.05             # of the widest spread of mass: what is flatter is taken to be as thick
LEAST = 1e-9                # m³ or m²


def equal_masses(points: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, float]:
    """Four places (4, 3), m, whose equal masses move as what is inside a closed skin, and its volume, m³.

    Of an open one it is the skin that has the mass, as if it were a millimetre thick.
    """
    size, centre, spread = (_inside if is_closed(triangles) else _surface)(points, triangles)
    squares, axes = np.linalg.eigh(spread)
    widths = np.sqrt(np.maximum(squares, (THINNEST ** 2) * max(squares.max(), 1e-18)))
    if np.linalg.det(axes) < 0.0:
        axes[:, 0] *= -1.0
    return centre + (CORNERS * widths) @ axes.T, size


def rigid_carrier(spec: RigidSpec) -> Carrier:
    points, triangles = np.asarray(spec.points, float), spec.triangles.astype(np.int64)
    nodes, size = equal_masses(points, triangles)
    edges = edges_of(triangles)
    length = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)
    return Carrier(
        start=nodes @ spec.rotation.T + spec.translation, place=nodes, share=np.full(4, size / 4.0),
        held=np.full(4, spec.held), size=float(np.median(length)), triangles=triangles,
        bind_node=np.tile(np.arange(4), (len(points), 1)), bind_weight=shares_of(points, nodes), near=0.0, filled=True,
        parts=1)


def shares_of(points: np.ndarray, nodes: np.ndarray) -> np.ndarray:
    """How much (n, 4) four nodes count at points (n, 3), so that they go along in any affine motion."""
    frame = np.vstack([nodes.T, np.ones(4)])
    return np.ascontiguousarray(np.linalg.solve(frame, np.vstack([points.T, np.ones(len(points))])).T)


def _inside(points: np.ndarray, triangles: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """Volume, centre, and second moments (3, 3) by volume of what a closed skin holds, a tetrahedron a face."""
    middle = points.mean(axis=0)
    a, b, c = (points[triangles[:, k]] - middle for k in range(3))
    part = np.einsum("ti,ti->t", a, np.cross(b, c)) / 6.0
    total = part.sum()
    if abs(total) < LEAST:
        return _surface(points, triangles)
    whole = a + b + c
    centre = part @ whole / (4.0 * total)
    second = sum(np.einsum("t,ti,tj->ij", part, v, v) for v in (whole, a, b, c)) / (20.0 * total)
    return abs(float(total)), centre + middle, second - np.outer(centre, centre)


def _surface(points: np.ndarray, triangles: np.ndarray) -> tuple[float, np.ndarray, np.ndarray]:
    """The same of a skin of 1 mm."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
    total = max(float(area.sum()), LEAST)
    whole = a + b + c
    centre = area @ whole / (3.0 * total)
    second = sum(np.einsum("t,ti,tj->ij", area, v, v) for v in (whole, a, b, c)) / (12.0 * total)
    return 1e-3 * total, centre, second - np.outer(centre, centre)
