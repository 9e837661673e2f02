"""Meshes that no one would draw: each is computed or refused in one sentence, and nothing is lost."""

import numpy as np
import pytest

from rubberquince.bake.assemble import assemble
from rubberquince.bake.checks import checks_of
from rubberquince.document.scene import ImportedShape, Piece, Place, RunSettings, Scene
from rubberquince.document.values import PressureValues
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.shapes.repair import repaired
from rubberquince.solver.stepper import Stepper

FRAMES, HEIGHT = 6, 0.5
RNG = np.random.default_rng(0)
SHEET, BALL = primitives.sheet(8, 8), primitives.sphere(12, 6)


def mesh_of(points, triangles):
    triangles = np.array(triangles, np.int32)
    return PolyMesh(np.array(points, float), np.full(len(triangles), 3, np.int32), triangles.reshape(-1))


def fan(spokes):
    angle = 2.0 * np.pi * np.arange(spokes) / spokes
    ring = np.column_stack([0.5 * np.cos(angle), 0.0 * angle, 0.5 * np.sin(angle)])
    return mesh_of([[0.0, 0.0, 0.0], *ring], [[0, 1 + (k + 1) % spokes, 1 + k] for k in range(spokes)])


def confetti(count):
    middle = RNG.uniform(-0.5, 0.5, (count, 1, 3))
    corners = middle + RNG.uniform(-0.01, 0.01, (count, 3, 3))
    return mesh_of(corners.reshape(-1, 3), np.arange(3 * count).reshape(-1, 3))


def pinched():
    points = SHEET.points.copy()
    points[40] = points[41]
    return mesh_of(points, [*SHEET.triangles.tolist(), [0, 1, 2], [5, 5, 6], [3, 3, 3]])


MESHES = {
    "a point of 200 triangles": fan(200), "confetti": confetti(300), "no area": pinched(),
    "an edge of three": mesh_of([[0, 0, -0.5], [0, 0, 0.5], [0.5, 0, 0], [-0.5, 0, 0], [0, 0.5, 0]],
                                [[0, 1, 2], [1, 0, 3], [0, 1, 4]]),
    "every other turned": mesh_of(SHEET.points, np.where(np.arange(128)[:, None] % 2, SHEET.triangles,
                                                         SHEET.triangles[:, ::-1])),
    "one triangle": mesh_of([[0, 0, 0], [1, 0, 0], [0, 0, 1]], [[0, 2, 1]]),
    "a line": mesh_of([[0, 0, 0], [1, 0, 0], [0.5, 0, 0]], [[0, 1, 2]]),
    "torn": mesh_of(BALL.points, np.delete(BALL.triangles, [3, 50, 51, 90], axis=0)),
    "two in one place": mesh_of(np.tile(SHEET.points, (2, 1)), np.concatenate([SHEET.triangles, SHEET.triangles + 81]))}


@pytest.mark.parametrize("pressure", [0.0, 300.0])
@pytest.mark.parametrize("name", MESHES)
@pytest.mark.parametrize("mended", [True, False])
def test_it_falls_or_is_blown_and_stays_finite(name, pressure, mended):
    mesh = repaired(MESHES[name])[0] if mended else MESHES[name]
    tall = 0.05 if np.ptp(mesh.points[:, 1]) > 0.0 else 0.01
    piece = Piece(id="a", name="Thing", role="shell", shape=ImportedShape(name="a", mesh=mesh.key),
                  place=Place(position=(0.0, HEIGHT, 0.0), size=(0.2, tall, 0.2)),
                  pressure=PressureValues(pressure=pressure, frames=0.0))
    scene, meshes = Scene(pieces=(piece,), run=RunSettings(quality="draft")), {mesh.key: mesh}
    assert all(check.sentence.endswith(".") for check in checks_of(scene, meshes))
    stepper = Stepper(assemble(scene, meshes).spec)
    for frame in range(FRAMES):
        stepper.frame(frame / 24.0)
    x, mass = stepper.state.x, stepper.world.mass
    assert np.isfinite(stepper.state.packed()).all() and np.abs(x).max() < 1.0
    fallen = 0.5 * 9.81 * (FRAMES / 24.0) ** 2
    lowest = stepper.world.start[:, 1].min()
    middle = mass @ (stepper.world.start - x)[:, 1] / mass.sum()
    if pressure == 0.0 and lowest > fallen:         # nothing has reached the ground: it fell as all things do
        assert middle == pytest.approx(fallen, rel=0.15)
