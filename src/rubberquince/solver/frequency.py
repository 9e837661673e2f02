"""The pitch of a standing body: its first wobble, from which damping is set."""

import numpy as np

from rubberquince.solver.specs import Material, RunSpec, SolidSpec
from rubberquince.solver.system import NO_PAIRS, ElasticSystem
from rubberquince.solver.world import World

BEDDED = 0.15               # of the height: the foot of the body that is thought to stand still
PASSES = 8


def standing_frequency(solid: SolidSpec) -> float:
    """First natural frequency, Hz, of a solid that stands with the lowest 15 % of its height held.

    Inverse iteration on the stiffness at rest, with the Rayleigh quotient as its result (Bathe 1996,
    ch. 11).  The foot is a share of the height, so the pitch does not depend on the size of the cells.
    """
    world = World(RunSpec([solid], [], ground=None))
    x = world.start
    height = x[:, 1] - x[:, 1].min()
    world.free = np.where(height <= max(BEDDED * np.ptp(x[:, 1]), height.min() + solid.lattice.cell / 4), 0.0, 1.0)
    if not world.free.any():
        return 0.0
    system = ElasticSystem(world)
    ones, zeros = np.ones(len(x)), np.zeros(len(x))
    system.prepare(x, ones, zeros)
    lean = height / height.max()
    turn = x - x.mean(axis=0)
    mode = np.stack([lean ** 2 - 0.3 * turn[:, 2] / np.ptp(x), 0.1 * lean, 0.6 * lean ** 2 + 0.3 * turn[:, 0]
                     / np.ptp(x)], axis=1) * world.free[:, None]
    square = 0.0
    for _ in range(PASSES):
        load = world.mass[:, None] * mode
        mode, _ = system.solve(load, ones, zeros, NO_PAIRS, 1e-4)
        square = np.vdot(mode, system.product(ones, zeros, mode)) / np.vdot(mode, world.mass[:, None] * mode)
        mode /= np.abs(mode).max()
    return float(np.sqrt(square) / (2 * np.pi))


def damping_time(material: Material, frequency: float) -> float:
    """Rayleigh's stiffness factor β, s, by which a wobble of ``frequency``, Hz, halves as the material says.

    Amplitude decays as exp(-β ω² t / 2) (Rayleigh 1877, §81), so β = 2 ln 2 / (ω² T).
    """
    if material.wobble_halves <= 0.0 or frequency <= 0.0:
        return 0.0
    return 2.0 * np.log(2.0) / ((2 * np.pi * frequency) ** 2 * material.wobble_halves)
