"""Fields on a skin: how far from a line, which way it faces, spread along it, noise.  Lengths in any one unit."""

from itertools import product

import igl
import numpy as np
from scipy.sparse import coo_array, diags_array
from scipy.sparse.csgraph import connected_components
from scipy.sparse.linalg import spsolve
from scipy.spatial import cKDTree

from rubberquince.shapes.polymesh import edges_of

ROUND_ABOUT, ROUGH = 0.25, 1.5      # what the way along a bent skin is longer, of that through space and of an edge


def skin_distance(points: np.ndarray, triangles: np.ndarray, line: np.ndarray, closed: bool = False) -> np.ndarray:
    """Distance (n,) of each point along the skin from a line past point numbers ``line`` (k,), inf where none leads.

    Through space where the skin hardly bends, which is exact; else by heat (Crane, Weischedel, Wardetzky 2013).
    """
    far = np.full(len(points), np.inf)
    if not len(line):
        return far
    joined = connected_parts(points, triangles)
    reached = np.isin(joined, np.unique(joined[line]))
    straight = distance_to_line(points, points[np.append(line, line[:1]) if closed else line])
    data, sides = igl.HeatGeodesicsData(), np.ascontiguousarray(triangles, np.int64)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    if np.linalg.norm(np.cross(b - a, c - a), axis=1).min(initial=np.inf) > 0.0:
        igl.heat_geodesics_precompute(np.ascontiguousarray(points, float), sides, data)
        along = igl.heat_geodesics_solve(data, np.unique(line).astype(np.int64))
        edges = edges_of(triangles)
        edge = float(np.median(np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1)))
        bent = np.isfinite(along) & (along - straight > np.maximum(ROUND_ABOUT * straight, ROUGH * edge))
        straight = np.where(bent, along, straight)
    far[reached] = straight[reached]
    return far


def distance_to_line(points: np.ndarray, line: np.ndarray) -> np.ndarray:
    """Distance (n,) of points (n, 3) from the pieces of a line (k, 3)."""
    if len(line) == 1:
        return np.linalg.norm(points - line[0], axis=1)
    pieces = np.column_stack([np.arange(len(line) - 1), np.arange(1, len(line))])
    squared = igl.point_mesh_squared_distance(np.ascontiguousarray(points, float),
                                              np.ascontiguousarray(line, float), pieces)[0]
    return np.sqrt(np.maximum(squared, 0.0))


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
    return np.unique(ends[:-1][same][sharp])


def point_normals(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Unit normals (n, 3), each the sum of its triangles' by their area; 0 where there is none."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.repeat(np.cross(b - a, c - a), 3, axis=0)
    total = np.stack([np.bincount(triangles.reshape(-1), normal[:, i], len(points)) for i in range(3)], axis=1)
    return total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300)


def blurred(points: np.ndarray, triangles: np.ndarray, values: np.ndarray, width: float) -> np.ndarray:
    """``values`` (n,) spread along the skin over about ``width``: heat after the time in which it goes so far."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    third = np.repeat(np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0, 3)
    mass = np.bincount(triangles.reshape(-1), third, len(points))
    mass = np.maximum(mass, 1e-9 * max(mass.max(), 1e-300))
    laplace = igl.cotmatrix(np.ascontiguousarray(points, float), np.ascontiguousarray(triangles, np.int64))
    spread = spsolve((diags_array(mass) - 0.25 * width ** 2 * laplace).tocsc(), mass * values)
    low, high = values.min(), values.max()
    return np.clip(np.where(np.isfinite(spread), spread, values), low, high)


def noise(places: np.ndarray, size: float, seed: int) -> np.ndarray:
    """A smooth random value 0 .. 1 (n,) at ``places`` (n, 3), that changes over about ``size`` (Perlin 1985)."""
    cell = np.floor(places / size).astype(np.int64)
    within = places / size - cell
    ease = within * within * (3.0 - 2.0 * within)
    total = np.zeros(len(places))
    for corner in product((0, 1), repeat=3):
        weight = np.prod(np.where(corner, ease, 1.0 - ease), axis=1)
        total += weight * _scattered(cell + np.array(corner), seed)
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
