"""What rolls, slides, sticks and is piled up, against what mechanics says of it."""

import numpy as np
import pytest

from bodies import CANVAS, make_block_collider, make_shell, make_solid
from rubberquince.shapes import primitives
from rubberquince.solver.specs import QUALITIES, Inflation, Material, RunSpec, Touch
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
@pytest.mark.parametrize("stiffness, halves", [(2e5, 0.35), (2e6, 0.0)])
def test_a_ball_rolls_down_a_slope(quality, within, stiffness, halves):
    """v = g sin / (1 + I/mr²) t; the ball's own moment, as its cells spread its mass."""
    r, frames = 0.05, 20
    stepper, along = on_a_slope(primitives.sphere(40, 20), (2 * r,) * 3, 15.0, 0.8,
                                Material(stiffness, 0.42, 1000.0, halves), quality, 5)
    x, mass = stepper.state.x, stepper.world.mass
    arm = (x - mass @ x / mass.sum())[:, :2]
    moment = mass @ (arm ** 2).sum(axis=1) / (mass.sum() * r * r)
    expected = GRAVITY * np.sin(np.radians(15.0)) / (1.0 + moment) * frames / 24
    np.testing.assert_allclose(speeds(stepper, along, frames)[-1], expected, rtol=within)


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


@pytest.mark.parametrize("quality, frames, jump", [("draft", 100, 0.07), ("good", 100, 0.25)])
def test_what_is_dropped_into_a_pen_comes_to_rest_and_gains_no_energy(quality, frames, jump):
    shapes = [(primitives.sphere(16, 8), (0.08, 0.08, 0.08)), (primitives.block((3, 3, 3)), (0.07, 0.06, 0.08))]
    solids = [make_solid(*shapes[k % 2], 3, (0.09 * (k % 2) - 0.045, 0.06 + 0.1 * (k // 2), 0.03 * (k // 2 % 2)),
                         Material(1.5e4, 0.42, 1000.0, 0.2), Touch(1e-3, 0.4)) for k in range(8)]
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
