"""Fields on a skin: how far from a line, which way it faces, spread along it, noise.  Lengths in any one unit."""

from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import product

import igl
import numpy as np
from scipy.sparse import coo_array, csc_array, csr_array, diags_array
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import LinearOperator, cg, splu
from scipy.spatial import cKDTree

from rubberquince.distinct import distinct
from rubberquince.shapes.polymesh import edges_of

ROUND_ABOUT, ROUGH = 0.25, 1.5      # what the way along a bent skin is longer, of that through space and of an edge
CLUSTER = 7.0                      # edges across, of what a blur takes together to see what goes far
BLURRED, MOST_ROUNDS = 1e-3, 300    # of the values: where a blur is done; and of its iterations, whatever the mesh


@dataclass(frozen=True, eq=False)
class Ways:
    """How far it is along a skin with ``points`` (n, 3) and ``triangles`` (t, 3), from whatever line."""

    points: np.ndarray
    triangles: np.ndarray

    def from_line(self, line: np.ndarray, closed: bool = False) -> np.ndarray:
        """Distance (n,) of each point from a line past point numbers ``line`` (k,), inf where no way leads.

        Through space where the skin hardly bends, which is exact; else by heat (Crane, Weischedel, Wardetzky 2013).
        """
        far = np.full(len(self.points), np.inf)
        if not len(line):
            return far
        reached = np.isin(self._joined, distinct(self._joined[line]))
        straight = distance_to_line(self.points, self.points[np.append(line, line[:1]) if closed else line])
        if self._heat is not None:
            along = igl.heat_geodesics_solve(self._heat, distinct(line).astype(np.int64))
            bent = np.isfinite(along) & (along - straight > np.maximum(ROUND_ABOUT * straight, ROUGH * self._edge))
            straight = np.where(bent, along, straight)
        far[reached] = straight[reached]
        return far

    @cached_property
    def _joined(self) -> np.ndarray:
        return connected_parts(self.points, self.triangles)

    @cached_property
    def _edge(self) -> float:
        """The length of most edges."""
        edges = edges_of(self.triangles)
        return float(np.median(np.linalg.norm(self.points[edges[:, 0]] - self.points[edges[:, 1]], axis=1)))

    @cached_property
    def _heat(self) -> igl.HeatGeodesicsData | None:
        """What takes long and is the same for all lines; None where a triangle has no area."""
        a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
        if not np.linalg.norm(np.cross(b - a, c - a), axis=1).min(initial=np.inf) > 0.0:
            return None
        data = igl.HeatGeodesicsData()
        igl.heat_geodesics_precompute(np.ascontiguousarray(self.points, float),
                                      np.ascontiguousarray(self.triangles, np.int64), data)
        return data


def distance_to_line(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Distance (n,) of points (n, 3) from the pieces of a line (k, 3)."""
    if len(line) == 1:
        return np.linalg.norm(points - line[0], axis=1)
    pieces = np.column_stack([np.arange(len(line) - 1), np.arange(1, len(line))])
    squared = igl.point_mesh_squared_distance(np.ascontiguousarray(points, float),
                                              np.ascontiguousarray(line, float), pieces)[0]
    return np.sqrt(np.maximum(squared, 0.0))


def faded(part: np.ndarray) -> np.ndarray:
    """1 at 0 and below, and 0 from 1 on, without a kink at either."""
    left = 1.0 - np.clip(part, 0.0, 1.0)
    return left * left * (3.0 - 2.0 * left)


def connected_parts(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Number (n,) of the connected part that each point belongs to."""
    edges = edges_of(triangles)
    links = coo_array((np.ones(len(edges), bool), (edges[:, 0], edges[:, 1])), shape=(len(points),) * 2)
    return connected_components(links, directed=False)[1]


def sharp_points(points: np.ndarray, triangles: np.ndarray, degrees: float) -> np.ndarray:
    """Points (k,) on edges between triangles that turn by more than so much."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    ends = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1).astype(np.int64)
    face = np.repeat(np.arange(len(triangles)), 3)
    order = np.lexsort((ends[:, 1], ends[:, 0]))
    ends, face = ends[order], face[order]
    same = (ends[1:] == ends[:-1]).all(axis=1)
    one, two = face[:-1][same], face[1:][same]
    sharp = (normal[one] * normal[two]).sum(axis=1) < np.cos(np.radians(degrees))
    return distinct(ends[:-1][same][sharp])


def point_normals(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Unit normals (n, 3), each the sum of its triangles' by their area; 0 where there is none."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.repeat(np.cross(b - a, c - a), 3, axis=0)
    total = np.stack([np.bincount(triangles.reshape(-1), normal[:, i], len(points)) for i in range(3)], axis=1)
    return total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300)


@dataclass(frozen=True, eq=False)
class Heat:
    """How heat goes along a skin with ``points`` (n, 3) and ``triangles`` (t, 3), for blurs of any width."""

    points: np.ndarray
    triangles: np.ndarray

    def spread(self, values: np.ndarray, width: float) -> np.ndarray:
        """``values`` (n,) spread along the skin over about ``width``: heat after the time in which it goes so far."""
        mass, _ = self._matrices
        if not mass.any():
            return values
        low, high = values.min(), values.max()
        matrix, guess = _diffusion(self, min(width, 2.0 * self._widest))        # wider makes no difference
        right = (mass * values).astype(np.float32)
        spread, _ = cg(matrix, right, values.astype(np.float32), rtol=BLURRED, maxiter=MOST_ROUNDS, M=guess)
        return np.clip(np.where(np.isfinite(spread), spread, values), low, high)

    @cached_property
    def _widest(self) -> float:
        return float(np.ptp(self.points, axis=0).max())

    @cached_property
    def _matrices(self) -> tuple[np.ndarray, csr_array]:
        """The area of each point (n,), and the cotangents of its edges (n, n)."""
        a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
        third = np.repeat(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0, 3)
        mass = np.bincount(self.triangles.reshape(-1), third, len(self.points))
        full = third[::3] > 0.0                     # what has no area has no cotangents
        laplace = igl.cotmatrix(np.ascontiguousarray(self.points, float),
                                np.ascontiguousarray(self.triangles[full], np.int64))
        return np.maximum(mass, 1e-9 * mass.max(initial=0.0)), csr_array(laplace)

    @cached_property
    def _clusters(self) -> tuple[csr_array, csr_array, np.ndarray, csr_array]:
        """Which points (n, clusters) are near each other, some edges across, and the same the other way round; the
        area (clusters,) and the cotangents (clusters, clusters) of each cluster (two levels: Nicolaides 1987).
        """
        mass, laplace = self._matrices
        cell = np.floor(self.points / (CLUSTER * np.sqrt(np.median(mass)))).astype(np.int64)
        _, number = np.unique(cell, axis=0, return_inverse=True)
        count = len(number)
        clusters = csr_array((np.ones(count, np.float32), (np.arange(count), number.reshape(-1))))
        gather = csr_array(clusters.T)
        return clusters, gather, gather @ mass, csr_array(gather @ laplace @ clusters)


@lru_cache(maxsize=4)
def _diffusion(heat: Heat, width: float) -> tuple[csr_array, LinearOperator]:
    """What heat is found from after it went so far, and about its inverse; while values change it stays the same."""
    (mass, laplace), time = heat._matrices, 0.25 * width ** 2
    clusters, gather, joined, between = heat._clusters
    coarse = splu(csc_array(diags_array(joined) - time * between), permc_spec="MMD_AT_PLUS_A",
                  diag_pivot_thresh=0.0, options={"SymmetricMode": True})
    matrix = csr_array(diags_array(mass) - time * laplace, dtype=np.float32)          # its digits are enough, and quick
    each = np.float32(1.0) / matrix.diagonal()
    return matrix, LinearOperator(matrix.shape, lambda r: each * r + clusters @ coarse.solve(gather @ r),
                                  dtype=np.float32)


def noise(places: np.ndarray, size: float, seed: int) -> np.ndarray:
    """A smooth random value 0 .. 1 (n,) at ``places`` (n, 3), that changes over about ``size`` (Perlin 1985)."""
    cell = np.floor(places / size).astype(np.int64)
    within = places / size - cell
    ease = within * within * (3.0 - 2.0 * within)
    sides, total = (1.0 - ease.T, ease.T), np.zeros(len(places))
    low, high = cell.min(axis=0), cell.max(axis=0) + 2
    few = float(np.prod((high - low).astype(float))) <= len(places)         # then each of them is scattered once
    stride = np.array([(high - low)[1] * (high - low)[2], (high - low)[2], 1]) if few else np.zeros(3, np.int64)
    known = _scattered(np.stack(np.meshgrid(*map(np.arange, low, high), indexing="ij"), axis=-1).reshape(-1, 3),
                       seed) if few else np.zeros(0)
    first = (cell - low) @ stride
    for corner in product((0, 1), repeat=3):
        x, y, z = corner
        scattered = known[first + corner @ stride] if few else _scattered(cell + np.array(corner), seed)
        total += sides[x][0] * sides[y][1] * sides[z][2] * scattered
    return total


def scattered(numbers: np.ndarray, seed: int) -> np.ndarray:
    """A random value 0 .. 1 (n,) for each whole number (n,), always the same."""
    return _scattered(np.column_stack([numbers, numbers * 0, numbers * 0]), seed)


def _scattered(cells: np.ndarray, seed: int) -> np.ndarray:
    mix = np.zeros(len(cells), np.uint64)
    for column in (*cells.T, np.full(len(cells), seed)):
        mix = (mix ^ column.astype(np.int64).view(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        mix ^= mix >> np.uint64(29)
        mix = mix * np.uint64(0xBF58476D1CE4E5B9)
        mix ^= mix >> np.uint64(32)
    return (mix >> np.uint64(11)).astype(float) / 2.0 ** 53


def nearest_values(places: np.ndarray, known: np.ndarray, values: np.ndarray, reach: float) -> tuple[np.ndarray, ...]:
    """Which places (n,) bool have a known place (k, 3) within ``reach``, and the ``values`` (k,) of the nearest."""
    if not len(known):
        return np.zeros(len(places), bool), np.zeros(len(places))
    far, nearest = cKDTree(known).query(places)
    return np.asarray(far) <= reach, np.asarray(values, float)[nearest]
