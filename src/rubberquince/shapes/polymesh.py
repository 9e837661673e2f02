"""A polygon mesh as artists exchange it: points, faces of any size, texture coordinates."""

import hashlib
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from rubberquince.distinct import among, distinct
from rubberquince.errors import ShapeError

LARGEST = 1e5       # m; anything farther out is a damaged file, not a prop


@dataclass(frozen=True, eq=False)
class PolyMesh:
    """Polygons over shared points.

    points : (n, 3) float64, m.  face_sizes : (faces,) int32, corners a face.
    face_points : (corners,) int32, point of each corner, faces one after another.
    uvs : (m, 2) float32 and face_uvs : (corners,) int32, or both empty.
    frames : (k · n, 3) float32, where its points are in each of k frames, one after another; empty if it does not move.
    """

    points: np.ndarray
    face_sizes: np.ndarray
    face_points: np.ndarray
    uvs: np.ndarray = field(default_factory=lambda: np.zeros((0, 2), np.float32))
    face_uvs: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int32))
    frames: np.ndarray = field(default_factory=lambda: np.zeros((0, 3), np.float32))

    def __post_init__(self) -> None:
        corners = int(self.face_sizes.sum()) if len(self.face_sizes) else 0
        if self.points.ndim != 2 or self.points.shape[1] != 3 or len(self.points) < 3 or not corners:
            raise ShapeError("The mesh is empty: it needs at least one face.")
        if not np.isfinite(self.points).all() or np.abs(self.points).max() > LARGEST:
            raise ShapeError("The mesh has points that are not numbers or lie beyond 100 km; it cannot be used.")
        if corners != len(self.face_points) or self.face_sizes.min() < 3:
            raise ShapeError("The mesh is damaged: its faces do not add up.")
        if self.face_points.min() < 0 or self.face_points.max() >= len(self.points):
            raise ShapeError("The mesh is damaged: a face names a point that does not exist.")
        if len(self.face_uvs) and (len(self.face_uvs) != corners or self.face_uvs.min() < 0
                                   or self.face_uvs.max() >= len(self.uvs)):
            raise ShapeError("The mesh is damaged: a face names a texture point that does not exist.")

        if len(self.frames) % len(self.points) or not np.isfinite(self.frames).all():
            raise ShapeError("The mesh is damaged: its frames do not add up.")

    @cached_property
    def triangles(self) -> np.ndarray:
        """(t, 3) int32 points: each face as a fan from its first corner."""
        return self.face_points[self.fans].astype(np.int32)

    @cached_property
    def fans(self) -> np.ndarray:
        """(t, 3) corners that the triangles are made of."""
        starts = np.concatenate([[0], np.cumsum(self.face_sizes)[:-1]])
        counts = self.face_sizes - 2
        first = np.repeat(starts, counts)
        within = np.arange(counts.sum()) - np.repeat(np.cumsum(counts) - counts, counts)
        return np.stack([first, first + within + 1, first + within + 2], axis=1)

    @cached_property
    def key(self) -> str:
        """Hash of the content: equal meshes have equal keys."""
        digest = hashlib.sha256()
        for array in (self.points, self.face_sizes, self.face_points, self.uvs, self.face_uvs, self.frames):
            digest.update(np.ascontiguousarray(array).tobytes())
        return digest.hexdigest()[:32]

    def at(self, frame: float) -> np.ndarray:
        """Its points (n, 3) in a ``frame`` from 0 on, evenly on between two; beyond the first and the last it stays."""
        if not len(self.frames):
            return self.points
        frames = self.frames.reshape(-1, len(self.points), 3)
        frame = min(max(frame, 0.0), len(frames) - 1.0)
        before = min(int(frame), len(frames) - 2)
        share = frame - before
        return (1.0 - share) * frames[before] + share * frames[before + 1].astype(float)

    def placed(self, points: np.ndarray) -> "PolyMesh":
        """The same faces over other points."""
        return PolyMesh(np.asarray(points, np.float64), self.face_sizes, self.face_points,
                        self.uvs, self.face_uvs)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        return self.points.min(axis=0), self.points.max(axis=0)


def volume(points: np.ndarray, triangles: np.ndarray) -> float:
    """Enclosed volume, m³, by the divergence theorem; exact for closed meshes wound outwards."""
    a, b, c = points[triangles[:, 0]], points[triangles[:, 1]], points[triangles[:, 2]]
    return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0)


def surface_area(points: np.ndarray, triangles: np.ndarray) -> float:
    """m²."""
    a, b, c = points[triangles[:, 0]], points[triangles[:, 1]], points[triangles[:, 2]]
    return float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2.0)


def edges_of(triangles: np.ndarray) -> np.ndarray:
    """Unique edges (e, 2) int32 of a triangle list, each with its smaller point first."""
    pairs = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).astype(np.int64)
    count = int(triangles.max(initial=0)) + 1           # one number for each is sorted sooner than two
    return np.stack(np.divmod(distinct(pairs[:, 0] * count + pairs[:, 1]), count), axis=1).astype(np.int32)


def is_closed(triangles: np.ndarray) -> bool:
    """True when every edge borders exactly two triangles that run along it in opposite directions."""
    if not len(triangles):
        return False
    directed = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64)
    key = directed[:, 0] * (triangles.max() + 1) + directed[:, 1]
    back = directed[:, 1] * (triangles.max() + 1) + directed[:, 0]
    return len(distinct(key)) == len(key) and np.array_equal(np.sort(key), np.sort(back))


def rims(triangles: np.ndarray) -> list[np.ndarray]:
    """The edges (e, 2) that border one triangle only, as it runs along them, by the openings that they are the rim of.
    """
    edges = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64)
    count = int(triangles.max()) + 1
    key, back = edges[:, 0] * count + edges[:, 1], edges[:, 1] * count + edges[:, 0]
    rim = edges[~among(key, back)]
    if not len(rim):
        return []
    graph = coo_array((np.ones(len(rim), bool), (rim[:, 0], rim[:, 1])), shape=(count, count))
    group = connected_components(graph, directed=False)[1][rim[:, 0]]
    return [rim[group == number] for number in distinct(group)]
