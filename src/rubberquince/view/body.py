"""The geometry of one piece as it is drawn: points split where an edge is sharp, normals, and a value to tint by."""

from functools import lru_cache
from itertools import count

import numpy as np
from scipy.sparse import coo_array, csr_array

from rubberquince.shapes.normals import normal_groups
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.view.shading import corners_of, skin_stretch, vertex_normals

_versions = count()                 # never the same for two bodies, nor for two places of one


def split_at_sharp_edges(mesh: PolyMesh, size: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray, csr_array]:
    """(source point of each drawn point, triangles over drawn points, the triangles that make each one's normal).

    A drawn point for each normal of a point: edges are as sharp in the picture as in what is handed over.
    """
    widest = max(size)                      # angles do not change with the whole size
    return _split(mesh, (size[0] / widest, size[1] / widest, size[2] / widest))


@lru_cache(maxsize=32)
def _split(mesh: PolyMesh, size: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray, csr_array]:
    group = normal_groups(mesh, mesh.points * np.array(size))
    source = np.zeros(group.max() + 1, np.int32)
    source[group] = mesh.face_points
    faces = np.arange(len(mesh.face_sizes))
    meeting = _table(group, np.repeat(faces, mesh.face_sizes), (len(source), len(faces)))
    made_of = _table(np.repeat(faces, mesh.face_sizes - 2), np.arange(len(mesh.triangles)),
                     (len(faces), len(mesh.triangles)))
    return source, group[mesh.fans].astype(np.int32), (meeting @ made_of).tocsr()


def _table(rows: np.ndarray, columns: np.ndarray, shape: tuple[int, int]) -> csr_array:
    return coo_array((np.ones(len(rows), np.float32), (rows, columns)), shape=shape).tocsr()


class Body:
    """What the renderer draws of a piece.  ``vertices`` (n, 7) float32: place, normal, tint value."""

    def __init__(self, mesh: PolyMesh, size: tuple[float, float, float]) -> None:
        self.source, self.triangles, self._corners = split_at_sharp_edges(mesh, size)
        self.plain_triangles = mesh.triangles
        self.vertices = np.zeros((len(self.source), 7), np.float32)
        self.points = np.zeros((0, 3), np.float32)
        self.rest = (mesh.points * np.array(size)).astype(np.float32)
        self.colour = (0.5, 0.5, 0.5)
        self.material = "matte"             # see document.values.Look
        self.moves = False
        self.casts = True                   # a shadow
        self.gap = 0.0                      # m, that its skin keeps to others
        self.held = np.zeros(len(self.rest), np.float32)        # 1 for points that never move
        self.version = next(_versions)
        self._bounds = np.zeros(3), np.zeros(3)

    def place(self, points: np.ndarray) -> None:
        """Move to ``points`` (n, 3) m."""
        self.points = np.ascontiguousarray(points, np.float32)
        drawn = np.ascontiguousarray(self.points[self.source])
        self.vertices[:, :3] = drawn
        self.vertices[:, 3:6] = vertex_normals(drawn, self.triangles, self._corners)
        self._bounds = self.points.min(axis=0).astype(float), self.points.max(axis=0).astype(float)
        self.version = next(_versions)

    def tint_by_stretch(self) -> None:
        """Let the tint value say how much the skin is stretched."""
        corners = corners_of(self.plain_triangles, len(self.points))
        self.vertices[:, 6] = skin_stretch(self.points, self.rest, self.plain_triangles, corners)[self.source]
        self.version = next(_versions)

    def tint_by(self, values: np.ndarray) -> None:
        """Let the tint value be ``values`` (n,) of the points."""
        self.vertices[:, 6] = values[self.source]
        self.version = next(_versions)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner, m."""
        return self._bounds
