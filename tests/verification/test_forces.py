"""Forces of the scene against what is known of falling plates, orbits and air."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bodies import CANVAS, JELLY, make_block_collider, make_shell, make_solid
from rubberquince.document.scene import RunSettings
from rubberquince.kernels.air import DENSITY, FACE
from rubberquince.shapes import primitives
from rubberquince.solver import fields
from rubberquince.solver.forces import TUG_PITCH
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import QUALITIES, ForceSpec, RigidMaterial, RigidSpec, RunSpec, Touch
from rubberquince.solver.state import ASLEEP
from rubberquince.solver.stepper import Stepper

UP = np.array([0.0, 1.0, 0.0])
FILM = replace(CANVAS, density=0.06, stretch=800.0)
ALL = np.ones(1, bool)


def force(kind, strength, axis=UP, place=(0.0, 0.5, 0.0), **more):
    return ForceSpec(kind, more.pop("bodies", ALL), np.array(place), np.array(axis, float), strength, **more)


def run(body, forces, frames, each=lambda s, k: None, gravity=0.0, quality=None, at=None):
    spec = RunSpec([body], [], ground=None, gravity=gravity, forces=forces)
    stepper = Stepper(spec)
    if at is not None:
        stepper.state.v[:] = at
    for k in range(frames):
        stepper.frame(k / 24)
        each(stepper, k)
    return stepper


def middle(stepper):
    mass = stepper.world.mass
    return mass @ stepper.state.x / mass.sum(), mass @ stepper.state.v / mass.sum()


@pytest.mark.parametrize("air", [0.0, 0.5])
@pytest.mark.parametrize("across", [4, 12])
def test_a_flat_sheet_falls_with_its_terminal_speed_however_fine(across, air):
    """ρ/2 C v² = σ g, in air that rises by so much less."""
    sheet = make_shell(primitives.sheet(across, across), (0.3, 1.0, 0.3), (0.0, 5.0, 0.0), FILM)
    still = force("wind", air if air else 1e-9)
    stepper = run(sheet, [still], 36, gravity=9.81)
    terminal = np.sqrt(2.0 * 0.06 * 9.81 / (DENSITY * FACE))
    assert -middle(stepper)[1][1] == pytest.approx(terminal - air, rel=0.02)


def test_a_puller_rides_on_what_moves_and_turns_with_it():
    """Seen from a body that flies and spins, what it draws to its side goes as from one that rests (Galilei 1638)."""
    away = np.array([0.3, 0.0, 0.0])
    ball, block = primitives.sphere(12, 6), primitives.block((2, 2, 2))

    def way(speed, spin):
        bodies = [RigidSpec(mesh.points * 0.1, mesh.triangles, np.eye(3), at, RigidMaterial(300.0), Touch(1e-3, 0.3))
                  for mesh, at in ((block, 0.5 * UP), (ball, 0.5 * UP + away))]
        puller = ForceSpec("puller", np.array([False, True]), 0.5 * UP, UP, 4.0, soft=0.2, rides=0)
        stepper = IslandStepper(RunSpec(bodies, [], ground=None, gravity=0.0, forces=[puller]))
        stepper.state.v[:] = speed
        mine = stepper.world.node_body == 0
        stepper.state.v[mine] += np.cross(spin * UP, stepper.state.x[mine] - 0.5 * UP)
        seen = []
        for frame in range(6):
            stepper.frame(frame / 24)
            middles = [stepper.state.x[stepper.world.node_body == k].mean(axis=0) for k in (0, 1)]
            seen.append(middles[1] - middles[0])
        side = replace(puller, place=0.5 * UP + away, axis=away / 0.3)
        return np.array(seen), stepper._forces.where_it_rides(side, stepper.state.x)

    still, there = way(np.zeros(3), 0.0)
    flying, turned = way(np.array([2.0, 1.0, -1.0]), 4.0)
    assert still[-1][0] < 0.25 and flying == pytest.approx(still, abs=1e-4)
    assert there.axis == pytest.approx([1.0, 0.0, 0.0], abs=1e-6)
    assert turned.axis == pytest.approx([np.cos(1.0), 0.0, -np.sin(1.0)], abs=5e-3)
    middle = 0.5 * UP + np.array([2.0, 1.0, -1.0]) / 4.0
    assert turned.place == pytest.approx(middle + 0.3 * turned.axis, abs=2e-3)


def test_what_flies_is_sped_up_as_newton_says():
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 1.0, 0.0), JELLY)
    far = force("puller", 3.0, place=(1000.0, 1.0, 0.0))
    stepper = run(ball, [far], 12)
    place, speed = middle(stepper)
    assert place[0] == pytest.approx(0.5 * 3.0 * 0.25, rel=1e-3) and speed[0] == pytest.approx(1.5, rel=1e-3)
    assert abs(place[1] - 1.0) < 1e-4


def test_gravity_that_leans_pulls_that_way_and_wakes_what_sleeps():
    down = RunSettings(lean=40.0, toward=90.0).pulls()
    assert down == pytest.approx([0.0, -np.cos(np.radians(40.0)), -np.sin(np.radians(40.0))])
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 1.0, 0.0), JELLY)
    stepper = IslandStepper(RunSpec([ball], [], ground=None, pulls=down, quality=QUALITIES["draft"]))
    for _ in range(12):
        stepper.frame()
    assert stepper.world.mass @ stepper.state.v / stepper.world.mass.sum() == pytest.approx(0.5 * 9.81 * down, rel=1e-3)
    stepper.state = replace(stepper.state, v=0.0 * stepper.state.v, idle=np.full(1, ASLEEP))
    stepper.frame()
    assert not stepper.state.v.any()
    stepper.set_gravity(9.81)
    stepper.frame()
    assert stepper.state.v[:, 1].max() < -0.3 and abs(stepper.state.v[:, 2]).max() < 1e-3


@pytest.mark.parametrize("speed", [1.0, 1.4])
def test_a_body_circles_a_puller_or_goes_round_it_in_an_oval(speed):
    """Within its soft range it draws as a spring, S r / soft: every orbit is an ellipse with one period."""
    ball = make_solid(primitives.sphere(12, 6), (0.02, 0.02, 0.02), 3, (0.2, 0.5, 0.0), JELLY)
    puller, pitch = force("puller", 20.0, soft=0.8), np.sqrt(20.0 / 0.8)
    places = []
    run(ball, [puller], 30, lambda s, k: places.append(middle(s)[0]), at=(0.0, 0.0, speed * pitch * 0.2))
    time = np.arange(1, 31) / 24
    assert np.array(places)[:, 0] == pytest.approx(0.2 * np.cos(pitch * time), abs=0.006)
    assert np.array(places)[:, 2] == pytest.approx(speed * 0.2 * np.sin(pitch * time), abs=0.008)


def test_a_line_draws_only_across_itself_and_a_rest_distance_is_kept():
    ball = make_solid(primitives.sphere(12, 6), (0.02, 0.02, 0.02), 3, (0.3, 0.7, 0.0), JELLY)
    stepper = run(ball, [force("puller", 10.0, about="line", rest=0.1, limit=0.5),
                         force("wind", 1e-9)], 48)
    place, speed = middle(stepper)
    assert place[1] == pytest.approx(0.7, abs=1e-3)
    assert 0.05 < place[0] < 0.2 and np.linalg.norm(speed) < 0.6


def test_nothing_is_drawn_faster_than_the_limit():
    ball = make_solid(primitives.sphere(12, 6), (0.02, 0.02, 0.02), 3, (2.0, 0.5, 0.0), JELLY)
    speeds = []
    run(ball, [force("puller", 30.0, limit=1.5)], 20, lambda s, k: speeds.append(-middle(s)[1][0]))
    assert max(speeds) <= 1.52 and speeds[-1] > 1.4


def test_a_vortex_takes_a_mote_round_and_up():
    mote = make_solid(primitives.sphere(12, 6), (0.02, 0.02, 0.02), 3, (0.15, 0.5, 0.0), replace(JELLY, density=2.0))
    whirl = force("vortex", 3.0, size=0.15, inflow=1.0, lift=0.8)
    places = []
    stepper = run(mote, [whirl], 36, lambda s, k: places.append(middle(s)[0]))
    angle = np.unwrap(np.arctan2(np.array(places)[:, 2], np.array(places)[:, 0]))
    assert abs(angle[-1] - angle[0]) > np.pi and middle(stepper)[0][1] > 0.62
    assert np.linalg.norm(middle(stepper)[1]) < 3.3


@given(st.integers(0, 1000), st.floats(0.02, 2.0))
@settings(max_examples=20, deadline=None)
def test_turbulent_air_flows_together_nowhere(seed, size):
    one = force("turbulence", 2.0, size=size, seed=seed)
    x = np.random.default_rng(seed).uniform(-1, 1, (200, 3))
    step = 1e-4 * size
    grown = sum((fields.air(one, x + step * e, 0.3)[:, k] - fields.air(one, x - step * e, 0.3)[:, k]) / (2 * step)
                for k, e in enumerate(np.eye(3)))
    assert np.abs(grown).max() <= 1e-3 * 2.0 / size
    assert 0.5 < np.sqrt((fields.air(one, x, 0.3) ** 2).sum(axis=1).mean()) / 2.0 < 2.0


@pytest.mark.parametrize("fade", ["even", "soft", "steep"])
def test_a_force_ends_at_its_reach_and_in_its_time(fade):
    one = force("wind", 2.0, reach=0.5, fade=fade, begins=1.0, ends=2.0, place=(0, 0, 0))
    x = np.outer(np.linspace(0, 1, 21), [1.0, 0, 0])
    there = fields.presence(one, x, 1.5)
    assert there[0] == 1.0 and not there[11:].any() and (np.diff(there) <= 0).all()
    assert not fields.presence(one, x, 0.9).any() and not fields.presence(one, x, 2.1).any()


def test_gusts_swing_about_the_wind_and_never_blow_back():
    one = force("wind", 2.0, gusts=0.6, period=0.5, seed=3)
    swing = np.array([fields.gust(one, t) for t in np.linspace(0, 60, 4000)])
    assert swing.mean() == pytest.approx(1.0, abs=0.1) and swing.std() > 0.3 and swing.min() >= 0.0


@pytest.mark.parametrize("strength", [-1e30, 300.0])
@pytest.mark.parametrize("kind", ["wind", "turbulence", "vortex", "puller"])
def test_forces_beyond_reason_stay_finite_and_tear_nothing(kind, strength):
    film = make_shell(primitives.sheet(6, 6), (0.2, 1.0, 0.2), (0.0, 0.5, 0.0), FILM, held=lambda p: p[:, 0] < -0.09)
    stepper = run(film, [force(kind, strength, axis=(0.6, 0.8, 0.0), size=0.05)], 4)
    assert np.isfinite(stepper.state.packed()).all()
    assert np.abs(stepper.state.x - stepper.world.start).max() < 1.0


def test_a_surface_draws_to_its_nearest_place_and_other_bodies_are_left_alone():
    balls = [make_solid(primitives.sphere(12, 6), (0.04, 0.04, 0.04), 3, (x, 0.5, 0.0), JELLY) for x in (0.3, -0.3)]
    wall = make_block_collider((0.1, 1.0, 1.0), (0.0, 0.5, 0.0))
    draws = force("puller", 8.0, about="piece", piece=2, limit=0.4, bodies=np.array([True, False]))
    stepper = Stepper(RunSpec(balls, [wall], ground=None, gravity=0.0, forces=[draws]))
    for k in range(36):
        stepper.frame(k / 24)
    x, body = stepper.state.x, stepper.world.node_body
    skin, piece = stepper.skin(), stepper.world.skin.piece[: stepper.world.skin.moving]
    assert skin[piece == 0, 0].min() == pytest.approx(0.05, abs=0.0015)
    assert np.abs(x[body == 1] - stepper.world.start[body == 1]).max() < 1e-9


def test_a_flag_in_gusts_goes_on_to_the_same_bits():
    flag = make_shell(primitives.sheet(8, 6), (0.3, 1.0, 0.2), (0.0, 0.5, 0.0), FILM, held=lambda p: p[:, 0] < -0.14)
    blows = [force("wind", 4.0, axis=(1, 0, 0), gusts=0.5), force("turbulence", 2.0, size=0.2, period=0.3)]
    spec = RunSpec([flag], [], forces=blows)
    whole, part = Stepper(spec), Stepper(spec)
    for k in range(8):
        whole.frame(k / 24)
    for k in range(5):
        part.frame(k / 24)
    rest = Stepper(spec)
    rest.restore(part.state.copy())
    for k in range(5, 8):
        rest.frame(k / 24)
    assert np.array_equal(rest.state.packed(), whole.state.packed())
    assert np.abs(whole.state.x - whole.world.start)[:, 1].max() > 0.01


@pytest.mark.parametrize("stiff", [3e4, 3e5])
def test_a_tug_draws_a_body_as_a_spring_that_is_damped_critically_and_gives_no_more_than_its_work(stiff):
    """x = d (1 - e^(-wt) (1 + wt)) of the whole body, and what it gains is no more than the work of the hand."""
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.5, 0.0), replace(JELLY, stiffness=stiff))
    stepper = Stepper(RunSpec([ball], [], ground=None, gravity=0.0))
    stepper.tug(0, np.array([0.05, 0.5, 0.0]), np.array([0.2, 0.5, 0.0]), begins=True)
    away, work, mass = [], 0.0, stepper.world.mass.sum()
    for k in range(24):
        before = middle(stepper)[0]
        stepper.frame(k / 24)
        work += stepper.tug_force * float(np.linalg.norm(middle(stepper)[0] - before))
        away.append(middle(stepper)[0][0])
    time, pitch = np.arange(1, 25) / 24, TUG_PITCH
    expected = 0.15 * (1.0 - np.exp(-pitch * time) * (1.0 + pitch * time))
    assert np.abs(np.array(away) - expected).max() < 0.02
    assert 0.5 * mass * (middle(stepper)[1] ** 2).sum() < work
    stepper.tug(0, np.zeros(3), None, begins=False)
    stepper.frame(1.0)
    assert stepper.tug_force == 0.0


def test_a_tug_beyond_reason_tears_nothing_and_a_held_body_stays():
    ball = make_solid(primitives.sphere(12, 6), (0.1, 0.1, 0.1), 3, (0.0, 0.5, 0.0), JELLY)
    held = make_solid(primitives.block((3, 3, 3)), (0.1, 0.1, 0.1), 3, (0.4, 0.5, 0.0), JELLY,
                      held=lambda p: p[:, 1] < 0.0)
    stepper = Stepper(RunSpec([ball, held], []))
    for k in range(6):
        stepper.tug(k % 2, stepper.state.x[0], np.array([1e6, -1e9, 0.0]), begins=True)
        stepper.frame(k / 24)
    assert np.isfinite(stepper.state.packed()).all()
    mine = stepper.world.free == 0.0
    assert np.array_equal(stepper.state.x[mine], stepper.world.start[mine])
