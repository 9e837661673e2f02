"""The embedded lattice: even cells that fill a closed surface and carry it by barycentric weights.

Cells cut by the surface count by the part that is filled, so weight and stiffness belong to the shape
and not to the grid.  Even cells keep the time step large and make any closed mesh usable, however dirty.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import permutations

import igl
import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from rubberquince.errors import ShapeError, Stopped
from rubberquince.kernels.octahedron import TETS, octahedron_corners
from rubberquince.shapes.polymesh import volume
from rubberquince.shapes.rays import nearest_hits
from rubberquince.shapes.studs import Studs, studs_on

REACH = 0.56                 # a cell's farthest corner from its centroid, in cube edges, rounded up
LEAST_FILL = 1e-3
MOST_CUBES = 400_000         # about five million tetrahedra: beyond any use, and short of filling memory
CUT_CELLS = 3.3              # fitted: cells a square cell edge of surface that reach out of it
MOST_QUERIES = 100_000       # points that igl is asked about at once
CARRY, CARRYING = 1.4, 32    # cells within which nodes carry a point smoothly, and no more of them than so many
ENOUGH, WIDER = 8, 1.2       # nodes that carry a point at least, and how much farther than the last of them it reaches
BOX_ROOM = 1.02              # of a box around points: no point lies on its very side
BOX = np.array([[0, 2, 1], [1, 2, 3], [4, 5, 6], [5, 7, 6], [0, 1, 4], [1, 5, 4], [2, 6, 3], [3, 6, 7], [0, 4, 2],
                [2, 4, 6], [1, 3, 5], [3, 7, 5]], np.int32)
NEAR_RAYS = 12
MOST_RAYS = 400              # through a body, to find how thick it is
THICKNESS_LOSS = 0.85        # fitted: what bending over N cells is too stiff by, 1 + 0.85 / N²


@dataclass(frozen=True, eq=False)
class Lattice:
    """Cells of one solid in the frame of its shape.

    nodes : (n, 3) m.  corner : (octahedra, 6) int32, -1 where missing.  axis : (octahedra,) int8.
    fill : (octahedra, 4) filled part of each tetrahedron.  across : (octahedra,) cells through the body there.
    scale : (octahedra,) stiffness correction.
    share : (n,) m³, the volume whose mass a node carries.  cell : cube edge, m.
    studs : points between those of a skin that is coarser than the cells.
    bind_node, bind_weight : (skin points + studs, 4), the cell of each of them and its weights there.
    """

    nodes: np.ndarray
    corner: np.ndarray
    axis: np.ndarray
    fill: np.ndarray
    across: np.ndarray
    scale: np.ndarray
    share: np.ndarray
    cell: float
    studs: Studs
    bind_node: np.ndarray
    bind_weight: np.ndarray

    @property
    def cells(self) -> int:
        return int((self.fill > 0).sum())


def cells_about(points: np.ndarray, triangles: np.ndarray, cell: float) -> int:
    """About how many cells build_lattice would make, to a tenth, at no cost: those inside and those cut."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2
    return round(12 * abs(volume(points, triangles)) / cell ** 3 + CUT_CELLS * area / cell ** 2)


def build_lattice(points: np.ndarray, triangles: np.ndarray, cell: float,
                  stopped: Callable[[], bool] = lambda: False) -> Lattice:
    """Fill the surface ``points`` (n, 3), ``triangles`` (t, 3) with cells of cube edge ``cell``, m.

    Raises ShapeError when nothing lies inside or the cells would be too many, and Stopped when ``stopped()`` says so
    on the way.
    """
    low, high = points.min(axis=0), points.max(axis=0)
    count = np.ceil((high - low) / cell).astype(np.int64) + 2
    if count.prod() > MOST_CUBES:
        raise ShapeError(f"Cells of {cell * 1000:.3g} mm would be too many for this size; make them larger.")
    if abs(volume(points, triangles)) < 1e-12 * max(high - low) ** 3:
        raise ShapeError("The shape encloses no volume, so it cannot be a Solid.")
    origin = (low + high) / 2 - count * cell / 2
    nodes, corner, axis = _cube_grid(count, origin, cell)
    fill, filled_weight = _fill(nodes, corner, points, triangles, cell, stopped)
    corner, axis, fill, filled_weight = _largest_parts(len(nodes), corner, axis, fill, filled_weight)
    used = np.zeros(len(nodes), bool)
    for t, tet in enumerate(TETS):
        used[corner[fill[:, t] > 0][:, tet]] = True
    renumber = np.where(used, np.cumsum(used) - 1, -1)
    corner, nodes = renumber[corner].astype(np.int32), nodes[used]
    share = np.zeros(len(nodes))
    for t, tet in enumerate(TETS):
        kept = fill[:, t] > 0
        weight = filled_weight[kept, t] * (fill[kept, t] * cell ** 3 / 12)[:, None]
        np.add.at(share, corner[kept][:, tet], weight)
    share *= abs(volume(points, triangles)) / share.sum()
    studs = studs_on(points, triangles, cell)
    bind_node, bind_weight = bind_points(np.concatenate([points, studs.between(points)]), nodes, corner, fill)
    across = _cells_across(nodes, corner, points, triangles, cell)
    return Lattice(nodes, corner, axis, fill, across, bending_scale(across), share, cell, studs, bind_node,
                   bind_weight)


def box_lattice(points: np.ndarray, triangles: np.ndarray, cell: float,
                stopped: Callable[[], bool] = lambda: False) -> Lattice:
    """Cells that fill the box around the skin ``points`` (n, 3), m, ``triangles`` (t, 3), whatever is in it, and carry
    that smoothly.  They weigh what the box does without its room.
    """
    low, high = points.min(axis=0), points.max(axis=0)
    size = np.maximum((high - low) * BOX_ROOM, cell)
    corners = (np.array([[(k >> i) & 1 for i in range(3)] for k in range(8)]) - 0.5) * size + 0.5 * (low + high)
    box = build_lattice(corners, BOX, cell, stopped)
    studs = studs_on(points, triangles, cell)
    node, weight = smooth_binding(np.concatenate([points, studs.between(points)]), box.nodes, CARRY * cell)
    part = BOX_ROOM ** -3
    return replace(box, fill=part * box.fill, share=part * box.share, studs=studs, bind_node=node, bind_weight=weight)


def smooth_binding(points: np.ndarray, nodes: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
    """For each point the nodes (n, k) that carry it, none beyond ``reach``, m, and their weights: moving least squares
    of affine motions (Lancaster, Salkauskas 1981), which follow without a kink and keep straight what is straight.

    Points that have too few nodes so near are carried by those that are nearest.
    """
    found = cKDTree(nodes).query(points, min(CARRYING, len(nodes)))
    far, node = np.asarray(found[0]), np.asarray(found[1], np.int64)
    wide = np.maximum(reach, WIDER * far[:, [min(ENOUGH, far.shape[1]) - 1]])
    weight = (1.0 - np.minimum(far / wide, 1.0) ** 2) ** 3
    away = (nodes[node] - points[:, None]) / wide[:, :, None]
    basis = np.concatenate([np.ones((*node.shape, 1)), away], axis=2)
    moment = np.einsum("nk,nki,nkj->nij", weight, basis, basis) + 1e-12 * np.eye(4)
    first = np.linalg.solve(moment, np.broadcast_to(np.eye(4)[:, :1], (len(points), 4, 1)))[:, :, 0]
    shape = weight * np.einsum("nki,ni->nk", basis, first)
    return node, shape / shape.sum(axis=1, keepdims=True)


def _cube_grid(count: np.ndarray, origin: np.ndarray, cell: float) -> tuple[np.ndarray, ...]:
    """All nodes of a box of cubes (corners, then centres) and the octahedra between neighbours."""
    corner_shape, centres = count + 1, int(np.prod(count + 1))

    def corner_id(index: np.ndarray) -> np.ndarray:
        return np.ravel_multi_index(tuple(np.moveaxis(index, -1, 0)), tuple(corner_shape))

    def centre_id(index: np.ndarray) -> np.ndarray:
        return centres + np.ravel_multi_index(tuple(np.moveaxis(index, -1, 0)), tuple(count))

    def indices(shape: np.ndarray) -> np.ndarray:
        return np.stack(np.meshgrid(*map(np.arange, shape), indexing="ij"), axis=-1).reshape(-1, 3)

    nodes = np.concatenate([origin + cell * indices(corner_shape), origin + cell * (indices(count) + 0.5)])
    corners, axes = [], []
    for axis in range(3):
        first = indices(count - np.eye(3, dtype=np.int64)[axis])
        offset = np.rint(octahedron_corners(axis)[2:] + 0.5).astype(np.int64)
        face = corner_id(first[:, None] + offset)
        step = first + np.eye(3, dtype=np.int64)[axis]
        corners.append(np.column_stack([centre_id(first), centre_id(step), face]))
        axes.append(np.full(len(first), axis, np.int8))
    return nodes, np.concatenate(corners), np.concatenate(axes)


def _sample_weights() -> np.ndarray:
    """Barycentric centroids (27, 4) of the equal parts a tetrahedron falls into when cut in thirds."""
    samples = []
    for cube in np.ndindex(3, 3, 3):
        for order in permutations(range(3)):
            walk = np.array(cube, float) + np.cumsum(
                np.vstack([np.zeros(3), np.eye(3)[list(order)]]), axis=0)
            a, b, c = walk.mean(axis=0) / 3
            if 1 > a > b > c > 0:
                samples.append([1 - a, a - b, b - c, c])
    return np.array(samples)


def _in_parts(of: Callable[[np.ndarray], np.ndarray], query: np.ndarray, stopped: Callable[[], bool]) -> np.ndarray:
    """``of(query)`` in parts, between which it can be stopped: a call into igl cannot."""
    found = []
    for first in range(0, len(query), MOST_QUERIES):
        if stopped():
            raise Stopped
        found.append(of(np.ascontiguousarray(query[first:first + MOST_QUERIES])))
    return np.concatenate(found) if found else np.zeros(0)


def _fill(nodes: np.ndarray, corner: np.ndarray, points: np.ndarray, triangles: np.ndarray,
          cell: float, stopped: Callable[[], bool]) -> tuple[np.ndarray, np.ndarray]:
    """Filled part (o, 4) of every tetrahedron and weights (o, 4, 4) of the filled part's centroid."""
    faces = triangles.astype(np.int64)

    def inside(query: np.ndarray) -> np.ndarray:
        return np.abs(_in_parts(lambda q: igl.fast_winding_number(points, faces, q), query, stopped)) > 0.5

    def near(query: np.ndarray, reach: float) -> np.ndarray:
        """Which are nearer than ``reach`` to the surface; its points alone tell that of most, where it is fine."""
        to_point = np.asarray(cKDTree(points).query(query, distance_upper_bound=reach + longest)[0])
        found = np.asarray(to_point < reach)
        unsure = np.flatnonzero(~found & np.isfinite(to_point))
        squared = _in_parts(lambda q: igl.point_mesh_squared_distance(q, points, faces)[0], query[unsure], stopped)
        found[unsure] = np.sqrt(squared) < reach
        return found

    longest = np.linalg.norm(points[faces] - points[np.roll(faces, 1, axis=1)], axis=2).max()
    samples = _sample_weights()
    tets = corner[:, TETS]                                     # (o, 4, 4)
    centroid = nodes[tets].mean(axis=2).reshape(-1, 3)
    cut = near(centroid, REACH * cell)
    fill = np.zeros(len(centroid))
    weight = np.full((len(centroid), 4), 0.25)
    fill[~cut] = inside(centroid[~cut])
    where = np.einsum("sk,tki->tsi", samples, nodes[tets.reshape(-1, 4)[cut]])
    filled = inside(where.reshape(-1, 3)).reshape(-1, len(samples))
    hits = filled.sum(axis=1)
    some = hits > 0
    fill[cut] = np.where(some, np.maximum(hits / len(samples), LEAST_FILL), 0.0)
    at = np.flatnonzero(cut)[some]
    weight[at] = filled[some] @ samples / hits[some][:, None]
    if not fill.any():
        raise ShapeError("No cell lies inside the shape: it is open, too thin or the cells are too large.")
    return fill.reshape(-1, 4), weight.reshape(-1, 4, 4)


def _largest_parts(n: int, corner: np.ndarray, axis: np.ndarray, fill: np.ndarray,
                   weight: np.ndarray) -> tuple[np.ndarray, ...]:
    """Drop crumbs: parts not joined to a part of at least eight tetrahedra."""
    keep = np.flatnonzero((fill > 0).any(axis=1))
    corner, axis, fill, weight = corner[keep].copy(), axis[keep], fill[keep].copy(), weight[keep]
    tets = corner[:, TETS][fill > 0]
    rows, columns = np.repeat(tets[:, 0], 3), tets[:, 1:].reshape(-1)
    _, label = connected_components(coo_array((np.ones(len(rows)), (rows, columns)), shape=(n, n)), False)
    size = np.bincount(label[tets[:, 0]], minlength=label.max() + 1)
    fill[size[label[corner[:, 0]]] < min(8, size.max())] = 0.0     # both centres share every tetrahedron
    for a in range(6):                                             # corners that no kept tetrahedron uses
        with_corner = [t for t, tet in enumerate(TETS) if a in tet]
        corner[~(fill[:, with_corner] > 0).any(axis=1), a] = -1
    keep = np.flatnonzero((fill > 0).any(axis=1))
    return corner[keep], axis[keep], fill[keep], weight[keep]


def bind_points(points: np.ndarray, nodes: np.ndarray, corner: np.ndarray,
          fill: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The cell that holds each point, or the nearest one, and the point's barycentric weights in it."""
    tets = corner[:, TETS][fill > 0]
    centroid = nodes[tets].mean(axis=1)
    near = cKDTree(centroid).query(points, k=min(12, len(tets)))[1].reshape(len(points), -1)
    origin = nodes[tets[:, 0]]
    inverse = np.linalg.inv(np.swapaxes(nodes[tets[:, 1:]] - origin[:, None], 1, 2))
    inner = np.einsum("pkij,pkj->pki", inverse[near], points[:, None] - origin[near])
    weight = np.concatenate([1 - inner.sum(axis=2, keepdims=True), inner], axis=2)
    best = weight.min(axis=2).argmax(axis=1)
    row = np.arange(len(points))
    return tets[near[row, best]].astype(np.int32), weight[row, best]


def bending_scale(across: np.ndarray, share: np.ndarray | float = 1.0) -> np.ndarray:
    """What stiffness is multiplied by where a body is ``across`` cells thick and a ``share`` of its energy bends it."""
    return 1.0 / (1.0 + THICKNESS_LOSS * share / across ** 2)


def _cells_across(nodes: np.ndarray, corner: np.ndarray, points: np.ndarray, triangles: np.ndarray,
                  cell: float) -> np.ndarray:
    """The thickness of the body at each octahedron, in cells: what is usual on the skin nearby."""
    where, through = thickness_samples(points, triangles)
    _, sample = cKDTree(where).query(nodes[corner[:, :2]].mean(axis=1), k=min(NEAR_RAYS, len(where)))
    thickness = np.median(through[sample.reshape(len(corner), -1)], axis=1)     # not that of an edge's thin rim
    return np.maximum(thickness / cell, 1.0)


def thickness_samples(points: np.ndarray, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places (k, 3) spread over the skin, and how far, m, it is from each straight through the body."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    inward = np.cross(b - a, c - a) * (-1.0 if volume(points, triangles) > 0 else 1.0)
    area = np.linalg.norm(inward, axis=1)
    passed = np.cumsum(area)
    some = np.unique(np.searchsorted(passed, (np.arange(MOST_RAYS) + 0.5) / MOST_RAYS * passed[-1]))
    where, along = ((a + b + c) / 3)[some], inward[some] / np.maximum(area[some], 1e-300)[:, None]
    lift = 1e-6 * np.ptp(points, axis=0).max()
    return where, nearest_hits(points, triangles, where + lift * along, along)
