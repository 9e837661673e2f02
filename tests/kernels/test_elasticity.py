"""The elastic energy against its own derivatives, rigid motion, and a plain NumPy evaluation."""

import numpy as np
import pytest

from bodies import JELLY, make_solid
from rubberquince.kernels.elasticity import stretches
from rubberquince.kernels.octahedron import GRADIENT, TETS
from rubberquince.shapes import primitives
from rubberquince.solver.specs import RunSpec
from rubberquince.solver.system import ElasticSystem
from rubberquince.solver.world import World


@pytest.fixture(scope="module", params=[1.0, 0.15])
def small(request):
    """A small sphere, its nodes disturbed by a tenth of a cell; and crushed before that."""
    world = World(RunSpec([make_solid(primitives.sphere(16, 8), (0.1, 0.12, 0.1), 3)], []))
    shake = np.random.default_rng(1).normal(size=world.start.shape) * 0.1 * 0.1 / 3
    return world, ElasticSystem(world), world.start * [1.0, request.param, 1.0] + shake


def plain_energy(world, x):
    """The same energy tetrahedron by tetrahedron: stable neo-Hookean, one mean dilatation an octahedron."""
    solid = world.spec.bodies[0]
    lattice, (lam, mu) = solid.lattice, JELLY.lame
    tall = np.ptp(lattice.nodes, axis=0).max()
    total = 0.0
    for corner, axis, fill, scale in zip(lattice.corner, lattice.axis, lattice.fill, lattice.scale):
        shear, dilation, filled, crushed = 0.0, 0.0, 0.0, 0.0
        for tet, part, gradient in zip(TETS, fill, GRADIENT[axis]):
            if part == 0.0:
                continue
            f = sum(np.outer(x[node], g) for node, g in zip(corner[tet], gradient)) / lattice.cell
            j = np.linalg.det(f)
            shear += part * 0.5 * mu * ((f * f).sum() - 3.0 + (j - 2.0) ** 2 - 1.0)
            dilation += part * (j - 1.0)
            crushed += part * 0.5 * max(0.2 - j, 0.0) ** 2
            filled += part
        volume = lattice.cell ** 3 / 12.0
        dense = max(30.0 * scale * mu, 10.0 * JELLY.density * 9.81 * tall)
        total += scale * volume * (shear + 0.5 * lam * filled * (dilation / max(filled, 1e-30)) ** 2)
        total += volume * dense * crushed
    return total


def test_rest_and_rigid_motion_cost_nothing(small):
    world, system, _ = small
    turn, _ = np.linalg.qr(np.random.default_rng(2).normal(size=(3, 3)))
    turn *= np.sign(np.linalg.det(turn))
    scale = 4000.0 * world.share.sum()
    assert abs(system.energy(world.start)) < 1e-12 * scale
    assert abs(system.energy(world.start @ turn.T + [1.0, 2.0, 3.0])) < 1e-10 * scale


def test_energy_matches_a_plain_evaluation(small):
    world, system, x = small
    assert system.energy(x) == pytest.approx(plain_energy(world, x), rel=1e-9)


def test_gradient_is_the_slope_of_the_energy(small):
    _, system, x = small
    gradient = np.empty_like(x)
    system.gradient(x, gradient)
    rng = np.random.default_rng(3)
    for _ in range(5):
        way = rng.normal(size=x.shape)
        step = 1e-7
        slope = (system.energy(x + step * way) - system.energy(x - step * way)) / (2 * step)
        assert np.vdot(gradient, way) == pytest.approx(slope, rel=2e-5)


def test_forces_balance(small):
    _, system, x = small
    gradient = np.empty_like(x)
    system.gradient(x, gradient)
    size = np.abs(gradient).max()
    assert np.abs(gradient.sum(axis=0)).max() < 1e-9 * size
    assert np.abs(np.cross(x, gradient).sum(axis=0)).max() < 1e-9 * size


def test_stiffness_is_the_slope_of_the_gradient_at_rest(small):
    world, system, _ = small
    x, way = world.start, np.random.default_rng(4).normal(size=world.start.shape)
    system.assemble(x)
    product = system.product(np.ones(len(x)), np.zeros(len(x)), way)
    step, ahead, behind = 1e-6, np.empty_like(x), np.empty_like(x)
    system.gradient(x + step * way, ahead)
    system.gradient(x - step * way, behind)
    slope = (ahead - behind) / (2 * step)
    assert np.abs(product - slope).max() < 1e-4 * np.abs(slope).max()


def test_stiffness_never_pulls_backwards(small):
    _, system, x = small
    system.assemble(x)
    rng = np.random.default_rng(5)
    ones = np.ones(len(x))
    for _ in range(10):
        way = rng.normal(size=x.shape)
        assert np.vdot(way, system.product(ones, 0 * ones, way)) > 0


def test_largest_stretch_of_a_pulled_body(small):
    world, _, _ = small
    octs = world.octahedra
    out = np.zeros(len(octs.corner))
    pulled = world.start * [1.0, 1.4, 1.0]
    stretches(pulled, octs.lane_corner, octs.axis, octs.fill, octs.inv, TETS, GRADIENT, out)
    assert out.max() == pytest.approx(1.4, rel=1e-9)
