"""Lines along the edges of a mesh: from one place on it to another, and the row that an edge belongs to."""

from typing import Any

import numpy as np
from scipy.sparse import csr_array
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree

from rubberquince.shapes.polymesh import PolyMesh, edges_of

ASIDE = 0.5                 # what a way costs more, for each length of the chord that it is away from it
WIDE = 1.2                  # of the chord: where a way along edges is looked for at first
MOST_KNOWN = 5000           # ways that are kept
MOST_IN_ROW = 4000          # edges that a row is followed for


class Paths:
    """Lines along the edges of ``triangles`` (t, 3) between ``points`` (n, 3), m.  Ways that were found are kept."""

    def __init__(self, points: np.ndarray, triangles: np.ndarray) -> None:
        self._points, self._tree = points, cKDTree(points)
        self._edges = edges_of(triangles).astype(np.int64)
        self._length = np.linalg.norm(points[self._edges[:, 1]] - points[self._edges[:, 0]], axis=1)
        self._keys = np.sort(self._edges.min(axis=1) * len(points) + self._edges.max(axis=1))
        self._known: dict[tuple[int, int], list[int]] = {}

    def through(self, beads: np.ndarray, closed: bool) -> np.ndarray:
        """Point numbers (k,) of a line past the points that are nearest to ``beads`` (b, 3), m.

        A ``closed`` line goes back to its first bead, which is not repeated.  Where no edges lead from one bead to the
        next, the line leaps.
        """
        stops = np.atleast_1d(self._tree.query(np.asarray(beads, float).reshape(-1, 3))[1])
        stops = stops[np.append(True, stops[1:] != stops[:-1])]
        if closed and len(stops) > 1:
            stops = np.append(stops, stops[0]) if stops[0] != stops[-1] else stops
        line = [int(stops[0])]
        for a, b in zip(stops[:-1].tolist(), stops[1:].tolist()):
            line += [*self._between(a, b), b]
        return np.array(line[:-1] if closed and len(line) > 2 and line[0] == line[-1] else line, np.int64)

    def _between(self, a: int, b: int) -> list[int]:
        """The points on a short way from ``a`` to ``b`` that keeps near to the chord, without its ends; none where no
        way leads.
        """
        key = min(a, b) * len(self._points) + max(a, b)
        at = int(np.searchsorted(self._keys, key))
        if at < len(self._keys) and self._keys[at] == key:
            return []
        if (a, b) not in self._known:
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            self._known[a, b] = self._found(a, b)
        return self._known[a, b]

    def _found(self, a: int, b: int) -> list[int]:
        """It is looked for among points whose distances from both ends come to a sum, and in more of them until the way
        costs no more than that: whatever leaves them is longer.
        """
        points = self._points
        around = np.linalg.norm(points - points[a], axis=1) + np.linalg.norm(points - points[b], axis=1)
        reach = WIDE * float(around[a])
        while True:
            cost, way = self._way_within(around <= reach, a, b)
            if cost <= reach or reach >= float(around.max()):
                return way
            reach = cost if np.isfinite(cost) else 2.0 * reach

    def _way_within(self, inside: np.ndarray, a: int, b: int) -> tuple[float, list[int]]:
        """What the way from ``a`` to ``b`` costs, m, that stays ``inside`` (n,) bool, and its points; inf if none."""
        points, which = self._points, np.flatnonzero(inside)
        number = np.cumsum(inside) - 1
        some = np.flatnonzero(inside[self._edges[:, 0]] & inside[self._edges[:, 1]])
        one, two = points[self._edges[some, 0]], points[self._edges[some, 1]]
        chord = points[b] - points[a]
        length = max(float(np.linalg.norm(chord)), 1e-300)
        aside = np.linalg.norm(np.cross(0.5 * (one + two) - points[a], chord / length), axis=1)
        cost = np.maximum(self._length[some] * (1.0 + ASIDE * aside / length), 1e-12)
        ends = number[self._edges[some]]
        graph: Any = csr_array((cost, (ends[:, 0], ends[:, 1])), shape=(len(which),) * 2)
        far, before = (found[0] for found in dijkstra(graph, False, [number[b]], True))
        way: list[int] = []
        at = int(before[number[a]])
        while at >= 0 and at != number[b]:
            way.append(int(which[at]))
            at = int(before[at])
        return float(far[number[a]]), way


def side_near(mesh: PolyMesh, size: tuple[float, float, float], corners: np.ndarray,
              weights: np.ndarray) -> tuple[int, int]:
    """The edge of a face that is nearest to a place: in the triangle of points ``corners`` (3,), which ``weights`` (3,)
    say; ``size`` is that of the mesh's unit box.  Diagonals that only divide a face are no edges.
    """
    around = Around(mesh)
    a, b, c = mesh.points[corners] * np.array(size)
    place = weights @ np.array([a, b, c])
    sides = []
    for (one, two), (p, q) in zip(((0, 1), (1, 2), (2, 0)), ((a, b), (b, c), (c, a))):
        ends = int(corners[one]), int(corners[two])
        if ends[1] in around.after(ends[0]) or ends[0] in around.after(ends[1]):
            along = (q - p) / max(float(np.linalg.norm(q - p)), 1e-300)
            sides.append((float(np.linalg.norm(np.cross(place - p, along))), ends))
    return min(sides)[1]


def row_of(mesh: PolyMesh, one: int, two: int) -> tuple[list[int], bool]:
    """The row that the edge from point ``one`` to ``two`` belongs to: its points in order, and whether it is closed.

    An edge goes on straight where as many faces lie on either side, and along the rim where it is one.
    """
    around = Around(mesh)
    row = [one, two]
    for _ in range(2):
        while len(row) < MOST_IN_ROW:
            following = _straight_on(around, row[-2], row[-1])
            if following is None or following in row[1:]:
                break
            if following == row[0]:
                return row, True
            row.append(following)
        row.reverse()
    return row, False


class Around:
    """The faces around each point of a mesh."""

    def __init__(self, mesh: PolyMesh) -> None:
        self._mesh, self._ends = mesh, np.cumsum(mesh.face_sizes)
        self._corner = np.argsort(mesh.face_points, kind="stable")
        self._first = np.searchsorted(mesh.face_points[self._corner], np.arange(len(mesh.points) + 1))

    def after(self, point: int) -> dict[int, int]:
        """Which neighbour follows which around a point: {neighbour: next neighbour}."""
        after = {}
        for corner in self._corner[self._first[point]:self._first[point + 1]].tolist():
            number = int(np.searchsorted(self._ends, corner, side="right"))
            end, size = int(self._ends[number]), int(self._mesh.face_sizes[number])
            face, k = self._mesh.face_points[end - size:end].tolist(), corner - end + size
            after[face[(k + 1) % size]] = face[k - 1]
        return after


def _straight_on(around: Around, before: int, at: int) -> int | None:
    """The neighbour of ``at`` across from ``before``."""
    after = around.after(at)
    fan, here = [before], before
    while here in after and after[here] != before and len(fan) <= len(after):
        here = after[here]
        fan.append(here)
    if here in after:                                   # faces all around
        return fan[len(fan) // 2] if len(fan) % 2 == 0 else None
    back = {to: start for start, to in after.items()}
    here = before
    while here in back and len(fan) <= len(after) + 1:
        here = back[here]
        fan.insert(0, here)
    place = fan.index(before)
    return fan[-1 - place] if place != len(fan) - 1 - place else None
