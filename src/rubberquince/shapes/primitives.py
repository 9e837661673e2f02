"""Primitives in a unit box: every maker returns a mesh that fills -½ .. ½ on each axis, y up.

The real size is given where a piece is placed, so that there is one size and never a hidden scale.
"""

import numpy as np

from rubberquince.errors import ShapeError
from rubberquince.shapes.polymesh import PolyMesh


def _fit_unit(points: np.ndarray) -> np.ndarray:
    low, high = points.min(axis=0), points.max(axis=0)
    span = np.where(high - low > 0.0, high - low, 1.0)
    return (points - (low + high) / 2) / span


def unit_and_size(mesh: PolyMesh) -> tuple[PolyMesh, np.ndarray, np.ndarray]:
    """The mesh fitted to the unit box, its real size (3,) and the centre (3,) it had, m."""
    low, high = mesh.bounds()
    size = high - low
    size = np.maximum(size, 1e-6 * max(size.max(), 1e-3))
    return mesh.placed(_fit_unit(mesh.points)), size, (low + high) / 2


def block(cells: tuple[int, int, int]) -> PolyMesh:
    """A cuboid with ``cells`` quads along x, y and z, points shared along its edges."""
    if min(cells) < 1:
        raise ShapeError("A block needs at least one cell along each side.")
    n = np.array(cells)
    quads, uvs = [], []
    for axis in range(3):
        u, v = (axis + 1) % 3, (axis + 2) % 3
        i, j = np.meshgrid(np.arange(n[u]), np.arange(n[v]), indexing="ij")
        for side in (0, n[axis]):
            corner = np.zeros((i.size, 4, 3), np.int64)
            corner[:, :, axis] = side
            corner[:, :, u] = i.reshape(-1, 1) + np.array([0, 1, 1, 0])
            corner[:, :, v] = j.reshape(-1, 1) + np.array([0, 0, 1, 1])
            if side == 0:
                corner = corner[:, ::-1]
            quads.append(corner)
            uvs.append(corner[:, :, [u, v]] / n[[u, v]])
    grid = np.concatenate(quads).reshape(-1, 3)
    points, index = np.unique(grid, axis=0, return_inverse=True)
    uv = np.concatenate(uvs).reshape(-1, 2).astype(np.float32)
    faces = len(index) // 4
    return PolyMesh(points / n - 0.5, np.full(faces, 4, np.int32), index.reshape(-1).astype(np.int32),
                    uv, np.arange(len(index), dtype=np.int32))


def sphere(around: int, rings: int) -> PolyMesh:
    """A sphere of ``around`` meridians and ``rings`` bands, poles along y."""
    angle = np.linspace(-np.pi / 2, np.pi / 2, rings + 1)
    profile = np.stack([0.5 * np.cos(angle), 0.5 * np.sin(angle)], axis=1)
    profile[[0, -1], 0] = 0.0
    return revolved(profile, around)


def pellets(count: int, spread: float, within: str, seed: int, around: int) -> PolyMesh:
    """``count`` balls side by side that fill a "ball", a "box" or a "tube" as well as they can without touching.

    spread : 0 .. 1, by what part of the largest radius others are smaller, at random.
    """
    place = close_packed(np.full(3, int(np.ceil(1.6 * count ** (1 / 3))) + 1))
    far = {"ball": np.linalg.norm(place, axis=1), "box": np.abs(place).max(axis=1),
           "tube": np.maximum(np.hypot(place[:, 0], place[:, 2]), np.abs(place[:, 1]) / 2.0)}[within]
    place = place[np.argsort(far, kind="stable")[:count]]
    radius = 0.98 * np.sqrt(0.5) * (1.0 - spread * np.random.default_rng(seed).uniform(size=count))
    heap = balls(place, radius, around)
    return heap.placed(_fit_unit(heap.points))


def close_packed(half: np.ndarray) -> np.ndarray:
    """Middles (n, 3) of a face-centred lattice, which packs balls best, ``half`` (3,) of them to each side.

    Neighbours are √2 apart.
    """
    steps = np.stack(np.meshgrid(*(np.arange(-n, n + 1) for n in half), indexing="ij"), axis=-1).reshape(-1, 3)
    return steps[steps.sum(axis=1) % 2 == 0].astype(float)


def balls(middle: np.ndarray, radius: np.ndarray, around: int) -> PolyMesh:
    """A mesh of balls with their ``middle`` (n, 3) and ``radius`` (n,)."""
    one = sphere(around, max(around // 2, 3))
    way = one.points / np.linalg.norm(one.points, axis=1, keepdims=True)        # fitted to a box it was not quite round
    points = middle[:, None] + radius[:, None, None] * way
    corners = one.face_points + len(one.points) * np.arange(len(middle))[:, None]
    return PolyMesh(points.reshape(-1, 3), np.tile(one.face_sizes, len(middle)), corners.reshape(-1).astype(np.int32))


def sheet(across: int, along: int) -> PolyMesh:
    """An open flat sheet that looks up, ``across`` quads along x and ``along`` along z."""
    x, z = np.meshgrid(np.linspace(-0.5, 0.5, across + 1), np.linspace(-0.5, 0.5, along + 1), indexing="ij")
    a, b = np.meshgrid(np.arange(across), np.arange(along), indexing="ij")
    corners = _corners(a, b, along + 1)[:, ::-1]
    points = np.stack([x, np.zeros_like(x), z], axis=2).reshape(-1, 3)
    return _quads(points, corners, corners, _grid_uvs(across, along))


def superellipsoid(around: int, rings: int, rise: float, turn: float) -> PolyMesh:
    """A body between a box and a spindle: exponents ``rise`` from pole to pole and ``turn`` around y.

    1 is round, towards 0 a box, 2 a bevel, above that drawn in (Barr 1981).  Points of a sphere are moved
    along their rays, which spreads them better than the usual angles.
    """
    ball = sphere(around, rings)
    direction = ball.points / np.linalg.norm(ball.points, axis=1, keepdims=True)
    x, y, z = np.abs(direction).T
    size = ((x ** (2 / turn) + z ** (2 / turn)) ** (turn / rise) + y ** (2 / rise)) ** (-rise / 2)
    return ball.placed(_fit_unit(direction * size[:, None]))


def torus(around: int, sides: int, thickness: float) -> PolyMesh:
    """A ring about y; ``thickness`` 0 .. 1 is the tube's radius in parts of the ring's outer radius, halved."""
    tube = 0.5 * thickness
    u, v = np.meshgrid(np.arange(around) * 2 * np.pi / around, np.arange(sides) * 2 * np.pi / sides, indexing="ij")
    reach = (1.0 - tube) + tube * np.cos(v)
    points = np.stack([reach * np.sin(u), tube * np.sin(v), reach * np.cos(u)], axis=2).reshape(-1, 3)
    a, b = np.meshgrid(np.arange(around), np.arange(sides), indexing="ij")
    return _quads(points, _wrapped(a, b, around, sides), _corners(a, b, sides + 1),
                  _grid_uvs(around, sides))


def cushion(divisions: int, pinch: float, panels: int = 1) -> PolyMesh:
    """Two square sheets sewn along their rim and filled; ``pinch`` 0 .. 1 draws the sides in between the corners.

    They are stitched to each other along lines that part them into ``panels`` each way, at the nearest divisions.
    """
    n = divisions
    t = np.linspace(-1.0, 1.0, n + 1)
    u, v = np.meshgrid(t, t, indexing="ij")
    x, z = u * (1.0 - 0.16 * pinch * (1.0 - v * v)), v * (1.0 - 0.16 * pinch * (1.0 - u * u))
    lines = np.unique(np.round(np.linspace(0, n, min(panels, n) + 1)).astype(int))
    within = np.interp(np.arange(n + 1), lines, np.arange(len(lines))) % 1.0 * 2.0 - 1.0     # -1 .. 1 in its panel
    a, b = np.meshgrid(within, within, indexing="ij")
    y = np.sqrt((1.0 - a ** 4) * (1.0 - b ** 4)) ** 0.9
    rim = (np.abs(a) == 1.0) | (np.abs(b) == 1.0)
    top = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    below = np.where(rim, top, 0)
    below[~rim] = (n + 1) ** 2 + np.arange((~rim).sum())
    points = np.concatenate([np.stack([x, y, z], axis=2).reshape(-1, 3),
                             np.stack([x[~rim], -y[~rim], z[~rim]], axis=1)])
    a, b = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")

    def sheet(number: np.ndarray) -> np.ndarray:
        return np.stack([number[a, b], number[a, b + 1], number[a + 1, b + 1], number[a + 1, b]], axis=2).reshape(-1, 4)

    uv_faces = _corners(a, b, n + 1)
    return _quads(points, np.concatenate([sheet(top), sheet(below)[:, ::-1]]),
                  np.concatenate([uv_faces, uv_faces[:, ::-1]]), _grid_uvs(n, n))


def _quads(points: np.ndarray, faces: np.ndarray, uv_faces: np.ndarray, uvs: np.ndarray) -> PolyMesh:
    return PolyMesh(_fit_unit(points), np.full(len(faces), 4, np.int32), faces.reshape(-1).astype(np.int32),
                    uvs, uv_faces.reshape(-1).astype(np.int32))


def _wrapped(a: np.ndarray, b: np.ndarray, rows: int, columns: int) -> np.ndarray:
    """Corners (faces, 4) of the cells of a grid that closes on itself both ways."""
    return np.stack([i % rows * columns + j % columns
                     for i, j in ((a, b), (a + 1, b), (a + 1, b + 1), (a, b + 1))], axis=2).reshape(-1, 4)


def _corners(a: np.ndarray, b: np.ndarray, width: int) -> np.ndarray:
    """Corners (faces, 4) of the cells of an open grid of points, ``width`` points a row."""
    return np.stack([i * width + j for i, j in ((a, b), (a + 1, b), (a + 1, b + 1), (a, b + 1))],
                    axis=2).reshape(-1, 4)


def _grid_uvs(rows: int, columns: int) -> np.ndarray:
    u, v = np.meshgrid(np.linspace(0, 1, rows + 1), np.linspace(0, 1, columns + 1), indexing="ij")
    return np.stack([u, v], axis=2).reshape(-1, 2).astype(np.float32)


def revolved(profile: np.ndarray, around: int, flutes: int = 0, depth: np.ndarray | None = None) -> PolyMesh:
    """Turn ``profile`` (k, 2) of (radius, height), bottom to top, about y; closed where radius is 0.

    With ``flutes`` the radius swells and narrows that often around, by ``depth`` (k,) of itself.  Towards
    the axis rings halve their divisions, so that faces stay about square and no needles meet at the pole.
    """
    if around < 3 or len(profile) < 2 or (profile[:, 0] < 0).any():
        raise ShapeError("A revolved shape needs at least 3 divisions around and a profile right of its axis.")
    depth = np.zeros(len(profile)) if depth is None else depth
    counts = _ring_counts(profile, around)
    first_point = np.concatenate([[0], np.cumsum(counts)])
    first_uv = np.concatenate([[0], np.cumsum(counts + 1)])
    points, uvs = [], []
    for k, n in enumerate(counts):
        turn = np.arange(n) * (2 * np.pi / n)
        radius = profile[k, 0] * (1.0 - depth[k] * (0.5 - 0.5 * np.cos(flutes * turn)) ** 2)
        points.append(np.stack([radius * np.sin(turn), np.full(n, profile[k, 1]), radius * np.cos(turn)], axis=1))
        uvs.append(np.stack([np.linspace(0, 1, n + 1), np.full(n + 1, k / (len(profile) - 1))], axis=1))
    sizes: list[np.ndarray] = []
    corners: list[np.ndarray] = []
    uv_corners: list[np.ndarray] = []
    for k in range(len(profile) - 1):
        low, high = _band(int(counts[k]), int(counts[k + 1]))
        face = np.concatenate([low, high[:, ::-1]], axis=1)
        in_low = np.arange(face.shape[1]) < low.shape[1]
        middle = 1 if low.shape[1] == 3 else 3 if high.shape[1] == 3 else 0     # where a fan leaves no flat ear
        face, in_low = np.roll(face, -middle, axis=1), np.roll(in_low, -middle)
        ring = np.where(in_low, counts[k], counts[k + 1])
        sizes.append(np.full(len(face), face.shape[1]))
        corners.append((face % ring + np.where(in_low, first_point[k], first_point[k + 1])).reshape(-1))
        uv_corners.append((face + np.where(in_low, first_uv[k], first_uv[k + 1])).reshape(-1))
    return PolyMesh(_fit_unit(np.concatenate(points)), np.concatenate(sizes).astype(np.int32),
                    np.concatenate(corners).astype(np.int32), np.concatenate(uvs).astype(np.float32),
                    np.concatenate(uv_corners).astype(np.int32))


def _ring_counts(profile: np.ndarray, around: int) -> np.ndarray:
    """Divisions of each ring: 1 on the axis, else ``around`` halved until faces are about square."""
    steps = np.linalg.norm(np.diff(profile, axis=0), axis=1)
    length = np.minimum(np.append(steps, np.inf), np.insert(steps, 0, np.inf))
    counts = np.ones(len(profile), np.int64)
    for k in range(len(profile)):
        if profile[k, 0] == 0.0:
            continue
        n = around
        while n % 2 == 0 and n > 8 and 2 * np.pi * profile[k, 0] / n < 0.6 * length[k]:
            n //= 2
        counts[k] = n
    for sweep in (range(1, len(counts)), range(len(counts) - 2, -1, -1)):       # neighbours differ by at most 2
        for k in sweep:
            before = counts[k - 1] if sweep.step > 0 else counts[k + 1]
            if counts[k] > 1 and before > 1:
                counts[k] = max(counts[k], before // 2)
    return counts


def _band(low: int, high: int) -> tuple[np.ndarray, np.ndarray]:
    """Corners of the faces between two rings, (faces, c) on the lower and on the upper ring, left to right."""
    faces = np.arange(max(min(low, high), 1) if min(low, high) > 1 else max(low, high))[:, None]

    def side(count: int) -> np.ndarray:
        if count == 1:
            return np.zeros((len(faces), 1), np.int64)
        each = count // len(faces)
        return faces * each + np.arange(each + 1)

    return side(low), side(high)


def resampled(profile: np.ndarray, steps: int) -> np.ndarray:
    """``profile`` (k, c) at ``steps`` + 1 even distances along its first two columns, ends kept exactly."""
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(profile[:, :2], axis=0), axis=1))])
    at = np.linspace(0, length[-1], steps + 1)
    return np.stack([np.interp(at, length, column) for column in profile.T], axis=1)


def rounded(profile: np.ndarray, passes: int = 2) -> np.ndarray:
    """Corner cutting (Chaikin 1974): each inner corner of ``profile`` (k, c) becomes two points."""
    for _ in range(passes):
        inner = np.stack([0.75 * profile[:-1] + 0.25 * profile[1:],
                          0.25 * profile[:-1] + 0.75 * profile[1:]], axis=1).reshape(-1, profile.shape[1])
        profile = np.concatenate([profile[:1], inner, profile[-1:]])
    return profile
