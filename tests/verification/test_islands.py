"""What rests is left alone until something comes, and nothing that anybody can see depends on that."""

from dataclasses import replace

import numpy as np
import pytest

from bodies import JELLY, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import QUALITIES, Dents, ForceSpec, LedSpec, RunSpec, SeamSpec, Touch
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

BOX = primitives.block((3, 3, 3))
CALM = replace(JELLY, stiffness=2e4, wobble_halves=0.03)


def cube(x, y=0.0508, material=CALM, size=0.1):
    return make_solid(BOX, (size,) * 3, 2, (x, y, 0.0), material)


def made(*bodies, stepper=IslandStepper, quality="draft", **more):
    return stepper(RunSpec(list(bodies), [], quality=QUALITIES[quality], **more))


def play(stepper, frames, first=0):
    for k in range(first, first + frames):
        stepper.frame(k / stepper.fps)


def asleep(stepper):
    return np.isinf(stepper.state.idle)


def nodes(stepper, body):
    return stepper.state.x[stepper.world.node_body == body]


@pytest.fixture(scope="module")
def sleeping():
    """Three cubes, far apart, all asleep; and at which frame they were."""
    stepper = made(cube(0.0), cube(0.5), cube(1.0))
    count = 0
    while not asleep(stepper).all():
        stepper.frame(count / 24.0)
        count += 1
        assert count < 60
    return stepper, stepper.state.packed(), count


@pytest.fixture
def rested(sleeping):
    stepper, packed, count = sleeping
    stepper.set_gravity(9.81)
    stepper.set_forces([])
    stepper.restore(State.unpacked(packed))
    return stepper, count


def test_what_sleeps_stands_on_the_ground_as_it_would_awake_and_costs_nothing(rested):
    stepper, count = rested
    awake = made(cube(0.0), cube(0.5), cube(1.0), stepper=Stepper)
    play(awake, count + 24)
    before = stepper.state.x
    play(stepper, 24, count)
    assert stepper.effort.newton == 0 and stepper.effort.linear == 0
    assert (stepper.state.x == before).all()
    assert np.abs(stepper.state.x - awake.state.x).max() < 1e-3 * 0.1
    assert stepper.deepest_contact() == pytest.approx(awake.deepest_contact(), abs=0.02)


def test_a_body_that_comes_down_wakes_what_it_lands_on_before_it_lands_and_nothing_else():
    ways = []
    for kind in (Stepper, IslandStepper):
        stepper = made(cube(0.0), cube(0.5), cube(1.0, size=0.2, y=0.1008), cube(0.0, 2.6, size=0.06), stepper=kind,
                       gravity=3.0)
        seen = []
        for k in range(40):
            stepper.frame(k / 24.0)
            seen.append((asleep(stepper).copy(), nodes(stepper, 0)[:, 1].max(), nodes(stepper, 3)[:, 1].mean()))
        ways.append(seen)
        assert own_crossings(stepper) == 0
    slept = np.array([row[0] for row in ways[1]])
    assert slept[26, :3].all() and not slept[:, 3].any()             # before it comes
    assert not slept[-1, 0] and slept[-1, 1:3].all()
    for k in (1, 2):                                                # as if all had been awake
        deepest = [min(row[k] for row in seen) for seen in ways]
        assert deepest[1] == pytest.approx(deepest[0], abs=2e-3)
        first = np.array([[row[k] for row in seen[:31]] for seen in ways])
        assert np.abs(first[0] - first[1]).max() < 3e-3


@pytest.mark.parametrize("frames", [3, 22])
def test_a_run_taken_up_again_has_the_same_bits_asleep_and_awake(frames, rested):
    specs = cube(0.0), cube(0.5), cube(1.0, size=0.2, y=0.1008), cube(0.0, 5.0, size=0.06)
    whole, again = made(*specs), made(*specs)
    play(whole, frames)
    kept = whole.state.packed()
    play(whole, 8, frames)
    again.restore(State.unpacked(kept))
    play(again, 8, frames)
    assert (whole.state.packed() == again.state.packed()).all()
    assert (whole.deepest_contact() == again.deepest_contact()).all()


def test_whatever_changes_wakes_all_and_what_is_set_to_what_it_was_does_not(rested):
    stepper, count = rested
    stepper.set_gravity(9.81)
    assert asleep(stepper).all()
    for change in (lambda: stepper.set_gravity(-5.0), lambda: stepper.set_weight(1, -1.0),
                   lambda: stepper.set_touch(0, Touch(5e-3, 0.5)),
                   lambda: stepper.set_material(2, replace(CALM, stiffness=500.0))):
        stepper.restore(replace(stepper.state, idle=np.full(3, np.inf)))
        change()
        assert not asleep(stepper).any()
    before = stepper.state.x
    play(stepper, 4, count)
    assert (stepper.state.x[:, 1] - before[:, 1]).max() > 1e-3
    for undo in (lambda: stepper.set_weight(1, 1.0), lambda: stepper.set_touch(0, Touch(1e-3, 0.5)),
                 lambda: stepper.set_material(2, CALM)):
        undo()


def test_a_puller_that_starts_wakes_what_it_acts_on_alone(rested):
    stepper, count = rested
    up = np.array([0.0, 1.0, 0.0])
    stepper.set_forces([ForceSpec("puller", np.array([False, True, False]), 3.0 * up, up, 30.0)])
    play(stepper, 6, count)
    assert list(asleep(stepper)) == [True, False, True]
    assert nodes(stepper, 1)[:, 1].min() > 0.1
    stepper.set_forces([])
    play(stepper, 120, count)
    assert asleep(stepper).all()


def test_a_tug_wakes_and_pulls(rested):
    stepper, count = rested
    for k in range(4):
        stepper.tug(0, np.array([0.05, 0.05, 0.0]), np.array([0.3, 0.3, 0.0]), begins=k == 0)
        stepper.frame((count + k) / 24.0)
    assert nodes(stepper, 0)[:, 0].mean() > 0.01
    stepper.tug(0, np.zeros(3), None, begins=False)


def test_a_floor_that_starts_to_sink_after_a_rest_takes_along_what_slept_on_it():
    def course(t):
        return np.eye(4)[:, 1:] * (1.0, 0.1, 1.0) + (0.0, -0.05 - 0.3 * max(t - 2.0, 0.0), 0.0)

    floor = LedSpec(BOX.points, BOX.triangles, Touch(1e-3, 0.5), course)
    stepper = made(cube(0.0), floor, ground=None)
    play(stepper, 44)
    assert asleep(stepper)[0]
    play(stepper, 20, 44)
    assert not asleep(stepper)[0]
    assert stepper.skin()[: len(BOX.points), 1].min() == pytest.approx(-0.3 * (64 / 24 - 2.0), abs=3e-3)


def test_what_is_sewn_is_one_island_and_waits_for_the_seam():
    sheet = SeamSpec(0, 1, np.array([[0, 0]]), 5.0, 1.5)
    stepper = made(cube(0.0), cube(0.5), seams=[sheet])
    play(stepper, 30)
    assert not asleep(stepper).any()


def test_nothing_sleeps_where_values_change_from_frame_to_frame_nor_before_it_has_fallen():
    stepper = made(cube(0.0), rests=False)
    play(stepper, 40)
    assert not asleep(stepper).any()
    thrown = made(cube(0.0, 3.0), gravity=0.5)
    play(thrown, 40)
    assert not asleep(thrown).any() and nodes(thrown, 0)[:, 1].mean() < 2.5


@pytest.mark.parametrize("fps", [1.0, 2.0, 240.0])
def test_at_any_frames_a_second_what_is_in_the_air_falls_before_it_sleeps(fps):
    stepper = made(cube(0.0, 0.3), fps=fps)
    play(stepper, max(round(0.5 * fps), 2))
    assert stepper.skin()[:, 1].min() < 0.02 and not asleep(stepper).any()
    stepper.frame()
    assert fps > 2.0 or stepper.skin()[:, 1].max() < 0.12


def test_what_flows_slowly_goes_on_flowing():
    wax = replace(CALM, dents=Dents(0.0, 20.0))
    one, two = (made(cube(0.0, material=wax), stepper=kind) for kind in (Stepper, IslandStepper))
    heights = []
    for k in range(72):
        one.frame(k / 24.0)
        two.frame(k / 24.0)
        heights.append((one.skin()[:, 1].max(), two.skin()[:, 1].max()))
    speed = 24.0 * (heights[-25][0] - heights[-1][0]) / 24.0 / 0.1
    assert 6e-4 < speed < 5e-3                              # slower than what else would count as still
    assert heights[-1][1] == pytest.approx(heights[-1][0], abs=2e-5)
