"""Friction, gap and pressure that differ from point to point, against what is known of even ones."""

from dataclasses import replace

import numpy as np
import pytest

from bodies import CANVAS, JELLY, make_block_collider, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver.specs import Goal, Inflation, RunSpec, Touch
from rubberquince.solver.stepper import Stepper
from rubberquince.solver.world import World

STIFF = replace(JELLY, stiffness=2e5, wobble_halves=0.05)


def run(spec, frames):
    stepper = Stepper(spec)
    for _ in range(frames):
        stepper.frame()
    return stepper


@pytest.mark.parametrize(("left", "right", "sign"), [(0.0, 0.6, 1.0), (0.6, 0.0, -1.0)])
def test_a_box_that_drags_on_one_side_turns_towards_it(left, right, sign):
    box = make_solid(primitives.block((4, 2, 4)), (0.1, 0.03, 0.1), 2, (0.0, 0.0162, 0.0), STIFF)
    friction = np.where(primitives.block((4, 2, 4)).points[:, 0] < 0, left, right)
    stepper = Stepper(RunSpec([replace(box, touch=Touch(1e-3, friction))], [], ground=Touch(1e-4, 2.0)))
    stepper.state.v[:, 2] = 0.8
    for _ in range(8):
        stepper.frame()
    x, mass = stepper.state.x, stepper.world.mass
    way = x - stepper.world.start
    turn = np.arctan2((mass @ np.cross(stepper.world.start - mass @ stepper.world.start / mass.sum(), way))[1],
                      mass @ (stepper.world.start[:, [0, 2]] ** 2).sum(axis=1))
    # what drags on the right (x > 0) while it goes to the front (z > 0) turns it about y with a positive sign
    assert turn * sign > 0.1


def test_each_point_keeps_its_own_gap():
    """A stiff sheet that lies on a table: one half stands as much higher as its gap is wider."""
    mesh = primitives.sheet(12, 12)
    points = mesh.points * np.array([0.2, 1.0, 0.2])
    gap = np.where(points[:, 0] < 0, 1e-3, 6e-3)
    sheet = make_shell(mesh, (0.2, 1.0, 0.2), (0.0, 0.108, 0.0), replace(CANVAS, bend=1e-4), Touch(gap, 0.5))
    table = make_block_collider((0.4, 0.2, 0.4), (0.0, 0.0, 0.0))
    stepper = run(RunSpec([sheet], [table], ground=None), 40)
    height = stepper.skin()[:, 1] - 0.1
    left, right = height[points[:, 0] < -0.06], height[points[:, 0] > 0.06]
    assert left.min() > 2e-4 and left.max() < 1.2e-3
    assert right.min() > 2e-3 and right.max() < 6.5e-3
    assert own_crossings(stepper) == 0


@pytest.mark.parametrize("backing", [None, 1e5])
def test_pressure_on_one_half_is_carried_as_its_weight_would_be(backing):
    """A held blank under pressure by a map: what presses on the upper side of each half bulges it alike."""
    mesh = primitives.sphere(20, 10)
    sphere = make_shell(mesh, (0.2, 0.2, 0.2), (0.0, 0.5, 0.0), replace(CANVAS, wobble_halves=0.05),
                        held=lambda p: np.abs(p[:, 1]) < 0.01)
    upper = np.where(mesh.points[:, 1] > 0.0, 1.5, 0.5)
    rise = []
    for spread in (None, upper):
        inflation = Inflation(200.0, backing=backing, spread=spread)
        stepper = run(RunSpec([replace(sphere, inflation=inflation)], [], ground=None, gravity=0.0), 30)
        way = (stepper.skin() - stepper.world.skin.points)[:, 1]
        rise.append((way.max(), -way.min()))
    assert rise[0][0] == pytest.approx(rise[0][1], rel=0.02)
    assert rise[1][0] > 1.25 * rise[0][0] and rise[1][1] < 0.75 * rise[0][1]


def test_even_pressure_by_a_map_is_even_pressure():
    mesh = primitives.sphere(16, 8)
    sphere = make_shell(mesh, (0.2, 0.2, 0.2), (0.0, 0.5, 0.0))
    ends = [run(RunSpec([replace(sphere, inflation=Inflation(100.0, spread=spread))], []), 6).state.x
            for spread in (None, np.ones(len(mesh.points)))]
    assert np.abs(ends[0] - ends[1]).max() < 1e-9


def test_what_is_drawn_as_a_whole_comes_back_to_its_place_and_its_turn_and_may_wobble():
    ball = make_solid(primitives.block((4, 4, 4)), (0.1, 0.06, 0.1), 3, (0.0, 0.5, 0.0), replace(JELLY, stiffness=2e4))
    world = World(RunSpec([ball], []))
    goal = Goal(world.start.copy(), np.full(len(world.start), 1e5) * world.share, "whole", np.log(2.0) / 0.15)
    stepper = Stepper(RunSpec([replace(ball, goal=goal)], [], ground=None, gravity=0.0))
    angle = 0.7
    turn = np.array([[np.cos(angle), 0, np.sin(angle)], [0, 1, 0], [-np.sin(angle), 0, np.cos(angle)]])
    stepper.state.x[:] = (world.start - [0.0, 0.5, 0.0]) @ turn.T + [0.02, 0.5, 0.0]
    start = stepper.state.x.copy()
    for _ in range(48):
        stepper.frame()
    left = np.abs(stepper.state.x - world.start).max() / np.abs(start - world.start).max()
    assert left < 0.02
    assert np.abs(stepper.state.x - world.start).max() < 1e-3


@pytest.mark.parametrize("grown", [0.8, 1.25])
def test_what_grows_comes_to_its_size_and_keeps_its_mass(grown):
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.5, 0.0),
                      replace(JELLY, wobble_halves=0.05, grown=grown))
    stepper = run(RunSpec([ball], [], ground=None, gravity=0.0), 24)
    assert stepper.world.mass.sum() == pytest.approx(World(RunSpec([replace(ball, material=JELLY)], [])).mass.sum())
    assert np.ptp(stepper.skin(), axis=0) == pytest.approx(grown * np.ptp(stepper.world.skin.points, axis=0), rel=2e-3)


def test_what_grows_on_one_side_only_bends():
    mesh, quiet = primitives.block((8, 2, 2)), replace(JELLY, wobble_halves=0.05)
    bar = make_solid(mesh, (0.2, 0.04, 0.04), 3, (0.0, 0.5, 0.0), quiet)
    grown = np.where(bar.lattice.nodes[:, 1] > 0.0, 1.1, 1.0)
    bent = replace(bar, material=replace(quiet, grown=grown))
    skin = run(RunSpec([bent], [], ground=None, gravity=0.0), 30).skin()
    assert skin[np.abs(mesh.points[:, 0]) > 0.4, 1].mean() < skin[:, 1].mean() - 0.003
