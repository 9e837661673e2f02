"""The balls of a piece of Pellets: each part of its mesh that hangs together is one, as wide as it is on the mean."""

from dataclasses import dataclass

import numpy as np

from rubberquince.document.bodies import Meshes, piece_points, unit_mesh
from rubberquince.document.scene import Piece
from rubberquince.kernels.groups import groups


@dataclass(frozen=True, eq=False)
class Balls:
    """part : (n,), the ball of each point of a mesh."""

    part: np.ndarray

    def middles(self, points: np.ndarray) -> np.ndarray:
        """(balls, 3), m, of points (n, 3)."""
        count = np.bincount(self.part)
        return np.column_stack([np.bincount(self.part, points[:, i]) for i in range(3)]) / count[:, None]

    def roundness(self, points: np.ndarray) -> float:
        """The least, of all balls, of the nearest distance of a point over the farthest."""
        far = np.linalg.norm(points - self.middles(points)[self.part], axis=1)
        nearest, farthest = np.full((2, int(self.part.max()) + 1), np.inf)
        np.minimum.at(nearest, self.part, far)
        np.minimum.at(farthest, self.part, -far)
        return float((nearest / np.maximum(-farthest, 1e-300)).min())

    def means(self, values: np.ndarray) -> np.ndarray:
        """(balls,), of values of points (n,)."""
        return np.bincount(self.part, values) / np.bincount(self.part)

    def radii(self, points: np.ndarray) -> np.ndarray:
        """(balls,), m: the mean distance of their points."""
        far = np.linalg.norm(points - self.middles(points)[self.part], axis=1)
        return np.maximum(np.bincount(self.part, far) / np.bincount(self.part), 1e-5)


def width_of(piece: Piece, meshes: Meshes) -> tuple[int, float]:
    """How many balls there are, and how wide, m, the middle one of them."""
    radii = balls_of(piece, meshes).radii(piece_points(piece, meshes))
    return len(radii), 2.0 * float(np.median(radii))


def balls_of(piece: Piece, meshes: Meshes) -> Balls:
    mesh = unit_mesh(piece.shape, meshes)
    corner = mesh.triangles.astype(np.int64)
    number = groups(corner[:, :2].reshape(-1), corner[:, 1:].reshape(-1), len(mesh.points))
    used = np.zeros(len(mesh.points), bool)
    used[corner] = True
    return Balls(np.unique(number, return_inverse=True)[1] if used.all() else number)
