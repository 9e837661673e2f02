"""The geometry of one piece as it is drawn: points split where an edge is sharp, normals, and a value to tint by."""

from dataclasses import dataclass
from functools import lru_cache
from itertools import count

import numpy as np
from scipy.sparse import coo_array, csr_array, diags_array

from rubberquince.shapes.normals import normal_groups
from rubberquince.shapes.polymesh import PolyMesh, is_closed, volume
from rubberquince.shapes.rays import RayTree
from rubberquince.view.shading import corners_of, skin_stretch, vertex_normals

DENSE = 60_000              # triangles: a skin of more is drawn thinned while things move
THINNED = 6_000             # points of such a skin that are then drawn, about

_versions = count()                 # never the same for two bodies, nor for two places of one


@dataclass(frozen=True, eq=False)
class Outer:
    """What is drawn of a skin: the point that each drawn point is, ``source`` (n,), triangles over drawn points, and
    the triangles that make each one's normal.

    There is a drawn point for each normal of a point: edges are as sharp in the picture as in what is handed over.
    """

    source: np.ndarray
    triangles: np.ndarray
    corners: csr_array


def outer_of(mesh: PolyMesh, size: tuple[float, float, float]) -> Outer:
    """The whole skin of a mesh."""
    widest = max(size)                      # angles do not change with the whole size
    return _outer(mesh, (size[0] / widest, size[1] / widest, size[2] / widest))


@lru_cache(maxsize=32)
def _outer(mesh: PolyMesh, size: tuple[float, float, float]) -> Outer:
    group = normal_groups(mesh, mesh.points * np.array(size))
    source = np.zeros(group.max() + 1, np.int32)
    source[group] = mesh.face_points
    faces = np.arange(len(mesh.face_sizes))
    meeting = _table(group, np.repeat(faces, mesh.face_sizes), (len(source), len(faces)))
    made_of = _table(np.repeat(faces, mesh.face_sizes - 2), np.arange(len(mesh.triangles)),
                     (len(faces), len(mesh.triangles)))
    return Outer(source, group[mesh.fans].astype(np.int32), (meeting @ made_of).tocsr())


def _table(rows: np.ndarray, columns: np.ndarray, shape: tuple[int, int]) -> csr_array:
    return coo_array((np.ones(len(rows), np.float32), (rows, columns)), shape=shape).tocsr()


def thinned(outer: Outer, rest: np.ndarray, count: int) -> Outer:
    """About ``count`` of the drawn points of a skin that is at ``rest`` (n, 3), m: one of all that are near each other
    and face one way stands for them (Rossignac, Borrel 1993).
    """
    points = rest[outer.source]
    normals = vertex_normals(points, outer.triangles, outer.corners)
    a, b, c = (points[outer.triangles[:, k]] for k in range(3))
    area = 0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())
    cell = np.floor(points / max(np.sqrt(area / count), 1e-30)).astype(np.int64)
    cell -= cell.min(axis=0)
    way = (normals > 0.0) @ np.array([1, 2, 4])
    key = np.ravel_multi_index((*cell.T, way), (*(cell.max(axis=0) + 1), 8))
    _, number = np.unique(key, return_inverse=True)
    middle = np.stack([np.bincount(number, points[:, i]) for i in range(3)], axis=1) / np.bincount(number)[:, None]
    order = np.lexsort((((points - middle[number]) ** 2).sum(axis=1), number))
    first = order[np.searchsorted(number[order], np.arange(len(middle)))]       # the one nearest to their middle
    triangles = number[outer.triangles].astype(np.int32)
    x, y, z = triangles.T
    triangles = triangles[(x != y) & (y != z) & (z != x)]
    a, b, c = (points[first][triangles[:, k]] for k in range(3))
    turned = np.einsum("ti,ti->t", np.cross(b - a, c - a), normals[first][triangles].sum(axis=1)) < 0.0
    corners = corners_of(triangles, len(first)) @ diags_array((~turned).astype(np.float32))     # few, but they mislead
    return Outer(outer.source[first], triangles, csr_array(corners))


class Level:
    """What is drawn of a body, whole or thinned.  ``vertices`` (n, 7) float32: place, normal, tint value."""

    def __init__(self, outer: Outer) -> None:
        self.outer = outer
        self.vertices = np.zeros((len(outer.source), 7), np.float32)
        self.version = self.placed = -1     # of the body that they are of
        self.tinted_from = -1               # the version before, where only tints have changed since
        self.tinted_within = np.zeros((0, 3))       # lowest and highest corner, m, of what they changed, if anything
        self.one_sided = False              # nobody sees it from within: half of its triangles need not be drawn

    def follow(self, body: "Body") -> None:
        """Bring the vertices to where the body is."""
        if self.version == body.version:
            return
        tints = np.zeros(1, np.float32) if body.tint is None else body.tint[self.outer.source]
        self.tinted_from = self.version if self.placed == body.placed else -1
        if self.tinted_from >= 0:
            one, two, three = (self.vertices[:, 6] != tints)[self.outer.triangles.T]
            self.tinted_within = _box(self.vertices[self.outer.triangles[one | two | three].reshape(-1), :3])
        if self.placed != body.placed:
            drawn = np.ascontiguousarray(body.points[self.outer.source])
            self.vertices[:, :3] = drawn
            self.vertices[:, 3:6] = vertex_normals(drawn, self.outer.triangles, self.outer.corners)
            self.placed = body.placed
        self.vertices[:, 6] = tints
        self.version = body.version


class Body:
    """What the renderer draws of a piece."""

    def __init__(self, mesh: PolyMesh, size: tuple[float, float, float]) -> None:
        self.whole = Level(outer_of(mesh, size))
        self.plain_triangles = mesh.triangles
        self.points = np.zeros((0, 3), np.float32)
        self.rest = (mesh.points * np.array(size)).astype(np.float32)
        self.tint: np.ndarray | None = None     # (n,), of the points
        self.colour = (0.5, 0.5, 0.5)
        self.material = "matte"             # see document.values.Look
        self.moves = False
        self.casts = True                   # a shadow
        self.gap = 0.0                      # m, that its skin keeps to others
        self.held = np.zeros(len(self.rest), np.float32)        # 1 for points that never move
        self.version = self.placed = next(_versions)      # ``placed`` stays where only tints change
        self._thin: Level | None = None
        self._bounds = np.zeros(3), np.zeros(3)
        self._rays: RayTree | None = None

    def place(self, points: np.ndarray) -> None:
        """Move to ``points`` (n, 3) m."""
        points = np.ascontiguousarray(points, np.float32)
        if np.array_equal(points, self.points):
            return
        self.points, self._rays = points, None
        low, high = _box(self.points)
        self._bounds = low, high
        self.version = self.placed = next(_versions)

    def tint_by_stretch(self) -> None:
        """Let the tint value say how much the skin is stretched."""
        corners = corners_of(self.plain_triangles, len(self.points))
        self.tint_by(skin_stretch(self.points, self.rest, self.plain_triangles, corners))

    def tint_by(self, values: np.ndarray | None) -> None:
        """Let the tint value be ``values`` (n,) of the points; without them it is 0."""
        if values is not self.tint:
            self.tint = values
            self.version = next(_versions)

    def level(self, rough: bool) -> Level:
        """What is to be drawn, where it is now; ``rough`` thins what has very many triangles."""
        level = self.whole
        if rough and len(self.plain_triangles) > DENSE:
            if self._thin is None:
                self._thin = Level(thinned(self.whole.outer, self.rest, THINNED))
                self._thin.one_sided = is_closed(self.plain_triangles) and volume(self.rest, self.plain_triangles) > 0.0
            level = self._thin
        level.follow(self)
        return level

    @property
    def rays(self) -> RayTree:
        """For rays to meet it where it is: made when one may, and kept until it moves."""
        if self._rays is None:
            self._rays = RayTree(self.points, self.plain_triangles)
        return self._rays

    @property
    def look(self) -> tuple[object, ...]:
        """All that is seen of it besides where it is and what its tint says."""
        return self.colour, self.material, self.gap, self.casts

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner, m."""
        return self._bounds


def _box(points: np.ndarray) -> np.ndarray:
    """Lowest and highest corner (2, 3) of points (n, 3); (0, 3) of none."""
    columns = points.T                          # one after another is twenty times as fast as all along axis 0
    ends = [[column.min() for column in columns], [column.max() for column in columns]] if len(points) else []
    return np.array(ends, float).reshape(-1, 3)
