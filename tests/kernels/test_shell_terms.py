"""The energies of shells: their slopes, their stiffness, and what they must not notice."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from bodies import CANVAS, make_shell
from rubberquince.kernels.bending import PAIRS as HINGE_PAIRS
from rubberquince.kernels.membrane import PAIRS as TRIANGLE_PAIRS
from rubberquince.shapes import primitives
from rubberquince.shapes.links import net_links
from rubberquince.solver.specs import Goal, Inflation, Links, RunSpec
from rubberquince.solver.terms.bending import hinges_of
from rubberquince.solver.terms.pressing import rims
from rubberquince.solver.terms.springs import BLOCKS
from rubberquince.solver.world import World

SHAPES = {"ball": (primitives.sphere(10, 6), (0.1, 0.12, 0.1)), "sheet": (primitives.sheet(5, 4), (0.1, 1.0, 0.08))}


def shaken(shape, by, **more):
    mesh, size = SHAPES[shape]
    pairs, length, weight = net_links(mesh.points * np.array(size), mesh, 2)
    more.setdefault("links", (Links(pairs, 0.98 * length, weight), Links(pairs[:3], length[:3], weight[:3], True)))
    more.setdefault("goal", Goal(mesh.points * np.array(size) + 0.01, np.linspace(0.0, 30.0, len(mesh.points))))
    world = World(RunSpec([make_shell(mesh, size, **more)], []))
    return world, world.start + by * np.random.default_rng(3).normal(size=world.start.shape)


def terms_of(world):
    return {"membrane": world.membrane, "limit": world.membrane, "bending": world.bending, "pressing": world.pressing,
            "springs": world.springs, "goals": world.goals}


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("name", ["membrane", "limit", "bending", "pressing", "springs", "goals"])
def test_forces_are_the_slope_of_the_energy(shape, name):
    world, x = shaken(shape, 4e-3, inflation=Inflation(300.0, backing=1e3 if shape == "ball" else None),
                      material=replace(CANVAS, most=1.02 if name == "limit" else None))
    term, slope = terms_of(world)[name], np.zeros_like(x)
    term.add_gradient(x, slope)
    rng = np.random.default_rng(1)
    for _ in range(5):
        way = rng.normal(size=x.shape)
        change = (term.energy(x + 1e-7 * way) - term.energy(x - 1e-7 * way)) / 2e-7
        assert change == pytest.approx(np.vdot(slope, way), rel=1e-4, abs=1e-9 * np.abs(slope).max())


@pytest.mark.parametrize("name", ["membrane", "bending", "springs"])
def test_blocks_are_never_negative_however_crumpled(name):
    world, x = shaken("ball", 0.03)
    term = terms_of(world)[name]
    corners, pairs = {"membrane": (3, TRIANGLE_PAIRS), "bending": (4, HINGE_PAIRS), "springs": (2, BLOCKS)}[name]
    blocks = np.zeros((len(term.pairs), 9), np.float32)
    term.fill_blocks(x, blocks)
    for element in blocks.reshape(-1, len(pairs), 3, 3).astype(float):
        whole = np.zeros((corners, 3, corners, 3))
        for (a, b), block in zip(pairs, element):
            whole[a, :, b], whole[b, :, a] = block, block.T
        values = np.linalg.eigvalsh(whole.reshape(3 * corners, -1))
        assert values[0] > -1e-5 * max(values[-1], 1e-12)


@pytest.mark.parametrize("most", [None, 1.02])
def test_blocks_of_a_stretched_membrane_are_the_slope_of_its_force(most):
    world, x = shaken("sheet", 1e-5, material=replace(CANVAS, most=most))
    x = 1.05 * x                                # stretched everywhere, so that nothing is clamped
    term, way = world.membrane, np.random.default_rng(2).normal(size=x.shape)
    blocks = np.zeros((len(term.pairs), 9), np.float32)
    term.fill_blocks(x, blocks)
    product = np.zeros_like(x)
    for (a, b), block in zip(term.pairs, blocks.reshape(-1, 3, 3)):
        product[a] += block @ way[b]
        if a != b:
            product[b] += block.T @ way[a]
    high, low = np.zeros_like(x), np.zeros_like(x)
    term.add_gradient(x + 1e-6 * way, high)
    term.add_gradient(x - 1e-6 * way, low)
    assert product == pytest.approx((high - low) / 2e-6, rel=1e-3, abs=1e-3 * np.abs(product).max())


@pytest.mark.parametrize("shape", SHAPES)
def test_moved_and_turned_as_a_whole_a_shell_is_at_rest(shape):
    world, x = shaken(shape, 0.0)
    turned = x @ Rotation.from_euler("xyz", [20, 130, -50], degrees=True).as_matrix().T + np.array([3.0, -2.0, 1.0])
    for term in (world.membrane, world.bending):
        slope = np.zeros_like(x)
        term.add_gradient(turned, slope)
        assert term.energy(turned) < 1e-12 and np.abs(slope).max() < 1e-8


def test_pressure_pushes_a_closed_skin_nowhere_and_an_open_one_against_its_cap():
    for shape in SHAPES:
        world, x = shaken(shape, 3e-3, inflation=Inflation(500.0))
        slope = np.zeros_like(x)
        world.pressing.add_gradient(x, slope)
        assert np.abs(slope.sum(axis=0)).max() < 1e-12 * len(x) * 500.0
        assert np.abs(np.cross(x, slope).sum(axis=0)).max() < 1e-10


def test_what_is_squeezed_resists_by_its_share_only():
    energies = {}
    for share in (0.0, 0.3, 1.0):
        world, x = shaken("sheet", 0.0, material=CANVAS.__class__(**{**vars(CANVAS), "squeeze": share}))
        energies[share] = world.membrane.energy(0.9 * x)
    assert energies[0.0] == 0.0 and energies[0.3] == pytest.approx(0.3 * energies[1.0])


def test_hinges_are_edges_of_two_triangles_however_they_are_wound():
    tri = np.array([[0, 1, 2], [1, 3, 2], [4, 2, 3], [0, 1, 5], [0, 1, 6]])      # edge 0 - 1 has three
    assert {tuple(sorted(h[:2])) for h in hinges_of(tri).tolist()} == {(1, 2), (2, 3)}
    flipped = tri.copy()
    flipped[1] = flipped[1, ::-1]
    one, other = ({tuple(sorted(h)) for h in hinges_of(t).tolist()} for t in (tri, flipped))
    assert one == other


def test_an_open_tube_has_two_rims_and_a_ball_none():
    tube = primitives.revolved(np.array([[0.1, 0.0], [0.1, 0.05], [0.1, 0.1]]), 12)
    assert sorted(len(rim) for rim in rims(tube.triangles)) == [12, 12] and not rims(SHAPES["ball"][0].triangles)
