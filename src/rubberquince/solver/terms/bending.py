"""Shells resist bending at the edges between their triangles; see kernels.bending."""

from collections.abc import Sequence

import numpy as np

from rubberquince.kernels import bending as bd
from rubberquince.solver.carriers.carrier import Carrier
from rubberquince.solver.specs import AnyMaterial, BodySpec, Course, ShellMaterial, ShellSpec
from rubberquince.solver.terms.membrane import spread

# Hinges act as a plate of Poisson's ratio 1/3 (Seung, Nelson 1988): a sheet that bends as one has the stiffness that it
# is given, a narrow strip 8/9 of it.  Half of that is made up for, so that both are right within a sixteenth.
FIRMER = 17.0 / 16.0
SLIVER = 1e-4               # height of a triangle over its longest side: thinner ones have no plane
THINNEST = 0.1              # area of both triangles over their edge squared: thinner ones bend no harder


class Bending:
    """All hinges of all shells.  hinge : (h, 4) nodes: the ends of an edge, then the points opposite to it."""

    def __init__(self, bodies: Sequence[BodySpec], carriers: Sequence[Carrier], first_node: np.ndarray) -> None:
        hinge, shape, rest, body = [np.zeros((0, 4), np.int64)], [np.zeros(0)], [np.zeros(0)], [np.zeros(0)]
        self._rests: dict[int, Course] = {}
        for k, spec in enumerate(bodies):
            if isinstance(spec, ShellSpec) and not spec.net:
                if spec.rest is not None and not spec.flat:
                    self._rests[k] = spec.rest
                points, mine = np.asarray(spec.points, float), hinges_of(spec.triangles)
                mine = mine[_flat_sided(points, mine)]
                at_rest = np.zeros(len(mine))
                if not spec.flat:
                    bd.angles(points, mine, at_rest)
                hinge.append(mine + first_node[k])
                shape.append(_stoutness(points, mine, carriers[k].held))
                rest.append(at_rest)
                body.append(np.full(len(mine), k))
        self.hinge, self._shape, self.rest = np.concatenate(hinge), np.concatenate(shape), np.concatenate(rest)
        self.body = np.concatenate(body).astype(np.int64)
        self._first = first_node
        self.pairs = self.hinge[:, bd.PAIRS].reshape(-1, 2)
        self._stiffness = np.zeros(len(self.hinge))

        self.split(1)

    def split(self, chunks: int) -> None:
        self._parts = np.zeros(chunks)

    def set_material(self, body: int, material: AnyMaterial) -> None:
        if isinstance(material, ShellMaterial):
            mine = self.body == body
            bend = spread(material.bend, self.hinge[mine] - self._first[body])
            self._stiffness[mine] = FIRMER * bend * self._shape[mine]

    def set_rest(self, body: int, course: Course) -> None:
        """Let a body whose angles at rest move have others."""
        if body in self._rests:
            self._rests[body] = course

    def tell(self, since: float) -> bool:
        for k, course in self._rests.items():
            mine = self.body == k
            at_rest = np.empty(mine.sum())
            bd.angles(course(since), self.hinge[mine] - self._first[k], at_rest)
            self.rest[mine] = at_rest
        return bool(self._rests)

    def energy(self, x: np.ndarray) -> float:
        if len(self._parts) == 1:
            return bd.bending_energy(0, len(self.hinge), x, self.hinge, self._stiffness, self.rest)
        return bd.bending_energy_all(self._parts, x, self.hinge, self._stiffness, self.rest)

    def add_gradient(self, x: np.ndarray, out: np.ndarray) -> None:
        bd.add_bending_gradient(x, self.hinge, self._stiffness, self.rest, out)

    def fill_blocks(self, x: np.ndarray, out: np.ndarray) -> None:
        if len(self._parts) == 1:
            bd.bending_blocks(0, len(self.hinge), x, self.hinge, self._stiffness, out.reshape(-1, 10, 9))
        else:
            bd.bending_blocks_all(len(self._parts), x, self.hinge, self._stiffness, out.reshape(-1, 10, 9))

    def angles(self, x: np.ndarray) -> np.ndarray:
        """How far each hinge is folded from rest, (h,) rad."""
        out = np.empty(len(self.hinge))
        bd.angles(x, self.hinge, out)
        return (out - self.rest + np.pi) % (2.0 * np.pi) - np.pi


def hinges_of(triangles: np.ndarray) -> np.ndarray:
    """Hinges (h, 4) of triangles (t, 3): edges between just two of them."""
    tri = triangles.astype(np.int64)
    ends = np.sort(tri[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    opposite = tri[:, [2, 0, 1]].reshape(-1)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, opposite = ends[order], opposite[order]
    _, first, count = np.unique(ends, axis=0, return_index=True, return_counts=True)
    two = first[count == 2]
    hinge = np.column_stack([ends[two], opposite[two], opposite[two + 1]])
    return hinge[hinge[:, 2] != hinge[:, 3]].reshape(-1, 4)


def _flat_sided(points: np.ndarray, hinge: np.ndarray) -> np.ndarray:
    """Which hinges (h,) bool have a plane on both sides: others have no angle."""
    a, b = points[hinge[:, 0]], points[hinge[:, 1]]
    real = np.ones(len(hinge), bool)
    for k in (2, 3):
        sides = b - a, points[hinge[:, k]] - a, points[hinge[:, k]] - b
        longest = np.max([(side ** 2).sum(axis=1) for side in sides], axis=0)
        real &= np.linalg.norm(np.cross(sides[0], sides[1]), axis=1) > SLIVER * longest
    return real


def _stoutness(points: np.ndarray, hinge: np.ndarray, held: np.ndarray) -> np.ndarray:
    """L² / (A1 + A2) (h,), what the bending stiffness is multiplied with.

    A triangle with all its points ``held`` (n,) bool cannot bend, so its area does not count.
    """
    a, b, c, d = (points[hinge[:, k]] for k in range(4))
    ends = held[hinge[:, 0]] & held[hinge[:, 1]]
    sides = ((c, ~(ends & held[hinge[:, 2]])), (d, ~(ends & held[hinge[:, 3]])))
    area = sum(0.5 * np.linalg.norm(np.cross(b - a, p - a), axis=1) * bends for p, bends in sides)
    length = ((b - a) ** 2).sum(axis=1)
    return length / np.maximum(area, np.maximum(THINNEST * length, 1e-300))
