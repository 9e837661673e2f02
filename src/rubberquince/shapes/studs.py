"""Points between the corners of coarse faces.

A skin may be coarser than the cells that carry it, down to a box of eight corners.  If only those met others, what is
between them would sink through whatever it stands on.
"""

from dataclasses import dataclass

import numpy as np

COARSE = 1.25               # of the spacing: shorter faces have none
FLAT = 1e-9                 # of its length squared: what has a smaller area is a line, and its neighbours have that
CORNER, EDGE, WITHIN = 1 / 3, 1.0, 2.0      # shares of a face that its points stand for, as in an even net


@dataclass(frozen=True, eq=False)
class Studs:
    """Points on the faces of a skin.

    face : (k,), the triangle that each lies in.  corner, share : (k, 3), the skin points of that, and what part of each
    it is.  area : (points + k,) m², what of the skin its points, and then these, stand for.
    """

    face: np.ndarray
    corner: np.ndarray
    share: np.ndarray
    area: np.ndarray

    def __len__(self) -> int:
        return len(self.face)

    def between(self, values: np.ndarray) -> np.ndarray:
        """What these have (k, ...) of the values of skin points (points, ...)."""
        return np.einsum("kc,kc...->k...", self.share, values[self.corner])


def studs_on(points: np.ndarray, triangles: np.ndarray, spacing: float) -> Studs:
    """Studs on those triangles (t, 3) of the skin ``points`` (n, 3), m, that are much longer than the ``spacing``, m:
    so the next point is about as near everywhere.
    """
    ends = points[np.stack([triangles, np.roll(triangles, -1, axis=1)], axis=2)]
    length = np.linalg.norm(ends[:, :, 1] - ends[:, :, 0], axis=2)
    area = 0.5 * np.linalg.norm(np.cross(ends[:, 0, 1] - ends[:, 0, 0], ends[:, 2, 0] - ends[:, 2, 1]), axis=1)
    longest = length.max(axis=1, initial=0.0)
    coarse = (longest > COARSE * spacing) & (area > FLAT * longest ** 2)
    stands_for = [*np.bincount(triangles[~coarse].reshape(-1), np.repeat(area[~coarse] * CORNER, 3), len(points))]
    face, corner, share = list[int](), list[tuple[int, ...]](), list[np.ndarray]()
    on_edge = dict[tuple[int, int], range]()

    def put(t: int, corners: tuple[int, ...], shares: np.ndarray) -> range:
        for one in shares:
            face.append(t)
            corner.append(corners)
            share.append(one)
            stands_for.append(0.0)
        return range(len(stands_for) - len(shares), len(stands_for))

    for t in map(int, np.flatnonzero(coarse)):
        first = int(length[t].argmax())                 # rows go along the longest side
        a, b, c = (int(triangles[t, (first + k) % 3]) for k in range(3))
        bordering = list[int]()
        for k, (p, q, r) in enumerate(((a, b, c), (b, c, a), (c, a, b))):
            key = min(p, q), max(p, q)
            if key not in on_edge:
                on_edge[key] = put(t, (p, q, r), _row(length[t, (first + k) % 3], spacing, 0.0))
            bordering += on_edge[key]
        rows = max(int(np.ceil(2.0 * area[t] / length[t, first] / spacing)), 1)
        within = [_row(length[t, first] * (1.0 - k / rows), spacing, k / rows) for k in range(1, rows)]
        inner = put(t, (a, b, c), np.concatenate([np.zeros((0, 3)), *within]))
        unit = area[t] / (3 * CORNER + EDGE * len(bordering) + WITHIN * len(inner))
        for numbers, part in (((a, b, c), CORNER), (bordering, EDGE), (inner, WITHIN)):
            for number in numbers:
                stands_for[number] += part * unit
    return Studs(np.array(face, np.int64), np.array(corner, np.int64).reshape(-1, 3),
                 np.array(share, float).reshape(-1, 3), np.array(stands_for))


def _row(length: float, spacing: float, up: float) -> np.ndarray:
    """Shares (k, 3) of three corners for points ``up`` 0 .. 1 of the way to the third, between the ends of a row."""
    steps = max(int(np.ceil(length / spacing)), 1)
    along = np.arange(1, steps) / steps
    return (1.0 - up) * np.column_stack([1.0 - along, along, np.zeros(steps - 1)]) + up * np.array([0.0, 0.0, 1.0])
