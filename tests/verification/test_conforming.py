"""The embedded lattice against fine conforming finite elements: see make_references.py for where they come from."""

import json
from pathlib import Path

import numpy as np
import pytest

import shapes
from rubberquince.shapes.lattice import build_lattice
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.specs import Material, RunSpec, SolidSpec, Touch
from rubberquince.solver.system import NO_PAIRS, ElasticSystem
from rubberquince.solver.world import World

REFERENCES = json.loads(Path(__file__).with_name("references.json").read_text())
COUNTS = {"beam": (24, 8, 8), "dome": (24, 12, 24)}
CELLS = (3, 5, 9)


def measured(name, across):
    """First frequency, Hz, and sag, m, of a free body with so many cells across, and what its nodes weigh, kg."""
    body = shapes.BODIES[name]
    mesh, u = shapes.skin(body.place, COUNTS[name])
    lattice = build_lattice(mesh.points, mesh.triangles, body.thickness / across)
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
        return shapes.without_rigid(world.start, system.solve(even, ones, ease, NO_PAIRS, 1e-6)[0], mass)

    share = mass * body.carries(body_parameters(name, world.start))
    load = 9.81 * (share * mass.sum() / share.sum() - mass)[:, None] * np.array([0.0, 1.0, 0.0])
    bend = solved(load)
    mode = bend + solved(mass[:, None] * np.random.default_rng(1).normal(size=bend.shape))
    for _ in range(30):
        inertia = mass[:, None] * mode
        mode = solved(inertia)
        square = np.vdot(mode, inertia) / np.vdot(mode, mass[:, None] * mode)
        mode /= np.abs(mode).max()
    fallen = np.einsum("pk,pk->p", lattice.bind_weight, bend[lattice.bind_node, 1])
    return np.sqrt(square - shapes.EASE) / (2 * np.pi), body.sag(u, fallen), mass.sum()


def body_parameters(name, points):
    """The parameter of places that says what carries them; only this one is needed."""
    if name == "beam":
        return points @ shapes.TILT / np.array(shapes.BEAM) + 0.5
    return points[:, [1, 1, 1]] / shapes.DOME_HEIGHT


@pytest.fixture(scope="module")
def results():
    return {name: [measured(name, across) for across in CELLS] for name in COUNTS}


@pytest.mark.parametrize("name", list(COUNTS))
def test_the_first_frequency_is_that_of_the_body_at_any_cells(results, name):
    for across, (frequency, _, mass) in zip(CELLS, results[name]):
        np.testing.assert_allclose(frequency ** 2, REFERENCES[name]["frequency"] ** 2, rtol=0.05,
                                   err_msg=f"{across} cells")
        np.testing.assert_allclose(mass, shapes.DENSITY * REFERENCES[name]["volume"], rtol=5e-3)


def test_the_sag_of_a_beam_off_the_axes_is_right_at_any_cells(results):
    for across, (_, sag, _) in zip(CELLS, results["beam"]):
        np.testing.assert_allclose(sag, REFERENCES["beam"]["sag"], rtol=0.01, err_msg=f"{across} cells")


def test_the_sag_of_a_squat_body_converges_with_the_square_of_the_cells(results):
    """Cells that its foot cuts hang a little below it, which a squat body on few cells feels most."""
    errors = [abs(sag / REFERENCES["dome"]["sag"] - 1) for _, sag, _ in results["dome"]]
    assert errors[0] < 0.2 and errors[1] < 0.08 and errors[2] < 0.03
    order = np.log(errors[0] / errors[2]) / np.log(CELLS[2] / CELLS[0])
    assert 1.6 < order < 2.6


def test_the_formula_makes_closed_bodies():
    for name, counts in COUNTS.items():
        mesh, _ = shapes.skin(shapes.BODIES[name].place, counts)
        assert volume(mesh.points, mesh.triangles) == pytest.approx(REFERENCES[name]["volume"], rel=0.01)
