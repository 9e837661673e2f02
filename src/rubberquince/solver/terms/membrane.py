"""Shells resist stretching and squeezing in their surface; see kernels.membrane."""

from collections.abc import Sequence

import numpy as np

from rubberquince.kernels import membrane as mb
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import Amount, AnyMaterial, BodySpec, Course, ShellMaterial, ShellSpec

STEEP = 0.9                 # cosine between a triangle's normal and the grain, above which another direction is taken
THINNEST = 1e-4             # height of a triangle over its longest edge: thinner ones have no plane to be stretched in


class Membrane:
    """All triangles of all shells: tri (t, 3) nodes, shape (t, 3, 2) 1/m and area (t,) m² as in kernels.membrane."""

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        tri, shape, area, body = [np.zeros((0, 3), np.int64)], [np.zeros((0, 3, 2))], [np.zeros(0)], [np.zeros(0)]
        self._rests: dict[int, Course] = {}
        self._made: dict[int, tuple[np.ndarray, np.ndarray | None]] = {}        # triangles and their grain
        self._points: dict[int, np.ndarray] = {}                                # where those of each are at rest
        self._grown: dict[int, tuple[Amount, Amount]] = {}
        for k, spec in enumerate(bodies):
            if isinstance(spec, ShellSpec) and not spec.net:
                mine = spec.triangles.astype(np.int64)
                self._points[k], self._grown[k] = np.asarray(spec.points, float), (1.0, 1.0)
                slopes, areas = _at_rest(self._points[k], mine, self._grown[k], spec.grain)
                real = areas > 0.0
                self._made[k] = mine[real], None if spec.grain is None else spec.grain[real]
                tri.append(mine[real] + first_node[k])
                shape.append(slopes[real])
                area.append(areas[real])
                body.append(np.full(len(area[-1]), k))
                if spec.rest is not None:
                    self._rests[k] = spec.rest
        self.tri, self.shape, self.area = np.concatenate(tri), np.concatenate(shape), np.concatenate(area)
        self.body = np.concatenate(body).astype(np.int64)
        self._first = first_node
        self.pairs = self.tri[:, mb.PAIRS].reshape(-1, 2)
        self._stretch, self._poisson, self._squeeze, self._most = np.zeros((4, len(self.tri)))
        self.split(1)

    def split(self, chunks: int) -> None:
        self._parts = np.zeros(chunks)

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, ShellMaterial):
            mine = self.body == body
            self._stretch[mine] = spread(material.stretch, self.tri[mine] - self._first[body])
            self._poisson[mine] = material.poisson
            self._squeeze[mine] = material.squeeze
            self._most[mine] = np.inf if material.most is None else material.most
            grown = material.along, material.across
            if body in self._made and not all(map(np.array_equal, grown, self._grown[body])):
                self._grown[body] = grown
                self._renew(body)

    def _values(self) -> tuple[np.ndarray, ...]:
        return self.tri, self.shape, self.area, self._stretch, self._poisson, self._squeeze, self._most

    def set_rest(self, body: int, course: Course) -> None:
        """Let a body whose lengths at rest move have others."""
        if body in self._rests:
            self._rests[body] = course

    def tell(self, since: float) -> bool:
        for k, course in self._rests.items():
            self._points[k] = course(since)
            self._renew(k)
        return bool(self._rests)

    def _renew(self, body: int) -> None:
        """Give a body the lengths at rest that it has by now."""
        made, grain = self._made[body]
        slopes, areas = _at_rest(self._points[body], made, self._grown[body], grain)
        real = areas > 0.0                          # what is flat for a moment stays as it was
        rows = np.flatnonzero(self.body == body)[real]
        self.shape[rows], self.area[rows] = slopes[real], areas[real]

    def energy(self, x: np.ndarray) -> float:
        if len(self._parts) == 1:
            return mb.membrane_energy(0, len(self.tri), x, *self._values())
        return mb.membrane_energy_all(self._parts, x, *self._values())

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        mb.add_membrane_gradient(x, *self._values(), out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        if len(self._parts) == 1:
            mb.membrane_blocks(0, len(self.tri), x, *self._values(), out.reshape(-1, 6, 9))
        else:
            mb.membrane_blocks_all(len(self._parts), x, *self._values(), out.reshape(-1, 6, 9))

    def stretches(self, x: np.ndarray) -> np.ndarray:
        """The principal stretches (t, 2) of each triangle, the larger first; 1 is as at rest."""
        out = np.empty((len(self.tri), 2))
        mb.principal_stretches(x, self.tri, self.shape, out)
        return out


def spread(amount: Amount, elements: np.ndarray) -> Amount:
    """What an amount comes to in each of a body's elements (e, k), numbers of its own nodes: their mean."""
    return amount[elements].mean(axis=1) if isinstance(amount, np.ndarray) else amount


def growth_of(grows: tuple[Amount, Amount], tri: np.ndarray) -> np.ndarray:
    """What the lengths at rest of triangles (t, 3) are, along and across, (t, 2), of those they were made with."""
    return np.column_stack([np.broadcast_to(spread(amount, tri), len(tri)) for amount in grows])


def _at_rest(points: np.ndarray, tri: np.ndarray, grows: tuple[Amount, Amount],
             grain: np.ndarray | None) -> tuple[np.ndarray, np.ndarray]:
    """Gradients (t, 3, 2), 1/m, of the corners' hat functions at rest, and areas (t,), m², 0 where there is no plane.

    The first direction in a triangle's plane is that of its ``grain`` (t, 3), else that of x as the shell was made; the
    skin may grow otherwise along it than across.
    """
    a, b, c = (points[tri[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    twice = np.linalg.norm(normal, axis=1)
    longest = np.max([np.linalg.norm(p - q, axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0, initial=0.0)
    real = twice > THINNEST * longest ** 2
    normal /= np.where(real, twice, 1.0)[:, None]
    grain = np.tile([1.0, 0.0, 0.0], (len(tri), 1)) if grain is None else grain
    steep = np.abs((grain * normal).sum(axis=1)) > STEEP            # it has no direction in such a plane
    along = np.where(steep[:, None], np.roll(grain, 1, axis=1), grain)
    along = along - (along * normal).sum(axis=1, keepdims=True) * normal
    along /= np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-300)
    frame = np.stack([along, np.cross(normal, along)], axis=2)
    sides = np.einsum("kti,tij->tjk", np.stack([b - a, c - a]), frame) * growth_of(grows, tri)[:, :, None]
    sides[~real] = np.eye(2)
    inverse = np.linalg.inv(sides)                      # (t, 2 corners, 2 directions)
    shape = np.concatenate([-inverse.sum(axis=1, keepdims=True), inverse], axis=1)
    return shape, np.where(real, 0.5 * twice * growth_of(grows, tri).prod(axis=1), 0.0)
