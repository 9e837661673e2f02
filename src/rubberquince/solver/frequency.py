"""The pitch of a body: its first wobble, that damping is set by."""

import numpy as np

from rubberquince.kernels.turning import without_motion
from rubberquince.solver.specs import RunSpec, ShellMaterial, ShellSpec, SolidSpec
from rubberquince.solver.system import NO_PAIRS, ElasticSystem
from rubberquince.solver.world import World

PASSES = 4
SMALL = 1e-3                # of the body: how far it is thought to be bent
RING = 2.68 / (2.0 * np.pi)
EASE = 1e-3                 # of the pitch², about: inertia that keeps the matrix of a body that can turn definite


def free_frequency(solid: SolidSpec) -> float:
    """First natural frequency, Hz, of a solid that nothing touches; nodes that it has held stay."""
    squares = free_modes(solid)[1]
    return float(np.sqrt(max(squares[0], 0.0)) / (2 * np.pi))


def free_modes(solid: SolidSpec) -> tuple[list[np.ndarray], np.ndarray]:
    """The first few ways (nodes, 3) in which a free solid wobbles, and their ω², 1/s²; none and 0 where nothing can.

    Inverse iteration of a block of vectors with the Ritz values in it (Bathe 1996, ch. 11.6), from squeezing along each
    axis, from shears and from bends.
    """
    world = World(RunSpec([solid], [], ground=None))
    x, mass = world.start, world.mass
    if not world.free.any() or len(x) < 4:
        return [], np.zeros(1)
    system, ones, zeros = ElasticSystem(world), np.ones(len(x)), np.zeros(len(x))
    loose = np.array([world.free.all()])
    size = np.ptp(x, axis=0).max()
    r = (x - mass @ x / mass.sum()) / size
    fields = [np.stack(f, axis=1) for f in _fields(*r.T)]

    def freed(field: np.ndarray) -> np.ndarray:
        field = field * (SMALL * size / np.abs(field).max()) * world.free[:, None]
        if loose[0]:
            out = np.empty(field.shape, np.float32)
            without_motion(mass, x + field, x, world.first_node, loose, out)
            field = out.astype(float)
        return field

    block = [freed(field) for field in fields]
    for step in range(PASSES):
        mixed, squares = _ritz(block, mass, [system.product(ones, zeros, field) for field in block])
        if step == PASSES - 1:
            break
        if step == 0:
            inertia = mass * EASE * max(squares[0], 1.0)
            system.prepare(x, ones, inertia)
        block = [freed(system.solve(x, mass[:, None] * field, ones, inertia, NO_PAIRS, 0.02)[0]) for field in mixed]
    return mixed, squares


def shell_frequency(spec: ShellSpec, material: ShellMaterial) -> float:
    """Frequency, Hz, with which a shell stretches to and fro along its longest side: c / 2L, c = √(stretch / density).

    It may be limp, and has no slower wobble of its own then.
    """
    longest = float(np.ptp(spec.points, axis=0).max())
    return float(np.sqrt(np.mean(material.stretch) / np.mean(material.density))) / (2.0 * max(longest, 1e-6))


def bending_frequency(spec: ShellSpec, material: ShellMaterial) -> float:
    """Frequency, Hz, with which a ring of the longest side of a shell swings out of its circle: 2.68/2πR² √(bend /
    density) (Rayleigh 1877, §233).
    """
    radius = 0.5 * float(np.ptp(spec.points, axis=0).max())
    return RING / max(radius, 1e-6) ** 2 * float(np.sqrt(np.mean(material.bend) / np.mean(material.density)))


def _fields(x: np.ndarray, y: np.ndarray, z: np.ndarray) -> list[list[np.ndarray]]:
    o = np.zeros(len(x))
    return [[-x, 2 * y, -z], [2 * x, -y, -z], [y, x, o], [z, o, x], [o, z, y],
            [x * x - 2 * y * y, o, x * y], [o, x * x, z * z], [z * z, o, y * y], [x * y, o, x * x + y * y]]


def _ritz(block: list[np.ndarray], mass: np.ndarray, forces: list[np.ndarray]) -> tuple[list[np.ndarray], np.ndarray]:
    """The lowest four mixtures of a block, and their ω²."""
    k = np.array([[np.vdot(a, f) for f in forces] for a in block])
    m = np.array([[np.vdot(a, mass[:, None] * b) for b in block] for a in block])
    size = np.sqrt(np.diag(m)) + 1e-300
    k, m = k / np.outer(size, size), m / np.outer(size, size)
    values, vectors = np.linalg.eigh(m)
    basis = vectors[:, values > 1e-6 * values.max()] / np.sqrt(values[values > 1e-6 * values.max()])
    squares, mixes = np.linalg.eigh(basis.T @ (0.5 * (k + k.T)) @ basis)
    mixes = (basis @ mixes) / size[:, None]
    few = min(4, mixes.shape[1])
    return [sum(c * b for c, b in zip(mixes[:, j], block)) for j in range(few)], squares[:few]
