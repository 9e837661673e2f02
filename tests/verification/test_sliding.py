"""What rolls, slides, sticks and is piled up, against what mechanics says of it."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from bodies import CANVAS, make_block_collider, make_shell, make_solid
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.specs import (
    QUALITIES,
    Inflation,
    Material,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    ShellMaterial,
    Touch,
)
from rubberquince.solver.stepper import Stepper

GRAVITY = 9.81


def tilt(degrees):
    """Rotation by which +x leads downhill."""
    a = np.radians(degrees)
    return np.array([[np.cos(a), np.sin(a), 0], [-np.sin(a), np.cos(a), 0], [0, 0, 1.0]])


def on_a_slope(mesh, size, degrees, friction, material, quality, cells):
    """A body on a long slope, and the direction downhill."""
    turn, touch = tilt(degrees), Touch(1e-3, friction)
    solid = make_solid(mesh, size, cells, turn @ [0, size[1] / 2 + 9e-4, 0], material, touch, rotation=turn)
    slope = make_block_collider((4.0, 0.1, 1.0), turn @ [1.5, -0.05, 0], turn, touch, (1, 1, 1))
    return Stepper(RunSpec([solid], [slope], ground=None, quality=QUALITIES[quality])), turn[:, 0]


def speeds(stepper, along, frames):
    mass, found = stepper.world.mass, []
    for _ in range(frames):
        stepper.frame()
        found.append(mass @ stepper.state.v @ along / mass.sum())
    return np.array(found)


@pytest.mark.parametrize("quality, within", [("draft", 0.09), ("good", 0.05), ("sure", 0.05)])
@pytest.mark.parametrize("stiffness, halves", [(2e5, 0.35), (2e6, 0.0), (3e7, 0.0), (1e9, 0.1)])
def test_a_ball_rolls_down_a_slope(quality, within, stiffness, halves):
    """v = g sin / (1 + I/mr²) t; the ball's own moment, as its cells spread its mass."""
    r, frames = 0.05, 14
    stepper, along = on_a_slope(primitives.sphere(40, 20), (2 * r,) * 3, 15.0, 0.8,
                                Material(stiffness, 0.42, 1000.0, halves), quality, 5)
    x, mass = stepper.state.x, stepper.world.mass
    arm = (x - mass @ x / mass.sum())[:, :2]
    moment = mass @ (arm ** 2).sum(axis=1) / (mass.sum() * r * r)
    expected = GRAVITY * np.sin(np.radians(15.0)) / (1.0 + moment) * frames / 24
    np.testing.assert_allclose(speeds(stepper, along, frames)[-1], expected, rtol=within)


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("around, bend", [(48, 0.05), (128, 0.05), (64, 0.5)])
def test_a_stiff_tube_rolls_down_a_slope(quality, around, bend):
    """v = g sin / 2 t of a thin hoop: it stood nearly still, as inexact solving held back what it rolls on."""
    touch, frames, angle = Touch(1e-3, 0.8), 20, np.radians(10.0)
    tube = make_shell(tube_of(around), (0.05, 0.05, 0.06), (0.0, 0.051, 0.0),
                      ShellMaterial(2e4, 1.0, bend, 0.3, 0.0), touch)
    stepper = Stepper(RunSpec([tube], [], quality=QUALITIES[quality], ground=touch,
                              pulls=np.array([np.sin(angle), -np.cos(angle), 0.0])))
    expected = 0.5 * GRAVITY * np.sin(angle) * frames / 24
    np.testing.assert_allclose(speeds(stepper, np.array([1.0, 0.0, 0.0]), frames)[-1], expected, rtol=0.11)


@pytest.mark.parametrize("quality", ["draft", "good", "sure"])
@pytest.mark.parametrize("turn, least, most", [(0.0, 0.2, 0.7), (90.0, 0.0, 1.0)])
def test_a_stiff_tube_comes_back_from_the_ground_with_no_more_than_it_had(quality, turn, least, most):
    """On its side it swings out of its circle; on its rim an impact is over within a step, and it leapt up at sure."""
    tube = make_shell(tube_of(48), (0.05, 0.05, 0.06), (0.0, 0.35, 0.0), ShellMaterial(2e4, 1.0, 0.01, 0.3, 0.0),
                      rotation=Rotation.from_euler("x", turn, degrees=True).as_matrix())
    stepper, heights = Stepper(RunSpec([tube], [], quality=QUALITIES[quality])), []
    low = (tube.points @ tube.rotation.T)[:, 1].min()
    share = stepper.world.mass / stepper.world.mass.sum()
    for _ in range(24):
        stepper.frame()
        heights.append(share @ stepper.state.x[:, 1] + low)
    assert least * (0.35 + low) < max(heights[9:]) < most * (0.35 + low)


def tube_of(around):
    """An open tube of radius 1 and length 1 along z."""
    angle, rings = np.linspace(0.0, 2.0 * np.pi, around, endpoint=False), 5
    points = np.array([(np.cos(a), np.sin(a), z) for z in np.linspace(-0.5, 0.5, rings) for a in angle])
    i, j = (part.reshape(-1) for part in np.meshgrid(np.arange(around), np.arange(rings - 1) * around))
    a, b = j + i, j + (i + 1) % around
    triangles = np.concatenate([np.column_stack([a, b, a + around]), np.column_stack([b, b + around, a + around])])
    return PolyMesh(points, np.full(len(triangles), 3, np.int32), triangles.reshape(-1).astype(np.int32))


@pytest.mark.parametrize("quality, within", [("draft", 0.06), ("good", 0.02)])
@pytest.mark.parametrize("degrees", [17.5, 25.0])
@pytest.mark.parametrize("mesh", [primitives.block((6, 3, 6))], ids=["brick"])
def test_what_slides_gains_speed_as_coulomb_says(quality, within, degrees, mesh):
    stepper, along = on_a_slope(mesh, (0.12, 0.06, 0.12), degrees, 0.3, Material(5e4, 0.42, 1000.0, 0.1), quality, 4)
    found = speeds(stepper, along, 24)
    a = np.radians(degrees)
    expected = GRAVITY * (np.sin(a) - 0.3 * np.cos(a))
    np.testing.assert_allclose((found[-1] - found[12]) * 24 / 11, expected, rtol=within)


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_where_it_lands_the_ground_takes_no_more_speed_than_coulomb_allows(quality):
    """Of any body: what is lost sideways is at most μ times what the ground gave upwards."""
    touch, speed = Touch(1e-3, 0.2), np.array([1.5, 0.0, 0.3])
    pad = make_shell(primitives.cushion(12, 0.0), (0.3, 0.01, 0.3), (0, 0.06, 0), CANVAS, touch,
                     inflation=Inflation(200.0, grows=0.4))
    stepper = Stepper(RunSpec([pad], [], quality=QUALITIES[quality], ground=touch))
    stepper.state.v[:] = speed
    share, ratios = stepper.world.mass / stepper.world.mass.sum(), []
    for frame in range(12):
        stepper.frame(frame / 24)
        gained = share @ stepper.state.v - speed
        ratios.append(np.hypot(gained[0], gained[2]) / max(gained[1] + GRAVITY * (frame + 1) / 24, 0.05))
    assert 0.15 < max(ratios) < 1.15 * 0.2


@pytest.mark.parametrize("quality, most", [("draft", 3e-4), ("good", 2e-4)])
def test_what_sticks_hardly_creeps(quality, most):
    stepper, along = on_a_slope(primitives.block((6, 3, 6)), (0.12, 0.06, 0.12), 15.0, 0.3,
                                Material(5e4, 0.42, 1000.0, 0.1), quality, 4)
    assert np.abs(speeds(stepper, along, 36)[24:].mean()) < most


@pytest.mark.parametrize("quality, frames, jump", [("draft", 90, 0.07), ("good", 80, 0.25)])
def test_what_is_dropped_into_a_pen_comes_to_rest_and_gains_no_energy(quality, frames, jump):
    shapes = [(primitives.sphere(16, 8), (0.08, 0.08, 0.08)), (primitives.block((3, 3, 3)), (0.07, 0.06, 0.08))]
    solids = [make_solid(*shapes[k % 2], 3, (0.09 * (k % 2) - 0.045, 0.06 + 0.1 * (k // 2), 0.03 * (k // 2 % 2)),
                         Material(1.5e4, 0.42, 1000.0, 0.2), Touch(1e-3, 0.4)) for k in range(4)]
    walls = [make_block_collider(size, at, touch=Touch(1e-3, 0.3)) for side in (-1, 1)
             for size, at in (((0.02, 0.3, 0.4), (0.13 * side, 0.15, 0)), ((0.4, 0.3, 0.02), (0, 0.15, 0.13 * side)))]
    stepper = Stepper(RunSpec(solids, walls, quality=QUALITIES[quality]))
    mass, energy = stepper.world.mass, []
    for _ in range(frames):             # one of the balls rolls to and fro in its nook for long
        state, skin = stepper.state, stepper.skin()
        energy.append(0.5 * mass @ (state.v ** 2).sum(axis=1) + GRAVITY * mass @ state.x[:, 1]
                      + stepper.system.energy(state.x))
        stepper.frame()
    assert np.diff(energy).max() < jump * energy[0] and energy[-1] < 0.5 * energy[0]
    assert np.linalg.norm(stepper.skin() - skin, axis=1).max() * 24 < 2e-3


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("kind", ["rigid", "solid"])
def test_what_stands_on_a_cloth_stands_on_that_and_goes_along_with_it(kind, quality):
    """A heavy thing pressed it flat on the ground, stood on that instead, and the cloth slid away under it."""
    block, at, touch = primitives.block((2, 2, 2)), np.array([0.0, 0.033, 0.0]), Touch(1e-3, 0.4)
    cloth = make_shell(primitives.sheet(16, 16), (0.3, 1.0, 0.3), (0.0, 0.0015, 0.0), replace(CANVAS, bend=1e-5), touch)
    rest = cloth.points + cloth.translation

    def pulled(since):
        """At 2 m/s² from a fifth of a second on: friction can speed up what stands there by 3.9."""
        return rest + np.array([max(since - 0.2, 0.0) ** 2, 0.0, 0.0])

    cloth = replace(cloth, held=cloth.points[:, 0] > 0.149, course=pulled)
    heavy = make_solid(block, (0.06, 0.06, 0.06), 3, at, Material(5e4, 0.42, 800.0, 0.1), touch)
    if kind == "rigid":
        heavy = RigidSpec(block.points * 0.06, block.triangles, np.eye(3), at, RigidMaterial(800.0), touch)
    stepper = Stepper(RunSpec([cloth, heavy], [], quality=QUALITIES[quality], ground=touch))
    mass = stepper.world.mass * (stepper.world.node_body == 1)
    for frame in range(17):
        stepper.frame(frame / 24)
    assert mass @ stepper.state.x[:, 0] / mass.sum() == pytest.approx((17 / 24 - 0.2) ** 2, abs=0.02)
    assert stepper.skin()[-26:, 1].min() > 1.2e-3               # there is the cloth between it and the ground
