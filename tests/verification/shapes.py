"""Two bodies given by a formula, for tests against conforming finite elements: a beam and a fluted dome.

Both are maps of the unit cube, so that a structured mesh conforms to them; their skins are their outer faces.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation

from rubberquince.shapes.polymesh import PolyMesh

BEAM = (0.24, 0.05, 0.04)               # m
TILT = Rotation.from_euler("xyz", [20.0, 35.0, 50.0], degrees=True).as_matrix()        # off the axes of any lattice
DOME_HEIGHT, DOME_RADIUS, FLUTES = 0.12, 0.08, 8
STIFFNESS, POISSON, DENSITY = 10e3, 0.45, 1000.0
HOLLOW, WALL = 0.1, 0.02                # m, the radius of a hollow ball, and how thick it is
EASE = 1.0                              # 1/s²: springs in proportion to mass that keep a free body from drifting


def beam(u):
    """Points (n, 3), m, of parameters ``u`` (n, 3) in 0 .. 1."""
    return ((u - 0.5) * np.array(BEAM)) @ TILT.T


def dome(u):
    """Points (n, 3), m, of parameters ``u`` (n, 3) in 0 .. 1, the second from the foot to the top."""
    a, b = 2 * u[:, 0] - 1, 2 * u[:, 2] - 1
    x, z = a * np.sqrt(1 - b * b / 2), b * np.sqrt(1 - a * a / 2)         # a square drawn into a disc
    height, radius, angle = u[:, 1], np.hypot(x, z), np.arctan2(x, z)
    side = DOME_RADIUS * (1 - 0.65 * height ** 2)
    side *= 1 + 0.14 * (1 - 0.5 * height) * np.cos(FLUTES * angle) * radius ** 4
    return np.stack([x * side, height * DOME_HEIGHT, z * side], axis=1)


def skin(shape, counts):
    """The outer faces of the mapped cube as a mesh of triangles, and the parameters (n, 3) of its points."""
    grid = np.stack(np.meshgrid(*(np.arange(n + 1) for n in counts), indexing="ij"), axis=3)
    number = np.arange(grid[..., 0].size).reshape(grid.shape[:3])
    quads = []
    for axis in range(3):
        for end in (0, -1):
            face = np.take(number, end, axis)
            quad = np.stack([face[:-1, :-1], face[1:, :-1], face[1:, 1:], face[:-1, 1:]], axis=2).reshape(-1, 4)
            quads.append(quad if (end == -1) == (axis != 1) else quad[:, ::-1])
    quad = np.concatenate(quads)
    triangles = np.concatenate([quad[:, [0, 1, 2]], quad[:, [0, 2, 3]]])
    used, index = np.unique(triangles, return_inverse=True)
    u = grid.reshape(-1, 3)[used] / np.array(counts)
    return PolyMesh(shape(u), np.full(len(triangles), 3, np.int32), index.reshape(-1).astype(np.int32)), u


def on_sphere(u):
    """Directions (n, 3) of points ``u`` (n, 3) on the unit cube, nearly evenly."""
    x, y, z = (2 * u - 1).T
    return np.stack([a * np.sqrt(1 - b * b / 2 - c * c / 2 + b * b * c * c / 3)
                     for a, b, c in ((x, y, z), (y, z, x), (z, x, y))], axis=1)


def hollow_ball(around):
    """A hollow ball: points (n, 3), m, and triangles (t, 3), a fourth of the way round in ``around`` parts."""
    mesh, _ = skin(lambda u: u, (around, around, around))
    out = on_sphere(mesh.points) * HOLLOW
    return (np.concatenate([out, out * (1 - WALL / HOLLOW)]),
            np.concatenate([mesh.triangles, mesh.triangles[:, ::-1] + len(out)]).astype(np.int32))


@dataclass(frozen=True)
class Body:
    """Where parameters lie, what carries the body (a share for each parameter), and how thick it is, m.

    ``between`` are the values of one parameter, at two sections of the skin that come nearer as the body sags.
    """

    place: Callable[[np.ndarray], np.ndarray]
    carries: Callable[[np.ndarray], np.ndarray]
    thickness: float
    between: tuple[int, float, float]

    def sag(self, u, fallen):
        """Difference, m, of the mean falls of both sections; ``fallen`` (n,) of skin points at ``u`` (n, 3)."""
        axis, one, two = self.between
        return abs(fallen[np.abs(u[:, axis] - one) < 1e-6].mean() - fallen[np.abs(u[:, axis] - two) < 1e-6].mean())


BODIES = {"beam": Body(beam, lambda u: np.exp(-((u[:, 0] - 0.5) / 0.1) ** 2), 0.04, (0, 0.0, 0.5)),
          "dome": Body(dome, lambda u: 1.0 - u[:, 1], 0.11, (1, 0.0, 1.0))}


def without_rigid(points, moves, weight=None):
    """``moves`` (n, 3) of ``points`` (n, 3) without their best rigid motion, by ``weight`` (n,)."""
    weight = np.ones(len(points)) if weight is None else weight
    arm = points - weight @ points / weight.sum()
    x, y, z, o = *arm.T, np.zeros(len(arm))
    one = np.ones(len(arm))
    modes = [(one, o, o), (o, one, o), (o, o, one), (o, -z, y), (z, o, -x), (-y, x, o)]
    basis = np.stack([np.stack(mode, axis=1).reshape(-1) for mode in modes], axis=1)
    scale = np.repeat(weight, 3)[:, None]
    share = np.linalg.solve(basis.T @ (scale * basis), basis.T @ (scale[:, 0] * moves.reshape(-1)))
    return moves - (basis @ share).reshape(-1, 3)
