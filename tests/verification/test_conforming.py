"""The embedded lattice against fine conforming finite elements: see make_references.py for where they come from."""

import json
from pathlib import Path

import numpy as np
import pytest

import shapes
from rubberquince.shapes.lattice import bind_points, build_lattice
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.frequency import free_frequency
from rubberquince.solver.specs import Material, RunSpec, SolidSpec, Touch
from rubberquince.solver.system import NO_PAIRS, ElasticSystem
from rubberquince.solver.thinness import softened_where_bent
from rubberquince.solver.world import World

REFERENCES = json.loads(Path(__file__).with_name("references.json").read_text())
COUNTS = {"beam": (24, 8, 8), "dome": (24, 12, 24)}
CELLS = (3, 5, 9)
SAMPLES = 24                # of each parameter, in the sum of what carries a body


def measured(name, across):
    """First frequency, Hz, and sag, m, of a free body with so many cells across, and what its nodes weigh, kg."""
    body = shapes.BODIES[name]
    mesh, u = shapes.skin(body.place, COUNTS[name])
    lattice = softened_where_bent(build_lattice(mesh.points, mesh.triangles, body.thickness / across))
    solid = SolidSpec(mesh.triangles, lattice, np.eye(3), np.zeros(3),
                      Material(shapes.STIFFNESS, shapes.POISSON, shapes.DENSITY, 0.0), Touch(1e-3, 0.5))
    world = World(RunSpec([solid], [], ground=None))
    system = ElasticSystem(world)
    mass, ones = world.mass, np.ones(len(world.mass))
    ease = shapes.EASE * mass
    system.prepare(world.start, ones, ease)

    def solved(load):
        """Of a load without net force and moment."""
        even = mass[:, None] * shapes.without_rigid(world.start, load / mass[:, None], mass)
        return shapes.without_rigid(world.start, system.solve(world.start, even, ones, ease, NO_PAIRS, 1e-6)[0], mass)

    share = carried(body, lattice)
    load = 9.81 * (share * mass.sum() / share.sum() - mass)[:, None] * np.array([0.0, 1.0, 0.0])
    bend = solved(load)
    mode = bend + solved(mass[:, None] * np.random.default_rng(1).normal(size=bend.shape))
    for _ in range(15):
        inertia = mass[:, None] * mode
        mode = solved(inertia)
        square = np.vdot(mode, inertia) / np.vdot(mode, mass[:, None] * mode)
        mode /= np.abs(mode).max()
    fallen = np.einsum("pk,pk->p", lattice.bind_weight, bend[lattice.bind_node, 1])[:len(u)]
    return np.sqrt(square - shapes.EASE) / (2 * np.pi), body.sag(u, fallen), mass.sum()


def carried(body, lattice):
    """The share (nodes,) of what carries the body that each node takes: of places all through it, by their weights."""
    middle = (np.arange(SAMPLES) + 0.5) / SAMPLES
    u = np.stack(np.meshgrid(middle, middle, middle, indexing="ij"), axis=3).reshape(-1, 3)
    step = 1e-5
    edges = np.stack([(body.place(u + step * a) - body.place(u - step * a)) / (2 * step) for a in np.eye(3)], axis=2)
    node, weight = bind_points(body.place(u), lattice.nodes, lattice.corner, lattice.fill)
    out = np.zeros(len(lattice.nodes))
    np.add.at(out, node, weight * (body.carries(u) * np.abs(np.linalg.det(edges)))[:, None])
    return out


@pytest.fixture(scope="module")
def results():
    return {name: [measured(name, across) for across in CELLS] for name in COUNTS}


@pytest.mark.parametrize("name", list(COUNTS))
def test_the_first_frequency_is_that_of_the_body_at_any_cells(results, name):
    for across, (frequency, _, mass) in zip(CELLS, results[name]):
        np.testing.assert_allclose(frequency ** 2, REFERENCES[name]["frequency"] ** 2, rtol=0.05,
                                   err_msg=f"{across} cells")
        np.testing.assert_allclose(mass, shapes.DENSITY * REFERENCES[name]["volume"], rtol=5e-3)


@pytest.mark.parametrize("name, share", [("beam", 0.01), ("dome", 0.05)])
def test_the_sag_is_that_of_the_body_at_any_cells(results, name, share):
    for across, (_, sag, _) in zip(CELLS, results[name]):
        np.testing.assert_allclose(sag, REFERENCES[name]["sag"], rtol=share, err_msg=f"{across} cells")


@pytest.mark.parametrize("name", list(COUNTS))
def test_the_sag_converges_with_the_square_of_the_cells(results, name):
    """Neither slower nor, as if by chance, faster: what three lattices have left of the way to the finest's."""
    few, some, many = (sag for _, sag, _ in results[name])
    a, b, c = (1 / across ** 2 for across in CELLS)
    assert 0.8 < (few - many) / (some - many) / ((a - c) / (b - c)) < 1.25


def first_frequency(triangles, lattice):
    return free_frequency(SolidSpec(triangles, lattice, np.eye(3), np.zeros(3), Material(
        shapes.STIFFNESS, shapes.POISSON, shapes.DENSITY, 0.0), Touch(1e-3, 0.5)))


def test_a_thin_wall_that_stretches_is_not_taken_for_one_that_bends():
    points, triangles = shapes.hollow_ball(12)
    lattice = build_lattice(points, triangles, shapes.WALL / 2)
    right = REFERENCES["hollow"]["frequency"]
    assert first_frequency(triangles, softened_where_bent(lattice)) ** 2 == pytest.approx(right ** 2, rel=0.05)
    assert first_frequency(triangles, lattice) ** 2 < 0.9 * right ** 2


def test_a_beam_of_two_cells_bends_as_it_should():
    mesh, _ = shapes.skin(shapes.beam, COUNTS["beam"])
    lattice = softened_where_bent(build_lattice(mesh.points, mesh.triangles, shapes.BODIES["beam"].thickness / 2))
    assert first_frequency(mesh.triangles, lattice) == pytest.approx(REFERENCES["beam"]["frequency"], rel=0.025)


def test_the_formula_makes_closed_bodies():
    for name, counts in COUNTS.items():
        mesh, _ = shapes.skin(shapes.BODIES[name].place, counts)
        assert volume(mesh.points, mesh.triangles) == pytest.approx(REFERENCES[name]["volume"], rel=0.01)
