"""Which points of a skin a net joins, and which braces span its inside."""

import numpy as np
from scipy.sparse import coo_array
from scipy.spatial import cKDTree

from rubberquince.distinct import distinct
from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import PolyMesh, edges_of
from rubberquince.shapes.rays import nearest_hits
from rubberquince.shapes.surface import point_normals

ISOTROPIC = 6.0             # makes a net as hard to stretch evenly as a membrane of Poisson's ratio 1/3
EVEN = 3.0 / 8.0            # mean of cos⁴
ROUNDS = 30                 # of sharing a point's area among its springs
MOST_AT_ONCE = 4_000_000    # pairs of springs of a point
MOST_SPRINGS = 60           # of each point
INWARD = 1e-4               # of the size, that a brace sets out from beneath the skin


def net_links(points: np.ndarray, mesh: PolyMesh, rings: int,
              within: float = 0.0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Pairs (k, 2) of ``points`` (n, 3), m, of a mesh no more than ``rings`` edges apart, their lengths (k,), m, and
    weights (k,).

    Both diagonals of a quad count as edges: with one alone a net is slack one way and taut the other.  Around each
    point springs share its area so that it is as stiff in any direction, as far as they go.
    Where ``within``, m, is above 0, it is all pairs that are no farther apart.
    A spring is as stiff, N/m, as its weight times what the net as a whole has, N/m: so a finer net is no stiffer.
    Raises ShapeError when there are too many.
    """
    triangles = mesh.triangles
    pairs = _near_pairs(points, distinct(triangles), within) if within > 0.0 else _ring_pairs(
        len(points), np.concatenate([edges_of(triangles), _diagonals(mesh)]), rings)
    length = np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1)
    pairs, length = pairs[length > 0.0], length[length > 0.0]
    a, b, c = (points[triangles[:, k]] for k in range(3))
    third = np.linalg.norm(np.cross(b - a, c - a), axis=1) / 6.0
    area = np.bincount(triangles.reshape(-1), np.repeat(third, 3), len(points))
    way = (points[pairs[:, 1]] - points[pairs[:, 0]]) / length[:, None]
    shares = area[pairs] * _even_shares(pairs, way, len(points))
    return pairs, length, ISOTROPIC * 0.5 * shares.sum(axis=1) / length ** 2


def _even_shares(pairs: np.ndarray, way: np.ndarray, count: int) -> np.ndarray:
    """Which part of the area of each end of springs between ``pairs`` (k, 2) of points is that of the spring, (k, 2).

    Those of a point, with directions n (k, 3), come to 1 and make Σ w nnnn as even in its plane as it can be: non-
    negative least squares by rounds of factors (Lee, Seung 2001), as nnnn : mmmm = (n·m)⁴ is never below 0.
    """
    ends = pairs.reshape(-1)
    order = np.argsort(ends, kind="stable")
    degree = np.bincount(ends, minlength=count)
    first, out = np.cumsum(degree) - degree, np.zeros(len(ends))
    for springs in distinct(degree[degree > 0]):
        nodes = np.flatnonzero(degree == springs)
        for some in np.array_split(nodes, len(nodes) * springs ** 2 // MOST_AT_ONCE + 1):
            star = order[first[some][:, None] + np.arange(springs)]
            n = way[star // 2]
            alike, share = (n @ np.swapaxes(n, 1, 2)) ** 4, np.full(star.shape, 1.0 / springs)
            for _ in range(ROUNDS):
                share *= EVEN / np.maximum(np.einsum("mij,mj->mi", alike, share), 1e-9)
                share /= share.sum(axis=1, keepdims=True)
            out[star] = share
    return out.reshape(-1, 2)


def _near_pairs(points: np.ndarray, used: np.ndarray, within: float) -> np.ndarray:
    tree = cKDTree(points[used])
    if (int(tree.count_neighbors(tree, within)) - len(used)) // 2 > MOST_SPRINGS * len(used):
        raise ShapeError("so many of its points are within that distance that it would have too many springs")
    pairs = used[tree.query_pairs(within, output_type="ndarray").reshape(-1, 2)].astype(np.int64)
    return pairs[np.lexsort(pairs.T[::-1])]


def _diagonals(mesh: PolyMesh) -> np.ndarray:
    """Both diagonals (2 q, 2) of all quads."""
    first = (np.cumsum(mesh.face_sizes) - mesh.face_sizes)[mesh.face_sizes == 4]
    corner = mesh.face_points[first[:, None] + np.arange(4)].astype(np.int64)
    return np.concatenate([corner[:, [0, 2]], corner[:, [1, 3]]])


def _ring_pairs(count: int, edges: np.ndarray, rings: int) -> np.ndarray:
    both_ways = np.concatenate([edges, edges[:, ::-1]])
    one = coo_array((np.ones(len(both_ways)), (both_ways[:, 0], both_ways[:, 1])), shape=(count, count)).tocsr()
    reach = one
    for _ in range(rings - 1):
        reach = reach + reach @ one
    both = reach.tocoo()
    pairs = np.column_stack([both.row, both.col]).astype(np.int64)
    return pairs[pairs[:, 0] < pairs[:, 1]]


def braces_across(points: np.ndarray, triangles: np.ndarray, count: int, longest: float, spread: float,
                  seed: int) -> tuple[np.ndarray, np.ndarray]:
    """Up to ``count`` pairs (k, 2) of points that see each other through the inside, and their lengths (k,), m.

    They set out inwards from points at random, aside by up to ``spread``, degrees, and are no longer than ``longest``.
    """
    rng = np.random.default_rng(seed)
    used = distinct(triangles)
    start = rng.choice(used, min(count, len(used)), replace=False)
    inward = -point_normals(points, triangles)[start]
    aside = rng.normal(size=inward.shape)
    aside -= (aside * inward).sum(axis=1, keepdims=True) * inward
    aside /= np.maximum(np.linalg.norm(aside, axis=1, keepdims=True), 1e-300)
    angle = np.radians(spread) * np.sqrt(rng.uniform(size=len(start)))[:, None]
    way = np.cos(angle) * inward + np.sin(angle) * aside
    origin = points[start] + INWARD * float(np.ptp(points, axis=0).max()) * way
    far = nearest_hits(points, triangles, origin, way)
    met = np.isfinite(far)
    nearest = used[cKDTree(points[used]).query(origin[met] + far[met, None] * way[met])[1]]
    pairs = np.sort(np.column_stack([start[met], nearest]), axis=1)
    pairs = np.unique(pairs[pairs[:, 0] != pairs[:, 1]], axis=0)
    length = np.linalg.norm(points[pairs[:, 0]] - points[pairs[:, 1]], axis=1)
    kept = (length <= longest) & (length > 0.0)
    return pairs[kept].astype(np.int64), length[kept]
