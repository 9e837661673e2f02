"""The geometry of one piece as it is drawn: points split where an edge is sharp, normals, and a value to tint by."""

from functools import lru_cache
from itertools import count

import numpy as np
from scipy.sparse import coo_array, csr_array
from scipy.sparse.csgraph import connected_components

from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.view.shading import corners_of, skin_stretch, vertex_normals

_versions = count()                 # never the same for two bodies, nor for two places of one
SHARP = np.cos(np.radians(42.0))    # faces that meet at more than this keep their edge


def split_at_sharp_edges(points: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(source point of each drawn point, triangles over drawn points).

    Corners that share a point become one drawn point when smooth edges lead from one to the other.
    """
    flat = triangles.reshape(-1)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    corner = np.arange(len(flat)).reshape(-1, 3)
    tail, head = corner[:, [0, 1, 2]].reshape(-1), corner[:, [1, 2, 0]].reshape(-1)
    key = np.sort(np.stack([flat[tail], flat[head]], axis=1), axis=1)
    order = np.lexsort((key[:, 1], key[:, 0]))
    twin = (key[order[1:]] == key[order[:-1]]).all(axis=1)
    one, two = order[:-1][twin], order[1:][twin]
    smooth = (normal[one // 3] * normal[two // 3]).sum(axis=1) > SHARP
    one, two = one[smooth], two[smooth]
    straight = flat[tail[one]] == flat[tail[two]]
    links = np.concatenate([np.stack([tail[one], np.where(straight, tail[two], head[two])]),
                            np.stack([head[one], np.where(straight, head[two], tail[two])])], axis=1)
    graph = coo_array((np.ones(links.shape[1], bool), (links[0], links[1])), shape=(len(flat), len(flat)))
    parts, group = connected_components(graph, directed=False)
    source = np.zeros(parts, np.int32)
    source[group] = flat
    return source, group.reshape(-1, 3).astype(np.int32)


@lru_cache(maxsize=32)
def _split(mesh: PolyMesh, size: tuple[float, float, float]) -> tuple[np.ndarray, np.ndarray, csr_array]:
    source, triangles = split_at_sharp_edges(mesh.points * np.array(size), mesh.triangles)
    return source, triangles, corners_of(triangles, len(source))


class Body:
    """What the renderer draws of a piece.  ``vertices`` (n, 7) float32: place, normal, tint value."""

    def __init__(self, mesh: PolyMesh, size: tuple[float, float, float]) -> None:
        self.source, self.triangles, self._corners = _split(mesh, size)
        self.plain_triangles = mesh.triangles
        self.vertices = np.zeros((len(self.source), 7), np.float32)
        self.points = np.zeros((0, 3), np.float32)
        self.rest = (mesh.points * np.array(size)).astype(np.float32)
        self.colour = (0.5, 0.5, 0.5)
        self.jelly = False
        self.moves = False
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

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner, m."""
        return self._bounds
