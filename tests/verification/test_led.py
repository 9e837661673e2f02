"""Known motion: what is led goes along its course within every step, and what it meets or carries follows."""

from dataclasses import replace

import numpy as np
import pytest

from bodies import JELLY, crossings, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import edges_of
from rubberquince.solver.specs import QUALITIES, Goal, LedSpec, RigidMaterial, RigidSpec, RunSpec, Touch
from rubberquince.solver.stepper import Stepper
from rubberquince.solver.world import World

FIRM = replace(JELLY, stiffness=5e4, wobble_halves=0.1)
BOX = primitives.block((4, 4, 4))


def frame_course(size, place, turn=lambda t: np.eye(3)):
    """Of the four corners of the frame of a unit mesh of ``size``, m, in time."""
    corners = np.concatenate([np.zeros((1, 3)), np.eye(3)]) * np.asarray(size)
    return lambda t: corners @ turn(t).T + np.asarray(place(t))


def led(size, place, turn=lambda t: np.eye(3), mesh=BOX, friction=0.6):
    return LedSpec(mesh.points, mesh.triangles, Touch(1e-3, friction), frame_course(size, place, turn))


def frames(stepper, count, each=lambda k: None):
    for k in range(count):
        stepper.frame(k / stepper.fps)
        each(k)


def about_z(angle):
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def mean(stepper, body):
    mine = stepper.world.node_body == body
    mass = stepper.world.mass[mine]
    return mass @ stepper.state.x[mine] / mass.sum(), mass @ stepper.state.v[mine] / mass.sum()


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("rigid", [True, False])
@pytest.mark.parametrize("share", [0.95, 1.05])
def test_on_a_tray_a_box_holds_to_the_limit_of_friction_and_slides_just_beyond_it(quality, rigid, share):
    """Slip of (a - friction g) t² / 2: it crept at 13 mm/s where it should hold, and slid half as far again."""
    friction, waits, size = 0.3, 0.2, np.array([0.06, 0.04, 0.06])
    pull, touch, place = share * friction * 9.81, Touch(1e-3, friction), np.array([0.0, 0.121, 0.0])
    tray = led((2.0, 0.1, 1.0), lambda t: (0.5 * pull * max(t - waits, 0.0) ** 2, 0.05, 0.0), friction=friction)
    box = RigidSpec(BOX.points * size, BOX.triangles, np.eye(3), place, RigidMaterial(800.0), touch) if rigid else \
        make_solid(BOX, size, 3, place, replace(FIRM, stiffness=1e6), touch)
    stepper, count = Stepper(RunSpec([tray, box], [], ground=None, quality=QUALITIES[quality])), 24
    frames(stepper, count)
    time = count / 24 - waits
    slip = 0.5 * pull * time * time - mean(stepper, 1)[0][0]
    assert slip == pytest.approx(0.5 * max(pull - friction * 9.81, 0.0) * time * time, rel=0.06, abs=8e-4)


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_box_goes_along_with_a_belt_that_friction_can_hold_and_lags_behind_one_it_cannot(quality):
    for pull, holds in ((2.0, True), (12.0, False)):
        box = make_solid(BOX, (0.1, 0.06, 0.1), 3, (0.0, 0.131, 0.0), FIRM, Touch(1e-3, 0.6))
        belt = led((1.0, 0.1, 1.0), lambda t, pull=pull: (0.5 * pull * t * t, 0.05, 0.0))
        stepper = Stepper(RunSpec([box, belt], [], ground=None, quality=QUALITIES[quality]))
        frames(stepper, 10)
        time = 10 / 24
        wanted = 0.5 * min(pull, 0.6 * 9.81) * time ** 2
        assert mean(stepper, 0)[0][0] == pytest.approx(wanted, rel=0.03 if holds else 0.08)
        assert own_crossings(stepper) == 0


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize(("pivot", "bounce"), [(0.0, 0.5), (0.0, 1.0), (-0.2, 0.5)])
def test_a_bat_that_turns_strikes_as_fast_as_it_goes_where_it_strikes(quality, pivot, bounce):
    turn, touch = lambda t: about_z(5.0 * t), Touch(1e-3, 0.0, bounce)
    place = lambda t: turn(t) @ [-pivot, 0.0, 0.0] + np.array([pivot, 0.0, 0.0])       # noqa: E731
    bat = replace(led((0.4, 0.02, 0.1), place, turn, friction=0.0), touch=touch)
    ball = primitives.sphere(32, 16)
    thrown = RigidSpec(0.05 * ball.points, ball.triangles, np.eye(3), np.array([0.15, 0.06, 0.0]), RigidMaterial(600.0),
                       touch)
    stepper = Stepper(RunSpec([thrown, bat], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    frames(stepper, 8)
    assert np.linalg.norm(mean(stepper, 0)[1]) == pytest.approx((1 + bounce) * 5.0 * (0.15 - pivot), rel=0.06)


def test_what_is_led_is_where_its_course_says_at_the_end_of_every_frame():
    turn = lambda t: about_z(3.0 * t)                       # noqa: E731
    tray = led((0.3, 0.02, 0.3), lambda t: (0.1 * np.sin(5 * t), 0.3, 0.0), turn)
    sheet = make_shell(primitives.sheet(8, 8), (0.2, 1.0, 0.2), (0.0, 0.5, 0.0), held=lambda p: p[:, 0] < -0.09)
    points = sheet.points
    sheet = replace(sheet, course=lambda t: points @ turn(-t).T + np.array([0.0, 0.5 + 0.05 * t, 0.0]))
    stepper = Stepper(RunSpec([sheet, tray], []))

    def look(k):
        since = (k + 1) / 24
        held = np.flatnonzero(points[:, 0] < -0.09)
        assert stepper.state.x[held] == pytest.approx(sheet.course(since)[held], abs=1e-12)
        corners = tray.course(since)
        expected = (1.0 - BOX.points.sum(axis=1))[:, None] * corners[0] + BOX.points @ corners[1:]
        assert stepper.skin()[len(points):] == pytest.approx(expected, abs=1e-12)
    frames(stepper, 12, look)


@pytest.mark.parametrize("ratio", [0.3, 0.7, 2.0])
def test_a_middle_that_follows_a_swinging_goal_swings_as_a_driven_pendulum(ratio):
    """x'' = ω² (a sin wt - x): from rest, a / (1 - r²) (sin wt - r sin ωt)."""
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.5, 0.0), replace(JELLY, stiffness=4e5))
    start = World(RunSpec([ball], [])).start
    share, pitch = World(RunSpec([ball], [])).share, 9.0
    goal = Goal(start.copy(), pitch ** 2 * JELLY.density * share, "middle",
                course=lambda t: start + np.array([0.02 * np.sin(ratio * pitch * t), 0.0, 0.0]))
    stepper, way = Stepper(RunSpec([replace(ball, goal=goal)], [], ground=None, gravity=0.0)), []
    frames(stepper, 40, lambda k: way.append(mean(stepper, 0)[0][0]))
    t = np.arange(1, 41) / 24
    expected = 0.02 / (1 - ratio ** 2) * (np.sin(ratio * pitch * t) - ratio * np.sin(pitch * t))
    assert np.abs(np.array(way) - expected).max() < 0.06 * np.abs(expected).max()


@pytest.mark.parametrize("damped", [0.0, 0.2])
def test_what_hangs_in_an_even_motion_hangs_as_at_rest(damped):
    """Galilei: damping counts against what leads, not against the room."""
    ends = []
    for speed in (0.0, 1.5):
        pole = make_solid(primitives.block((3, 8, 3)), (0.1, 0.3, 0.1), 3, (0.0, 0.5, 0.0),
                          replace(JELLY, stiffness=1e4, wobble_halves=damped), held=lambda p: p[:, 1] < -0.14)
        start = World(RunSpec([pole], [])).start
        drive = replace(pole, course=lambda t, start=start, speed=speed: start + np.array([speed * t, 0.0, 0.0]))
        stepper = Stepper(RunSpec([drive], [], ground=None))
        stepper.state.v[:, 0] = speed
        frames(stepper, 12)
        ends.append(stepper.state.x - np.array([speed * 0.5, 0.0, 0.0]))
    assert np.abs(ends[1] - ends[0]).max() < 0.02 * np.abs(ends[0] - start).max()


@pytest.mark.parametrize("speed, quality", [(4.0, "draft"), (40.0, "good")])
def test_a_ram_pushes_what_is_in_its_way_and_passes_nothing(speed, quality):
    ball = make_solid(primitives.sphere(20, 10), (0.1, 0.1, 0.1), 4, (0.0, 0.3, 0.0), FIRM)
    ram = led((0.05, 0.3, 0.3), lambda t: (-0.15 + min(speed * t, 0.4), 0.3, 0.0))
    stepper = Stepper(RunSpec([ball, ram], [], ground=None, gravity=0.0, quality=QUALITIES[quality]))

    def look(k):
        skin, x = stepper.world.skin, stepper.contacts.all_skins(stepper.state.x)
        edges = [edges_of(triangles) for triangles in skin.triangles]
        assert crossings(x, edges[0], skin.triangles[1]) + crossings(x, edges[1], skin.triangles[0]) == 0
        assert np.isfinite(stepper.state.x).all()
    frames(stepper, 20 if speed < 1.0 else 8, look)
    centre, now = mean(stepper, 0)
    assert centre[0] > 0.12 or now[0] > 0.5 * speed         # it was pushed along or thrown
    assert now[0] < 2.5 * speed                             # and no faster than an elastic wall would


def test_a_press_that_closes_on_a_body_stays_behind_and_says_how_far():
    cube = make_solid(BOX, (0.1, 0.1, 0.1), 3, (0.0, 0.0511, 0.0), FIRM)
    press = led((0.3, 0.05, 0.3), lambda t: (0.0, 0.14 - 0.4 * t, 0.0))
    stepper = Stepper(RunSpec([cube, press], []))

    def look(k):
        assert own_crossings(stepper) == 0 and np.isfinite(stepper.state.x).all()
    frames(stepper, 9, look)
    assert stepper.skin()[: len(BOX.points), 1].max() < 0.06        # squashed
    frames(stepper, 4, look)
    stepper.frame(13 / 24)
    assert stepper.behind()[1] > 0.01 and stepper.behind()[0] == 0.0


def test_what_was_kept_from_its_course_does_not_leap_after_it():
    tray = led((0.3, 0.05, 0.3), lambda t: (0.6 * t, 0.14, 0.0))
    stepper = Stepper(RunSpec([tray], [], ground=None))
    stepper.frame(0.0)
    stepper.restore(replace(stepper.state, x=stepper.state.x - np.array([0.02, 0.0, 0.0])))
    lags, places = [stepper.behind()[0]], [stepper.state.x[0, 0]]
    for k in range(1, 20):
        stepper.frame(k / stepper.fps)
        lags.append(stepper.behind()[0])
        places.append(stepper.state.x[0, 0])
    assert np.allclose(np.diff(lags) / lags[:-1], np.exp(-1.0 / (0.1 * stepper.fps)) - 1.0, atol=1e-6)
    assert lags[-1] < 1e-5
    assert np.diff(places).max() < 0.6 / stepper.fps + 0.35 * 0.02


@pytest.mark.parametrize("quality", ["draft", "good", "sure"])
def test_a_swinging_tray_carries_a_hanging_bob_as_its_pendulum(quality):
    """A stiff rod with a heavy end that hangs from a led pin swings like the pendulum of its moments."""
    length, width = 0.4, 0.04
    rod = make_solid(primitives.block((3, 12, 3)), (width, length, width), 3, (0.0, 1.0, 0.0),
                     replace(JELLY, stiffness=1e6, wobble_halves=0.0),
                     held=lambda p: (p[:, 1] > length / 2 - 1e-6) & (np.abs(p[:, 0]) < 1e-6))
    world = World(RunSpec([rod], []))
    start, share = world.start, world.mass / world.mass.sum()
    drive = lambda t: 0.02 * (1.0 - np.cos(3.0 * t))                # noqa: E731
    rod = replace(rod, course=lambda t: start + np.array([drive(t), 0.0, 0.0]))
    pin = start[world.free == 0.0].mean(axis=0)
    arm, inertia = pin[1] - share @ start[:, 1], share @ ((start - pin)[:, :2] ** 2).sum(axis=1)
    stepper, angle = Stepper(RunSpec([rod], [], ground=None, quality=QUALITIES[quality])), []
    frames(stepper, 18, lambda k: angle.append((mean(stepper, 0)[0][0] - drive((k + 1) / 24)) / arm))
    # I θ'' = -m g l θ - m l x'' about the pin, integrated finely
    theta, omega, h, told = 0.0, 0.0, 1e-4, []
    for k in range(15_000):
        omega += h * (-9.81 * arm * np.sin(theta) - arm * 0.18 * np.cos(3.0 * k * h)) / inertia
        theta += h * omega
        told.append(theta)
    wanted = np.array([told[min(round((k + 1) / 24 / h), len(told)) - 1] for k in range(18)])
    assert np.abs(np.array(angle) - wanted).max() < 0.12 * np.abs(wanted).max()


def test_a_led_run_goes_on_to_the_same_bits():
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.16, 0.0), JELLY)
    tray = led((0.4, 0.1, 0.4), lambda t: (0.0, 0.05, 0.0), lambda t: about_z(0.3 * np.sin(4 * t)))
    spec = RunSpec([ball, tray], [])
    whole = Stepper(spec)
    frames(whole, 10)
    again = Stepper(spec)
    frames(again, 6)
    resumed = Stepper(spec)
    resumed.restore(again.state.copy())
    for k in range(6, 10):
        resumed.frame(k / 24)
    assert np.array_equal(resumed.state.packed(), whole.state.packed())


def test_limp_flesh_that_a_bat_crushes_does_not_cross_itself():
    """It is struck faster than its waves go: its skin folds within a step, by moves that are small each."""
    bat = led((0.3, 0.1, 0.1), lambda t: (-0.6 + 6.0 * t, 0.1, 0.0))
    ball = make_solid(primitives.sphere(24, 12), (0.12, 0.12, 0.12), 5, (0.0, 0.1, 0.0))
    stepper = Stepper(RunSpec([bat, ball], [], quality=QUALITIES["draft"]))
    seen = []
    frames(stepper, 4, lambda k: seen.append(own_crossings(stepper)))
    assert seen == [0, 0, 0, 0] and mean(stepper, 1)[1][0] > 1.0
