"""Patches of a few triangles of all skins, and the trees over them."""

import copy

import numpy as np
from scipy.sparse import csr_array

from rubberquince.distinct import distinct
from rubberquince.kernels import cones as cn
from rubberquince.kernels import patches as pt
from rubberquince.kernels import trees as tr
from rubberquince.kernels.groups import groups
from rubberquince.kernels.search import search
from rubberquince.solver.near import all_of, those_of
from rubberquince.solver.sharing import shared
from rubberquince.solver.world import World

FEW = 100           # pairs: so many are searched at once


def found(these: np.ndarray, those: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which of numbers (k,) are among other, sorted ones, bool, and where."""
    at = np.searchsorted(those, these)
    if not len(those):
        return np.zeros(len(these), bool), at
    return those[np.minimum(at, len(those) - 1)] == these, at


class Patches:
    """Those of moving pieces come first, one piece after another; see kernels.patches.

    piece : (patches,), the piece of each; ``moving`` is how many of them move.  near : the points that they have.
    """

    def __init__(self, world: World) -> None:
        skin = world.skin
        self._world, self.near = world, all_of(world)
        alone = [np.repeat(studs[:, :1], 3, axis=1) for studs in skin.studs]       # triangles of one point
        all_triangles = [np.concatenate(parts) for parts in zip(skin.triangles, alone)]
        self._triangles = _whole(all_triangles, (0, 3))
        self._facing = _whole([part for faces, studs in zip(skin.triangles, skin.studs)
                               for part in (faces, studs[:, 1:])], (0, 3))         # those whose normals they have
        self._centre = skin.points[self._triangles].mean(axis=1)
        still = [0.0] * len(world.spec.colliders)
        self._size = np.array([*(carrier.size for carrier in world.carriers), *still])
        self._near = np.array([*(carrier.near for carrier in world.carriers), *still])
        order, child, patch, first, roots, piece = [], [], [], [0], [], []
        nodes = triangles = 0
        for k, mine in enumerate(all_triangles):
            most = 1 if world.of_balls[k] else pt.PATCH         # balls go each its own way
            rank, below, span = tr.build_tree(self._centre[triangles: triangles + len(mine)], most)
            leaf = below[:, 0] < 0
            number = np.full(len(below), -1, np.int64)
            number[leaf] = np.argsort(np.argsort(span[leaf, 0])) + len(first) - 1
            first += (np.sort(span[leaf, 1]) + triangles).tolist()
            piece += [k] * int(leaf.sum())
            order.append(rank + triangles)
            child.append(np.where(below >= 0, below + nodes, -1))
            patch.append(number)
            roots.append(nodes)
            nodes, triangles = nodes + len(below), triangles + len(mine)
        self._order, self._child, self._patch = _whole(order, (0,)), _whole(child, (0, 2)), _whole(patch, (0,))
        self._first, self._roots = np.array(first, np.int64), np.array(roots, np.int64)
        self.piece = np.array(piece, np.int64)
        self.moving = int(np.searchsorted(self.piece, world.bodies))
        self._ptr, self._point = self._points_of_patches()
        self._parts = self._parts_of_patches(
            _whole([part for own, of in zip(skin.owned_point, alone)
                    for part in (own, np.tile([1, 0, 0], (len(of), 1)))], (0, 3)).astype(bool),
            _whole([part for own, of in zip(skin.owned_edge, alone)
                    for part in (own, np.full(of.shape, -1))], (0, 3)))
        self._filled = np.array([*(carrier.filled for carrier in world.carriers), *still], bool)[self.piece]
        self._neighbours = self._sharing_a_point()
        self._in_one = self._are_in_one()
        self._box = np.zeros((len(self._child), 6))
        self._fit(self.boxes(skin.points, len(self.piece)))
        self._rest = self._box.copy()
        self._node_axis, self._node_spread = np.zeros((len(self._child), 3)), np.full(len(self._child), np.pi)
        meets_itself = np.diag(world.meets)[: len(world.gap)]
        self._faces = np.array([*(carrier.filled for carrier in world.carriers), *still], bool) & meets_itself
        self._coned = self._faces[self.piece[: self.moving]]

    def _points_of_patches(self) -> tuple[np.ndarray, np.ndarray]:
        """The points of patch p are those from ``ptr[p]`` to ``ptr[p + 1]`` of the second array."""
        points = max(len(self._world.skin.points), 1)
        owner = np.repeat(np.repeat(np.arange(len(self.piece)), np.diff(self._first)), 3)
        mine = distinct(owner * points + self._triangles[self._order].reshape(-1))
        return np.searchsorted(mine // points, np.arange(len(self.piece) + 1)), mine % points

    def _parts_of_patches(self, owned_point: np.ndarray, owned_edge: np.ndarray) -> tuple[np.ndarray, ...]:
        """Vertices, edges and faces of patches with where those of each begin; see kernels.search.search.

        owned_point (t, 3) bool and owned_edge (t, 3), or -1, say which of them come with a triangle.
        """
        skin = self._world.skin
        owner = np.repeat(np.arange(len(self.piece)), np.diff(self._first))

        def places(points: np.ndarray, patch: np.ndarray) -> np.ndarray:
            """Where ``points`` are among those of a patch each."""
            count = max(len(skin.points), 1)
            keys = np.repeat(np.arange(len(self.piece)), np.diff(self._ptr)) * count + self._point
            return np.searchsorted(keys, patch * count + points) - self._ptr[patch]

        def begins(patch: np.ndarray) -> np.ndarray:
            return np.searchsorted(patch, np.arange(len(self.piece) + 1))

        corner = self._triangles[self._order]
        face = np.column_stack([places(corner, np.repeat(owner[:, None], 3, axis=1)), self._order])
        row, side = np.nonzero(owned_point[self._order])
        rank = np.arange(len(owner)) - self._first[owner]
        vertex = np.column_stack([face[row, side], corner[row, side], self._order[row], rank[row], side])
        vertex_of, number = owner[row], owned_edge[self._order]
        row, side = np.nonzero(number >= 0)
        ends = skin.edges[number[row, side]]
        edge = np.column_stack([places(ends, np.repeat(owner[row, None], 2, axis=1)), ends, self._order[row], rank[row],
                                side])
        return begins(vertex_of), vertex, begins(owner[row]), edge, self._first, face

    def _sharing_a_point(self) -> np.ndarray:
        """Sorted keys of pairs of patches that move and have a point in common, see ``meeting``."""
        count, ptr = len(self.piece), self._ptr[: self.moving + 1]
        table = csr_array((np.ones(ptr[-1], np.int32), self._point[: ptr[-1]], ptr),
                          shape=(self.moving, max(self._world.skin.moving, 1)))
        one, two = (table @ table.T).nonzero()
        return np.sort(one.astype(np.int64) * count + two)

    def smooth(self, pairs: np.ndarray) -> np.ndarray:
        """Of which pairs (k, 2) of one skin facing one way says that they cannot meet, (k,) bool.

        Patches of a shell that are not neighbours, or are not in one part, can face one way and meet, as in a roll.
        """
        one, two = pairs[:, 0], pairs[:, 1]
        neighbours = found(one * len(self.piece) + two, self._neighbours)[0] & self._in_one[one] & self._in_one[two]
        return self._filled[one] | neighbours

    def _are_in_one(self) -> np.ndarray:
        """Which patches (patches,) bool are in one part: their triangles hang together by points."""
        owner = np.repeat(np.arange(len(self.piece)), np.diff(self._first))
        corner = self._triangles[self._order]
        key, number = np.unique(owner[:, None] * max(len(self._world.skin.points), 1) + corner, return_inverse=True)
        number = number.reshape(-1, 3)
        part = groups(number[:, :2].reshape(-1), number[:, 1:].reshape(-1), len(key))
        first = np.concatenate([[0], np.cumsum(np.bincount(key // max(len(self._world.skin.points), 1),
                                                            minlength=len(self.piece)))])
        if not len(part):
            return np.zeros(0, bool)
        begin = first[:-1].astype(np.int64)
        return np.array(np.minimum.reduceat(part, begin) == np.maximum.reduceat(part, begin), bool)

    def size(self, patch: np.ndarray) -> np.ndarray:
        """The finest length, m, of the carriers that patches (k,) belong to, 0 where there is none."""
        return self._size[self.piece[patch]]

    def boxes(self, x: np.ndarray, count: int) -> np.ndarray:
        """Boxes (count, 6) of the first patches at skin points ``x`` (n, 3)."""
        box = np.empty((count, 6))
        pt.fit_boxes(x, self._ptr, self._point, box)
        return box

    def widen(self, box: np.ndarray, x: np.ndarray, move: np.ndarray) -> None:
        """Widen the boxes (moving, 6) of what moves, that hold ``x``, until they hold ``x`` + ``move`` (n, 3)."""
        moved = pt.moved_bodies(move, self.near.first)
        pt.widen_boxes(x, move, self._ptr, self._point, moved[self.piece[: self.moving]], box)

    def ball(self, move: np.ndarray) -> np.ndarray:
        """Balls (patches, 4) that hold the motions ``move`` (n, 3) of each patch."""
        ball = np.zeros((len(self.piece), 4))
        pt.motion_balls(move, self._ptr, self._point, np.ones(self.moving, bool), ball)
        return ball

    def stray(self, pairs: np.ndarray, counts: np.ndarray, x: np.ndarray, moves: list[np.ndarray], start: np.ndarray,
              way: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How far, m, those pairs (k, 2) that ``counts`` (k,) bool move against each other on ``moves`` from ``x``.

        That is from ``start``, and from this or the end of the ``way``; see kernels.patches.stray.
        """
        need, off = np.zeros((2, len(pairs)))
        for move in moves:
            pt.stray(pairs, counts, x, move, start, way, self._ptr, self._point, self.moving, len(self.piece), need,
                     off)
        return need, off

    def finest(self) -> np.ndarray:
        """The finest length (bodies,), m, of what can touch itself; infinite for what cannot."""
        own = np.diag(self._world.meets)[: self._world.bodies]
        return np.where(own, self._size[: len(own)], np.inf)

    def face_one_way(self, x: np.ndarray, pairs: np.ndarray, own: np.ndarray) -> np.ndarray:
        """Which pairs (k,) bool of one skin cannot meet soon, as at ``x`` they face one way."""
        return cn.face_one_way(x, self._facing, self._order, self._first, self.moving, pairs, own)

    def cones(self, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Cones of the normals at ``x`` (n, 3) of all patches of solids; see kernels.cones.find_cones."""
        axis, spread = np.zeros((self.moving, 3)), np.zeros(self.moving)
        cn.find_cones(x, self._facing, self._order, self._first, self._coned, axis, spread)
        return axis, spread

    def widen_cones(self, cones: tuple[np.ndarray, np.ndarray], x: np.ndarray, margin: float) -> bool:
        """Widen cones in place until they hold the normals at ``x`` (n, 3), too, and a ``margin``, rad, beyond them.

        Returns False when they hold them already.
        """
        widened: bool = cn.widen_cones(*cones, *self.cones(x), self._coned, margin)
        return widened

    def no_cones(self) -> tuple[np.ndarray, np.ndarray]:
        """Cones that hold nothing yet."""
        return np.zeros((self.moving, 3)), np.full(self.moving, -np.pi)

    def meeting(self, wide: np.ndarray, cones: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
        """Sorted keys a · patches + b of pairs whose boxes ``wide`` (patches, 6) meet, of pieces that can, and that do
        not face one way by their ``cones``.
        """
        self._fit(wide)
        cn.fit_cones(self._child, self._patch, *cones, self._coned, self._node_axis, self._node_spread)
        return tr.meeting_patches(self._roots, self._world.bodies, self._world.meets, self._child, self._patch,
                                  self._box, self._rest, self._near, self._faces, self._node_axis, self._node_spread)

    def search(self, pairs: np.ndarray, wanted: np.ndarray, slack: np.ndarray, along: np.ndarray, x: np.ndarray,
               way: np.ndarray, own: np.ndarray) -> tuple[np.ndarray, ...]:
        """Candidates of the ``wanted`` pairs (k,) bool; see kernels.search."""
        world, ball, which = self._world, self.ball(way), np.flatnonzero(wanted)

        def part(lo: int, hi: int) -> tuple[np.ndarray, ...]:
            return search(pairs, which[lo:hi], slack, along, x, way, ball, own, self._ptr, self._point, *self._parts,
                          self._triangles, self.piece, self.near.points, self._centre, world.gap, self.near.gap,
                          self._near, world.of_balls)

        parts = shared(part, len(which), FEW)
        return parts[0] if len(parts) == 1 else tuple(np.concatenate(column) for column in zip(*parts))

    def only(self, kept: np.ndarray) -> "Patches":
        """Those of all that are ``kept`` (patches,) bool, alone: in the same order, with the points that they have."""
        out, number = copy.copy(self), np.cumsum(kept) - 1
        of_patch = np.repeat(kept, np.diff(self._ptr))
        out.near = those_of(self.near, distinct(self._point[of_patch]))
        place = out.near.place
        in_order = np.repeat(kept, np.diff(self._first))
        mine = np.zeros(len(self._order), bool)
        mine[self._order[in_order]] = True
        triangle = np.cumsum(mine) - 1
        out._triangles, out._facing = place[self._triangles[mine]], place[self._facing[mine]]
        out._centre, out._order = self._centre[mine], triangle[self._order[in_order]]
        out._first, out._ptr = _begins(np.diff(self._first)[kept]), _begins(np.diff(self._ptr)[kept])
        out._point = place[self._point[of_patch]]
        out.piece, out._filled, out._in_one = self.piece[kept], self._filled[kept], self._in_one[kept]
        out.moving = int(np.searchsorted(out.piece, self._world.bodies))
        vertex_ptr, vertex, edge_ptr, edge, _, face = self._parts
        vertices, edges = np.repeat(kept, np.diff(vertex_ptr)), np.repeat(kept, np.diff(edge_ptr))
        vertex, edge, face = vertex[vertices], edge[edges], face[in_order]
        vertex[:, 1], vertex[:, 2] = place[vertex[:, 1]], triangle[vertex[:, 2]]
        edge[:, 2:4], edge[:, 4] = place[edge[:, 2:4]], triangle[edge[:, 4]]
        face[:, 3] = triangle[face[:, 3]]
        out._parts = (_begins(np.diff(vertex_ptr)[kept]), vertex, _begins(np.diff(edge_ptr)[kept]), edge, out._first,
                      face)
        one, two = np.divmod(self._neighbours, len(kept))
        both = kept[one] & kept[two]
        out._neighbours = number[one[both]] * len(out.piece) + number[two[both]]
        out._coned = self._coned[kept[: self.moving]]
        nodes, out._child, out._patch, out._roots = tr.prune_trees(self._child, self._patch, kept, self._roots)
        out._box, out._rest = self._box[nodes], self._rest[nodes]
        out._node_axis, out._node_spread = self._node_axis[nodes], self._node_spread[nodes]
        return out

    def _fit(self, wide: np.ndarray) -> None:
        if len(wide):
            tr.fit_trees(self._child, self._patch, wide, self._box)


def _whole(parts: list[np.ndarray], empty: tuple[int, ...]) -> np.ndarray:
    return np.concatenate([*parts, np.zeros(empty, np.int64)]).astype(np.int64)


def _begins(counts: np.ndarray) -> np.ndarray:
    """Where each of some begins that are ``counts`` (k,) long, and the last ends, (k + 1,)."""
    return np.concatenate([[0], np.cumsum(counts)])
