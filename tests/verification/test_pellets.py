"""Pellets: they fly, meet, pile up and rest, push skins, and none is lost."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from bodies import JELLY, make_shell, make_solid
from rubberquince.shapes import primitives
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import (
    QUALITIES,
    ColliderSpec,
    ForceSpec,
    LedSpec,
    PelletSpec,
    RigidMaterial,
    RunSpec,
    Touch,
)
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

BOX = primitives.block((4, 4, 4))


def pellets(points, radius=0.01, released=0.0, speed=(0.0, 0.0, 0.0), density=900.0, friction=0.3, **more):
    points = np.atleast_2d(np.asarray(points, float))
    count = len(points)
    return PelletSpec(points, np.broadcast_to(np.asarray(radius, float), count).copy(), RigidMaterial(density),
                      Touch(0.0, friction), np.broadcast_to(np.asarray(released, float), count).copy(), np.array(speed),
                      **more)


def heap(across, high, at, radius=0.01, seed=1):
    grid = np.stack(np.meshgrid(np.arange(across), np.arange(high), np.arange(across), indexing="ij"), axis=-1)
    points = grid.reshape(-1, 3) * 2.1 * radius
    jitter = np.random.default_rng(seed).normal(0.0, 0.02 * radius, points.shape)
    return points - points.mean(axis=0) + np.asarray(at) + jitter


def room(size, at=(0.0, 0.0, 0.0)):
    return ColliderSpec(BOX.points * np.asarray(size) + np.asarray(at), BOX.triangles, Touch(1e-3, 0.3))


def play(stepper, frames, first=0):
    for k in range(first, first + frames):
        stepper.frame(k / stepper.fps)


def nearest(x):
    return cKDTree(x).query(x, 2)[0][:, 1]


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_one_alone_flies_as_a_stone_and_each_is_let_go_in_its_frame(quality):
    waits = np.arange(10) / 24.0
    spec = pellets(np.column_stack([0.1 * np.arange(10), np.full(10, 2.0), np.zeros(10)]), released=waits,
                   speed=(0.0, 1.0, 0.5))
    stepper = Stepper(RunSpec([spec], [], ground=None, quality=QUALITIES[quality]))
    for k in range(12):
        stepper.frame(k / 24.0)
        flown = np.maximum((k + 1) / 24.0 - waits, 0.0)
        assert (np.abs(stepper.state.x[:, 2]) > 0.0).sum() == min(k + 1, 10)
        assert stepper.state.x[:, 1] == pytest.approx(2.0 + flown - 0.5 * 9.81 * flown ** 2, abs=1e-6)
        assert stepper.state.x[:, 2] == pytest.approx(0.5 * flown, abs=1e-6)


def test_after_its_life_each_is_back_where_it_waited_and_is_let_go_again_without_end():
    """A fountain: each flies a parabola, again and again, always eight are in the air; bits repeat when resumed."""
    waits = np.arange(12) / 24.0
    spec = pellets(np.column_stack([0.05 * np.arange(12), np.full(12, 1.0), np.zeros(12)]), released=waits,
                   speed=(0.0, 3.0, 0.0), life=8.0 / 24.0, again=0.5)
    stepper, states = IslandStepper(RunSpec([spec], [], ground=None, quality=QUALITIES["draft"])), []
    for k in range(40):
        stepper.frame(k / 24.0)
        states.append(stepper.state.copy())
        age = (k + 1) / 24.0 - waits
        age = np.where(age > 0.0, age % 0.5, 0.0)
        flies = (age > 1e-9) & (age <= 8.0 / 24.0 + 1e-9)
        high = np.where(flies, 1.0 + 3.0 * age - 0.5 * 9.81 * age ** 2, 1.0)
        assert stepper.state.x[:, 1] == pytest.approx(high, abs=1e-6), k
        assert k < 24 or flies.sum() == 8
    fresh = IslandStepper(stepper.world.spec)
    fresh.restore(states[20])
    for k in range(21, 40):
        fresh.frame(k / 24.0)
    assert np.array_equal(fresh.state.packed(), states[-1].packed())


def test_without_a_time_all_have_been_let_go():
    stepper = Stepper(RunSpec([pellets([(0.0, 1.0, 0.0)], released=5.0)], [], ground=None, quality=QUALITIES["draft"]))
    stepper.frame(0.0)
    assert stepper.state.x[0, 1] == 1.0
    stepper.frame()
    assert stepper.state.x[0, 1] < 1.0


def test_who_finds_its_place_taken_comes_back_when_that_is_free():
    """The place of one is under a slab that is led away after a second; the other goes back at once."""
    one = pellets([(0.0, 1.0, 0.0), (1.0, 1.0, 0.0)], life=0.25)
    def leaves(t):
        corners = np.concatenate([np.zeros((1, 3)), np.eye(3)])
        return corners + np.array([0.0 if 0.2 < t < 1.0 else 5.0, 1.0, 0.0])
    slab = LedSpec(BOX.points * 0.1, BOX.triangles, Touch(1e-3, 0.3), leaves)
    stepper = Stepper(RunSpec([one, slab], [], ground=None, quality=QUALITIES["draft"]))
    back = []
    for k in range(32):
        stepper.frame(k / 24.0)
        back.append((stepper.state.x[:2, 1] == 1.0).tolist())
    assert np.isfinite(stepper.state.packed()).all()
    assert back[7][1] and not back[8][0] and not back[20][0] and back[-1] == [True, True]


def test_a_pile_in_a_closed_box_keeps_them_all_apart_comes_to_rest_and_sleeps():
    inner = np.array([0.12, 0.3, 0.12])
    stepper = IslandStepper(RunSpec([pellets(heap(5, 6, (0.0, 0.16, 0.0)))], [room(inner, (0.0, 0.15, 0.0))],
                                    ground=None, quality=QUALITIES["draft"]))
    for k in range(90):
        stepper.frame(k / 24.0)
        x = stepper.state.x
        assert (np.abs(x - (0.0, 0.15, 0.0)) < inner / 2).all()
        assert nearest(x).min() > 0.8 * 0.02
    assert np.isinf(stepper.state.idle).all()
    assert 0.07 < x[:, 1].max() < 0.135                         # of balls packed at .62, and of six loose layers


def test_a_light_one_that_meets_a_heavy_one_passes_on_its_momentum():
    pair = pellets([(0.0, 0.0, 0.0), (0.1, 0.0, 0.0)], radius=(0.01, 0.02), speed=(0.0, 0.0, 0.0), friction=0.0)
    stepper = Stepper(RunSpec([pair], [], gravity=0.0, ground=None))
    mass = stepper.world.mass
    assert mass[1] == pytest.approx(8.0 * mass[0])
    v = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 0.0]])
    stepper.restore(replace(stepper.state, v=v))
    play(stepper, 12)
    assert mass @ stepper.state.v == pytest.approx(mass @ v, rel=0.02, abs=1e-9)
    assert stepper.state.v[1, 0] > 0.1 and stepper.state.v[0, 0] < stepper.state.v[1, 0] + 1e-6


def test_they_weigh_on_what_is_soft_and_stay_in_a_sack():
    bag = make_shell(primitives.sphere(20, 14), (0.2, 0.2, 0.2), (0.0, 0.3, 0.0), held=lambda p: p[:, 1] > 0.095)
    stepper = Stepper(RunSpec([bag, pellets(heap(4, 4, (0.0, 0.29, 0.0)), density=2500.0)], [],
                              quality=QUALITIES["draft"]))
    play(stepper, 20)
    skin = stepper.skin()
    sack, balls = skin[: bag.points.shape[0]], skin[bag.points.shape[0]:]
    assert sack[:, 1].min() < 0.19 and balls[:, 1].min() > sack[:, 1].min()
    lifted = sack.mean(axis=0)
    assert (np.linalg.norm(balls - lifted, axis=1) < 0.15).all()
    assert nearest(balls).min() > 0.8 * 0.02


def test_a_slab_sinks_under_them_and_bits_repeat():
    slab = make_solid(primitives.block((6, 2, 6)), (0.2, 0.04, 0.2), 2, (0.0, 0.0208, 0.0),
                      replace(JELLY, stiffness=2e4))
    one, two = (Stepper(RunSpec([slab, pellets(heap(3, 3, (0.0, 0.10, 0.0)), density=3000.0, released=0.1)], [],
                                quality=QUALITIES["draft"])) for _ in range(2))
    play(one, 9)
    kept = one.state.packed()
    play(one, 5, 9)
    two.restore(State.unpacked(kept))
    play(two, 5, 9)
    assert (one.state.packed() == two.state.packed()).all()
    top = one.skin()[: len(slab.triangles)][:, 1]
    assert np.isfinite(top).all() and one.state.x[one.world.node_body == 1, 1].min() > 0.02


@settings(max_examples=8, deadline=None)
@given(radius=st.sampled_from([1e-5, 1e-3, 2.0]), density=st.sampled_from([1.0, 3e4]),
       speed=st.sampled_from([0.0, -100.0]), gap=st.sampled_from([1.0, 0.2, 1e-3]))
def test_silly_sizes_speeds_and_overlaps_neither_explode_nor_fall_through(radius, density, speed, gap):
    points = np.array([(0.0, 3.0, 0.0), (2.0 * gap, 3.0, 0.3 * gap), (0.0, 3.0 + 2.0 * gap, 0.0)]) * radius
    stepper = Stepper(RunSpec([pellets(points, radius, density=density, speed=(0.0, speed, 0.0))], [],
                              quality=QUALITIES["draft"]))
    play(stepper, 8)
    assert np.isfinite(stepper.state.packed()).all()
    assert stepper.state.x[:, 1].min() > 0.0 and np.abs(stepper.state.x).max() < 60.0 + 8 / 24 * abs(speed)


def test_in_a_wind_from_below_a_light_one_hangs_at_its_terminal_speed():
    radius, density, up = 0.01, 20.0, 3.0
    spec = pellets([(0.0, 5.0, 0.0), (1.0, 5.0, 0.0)], radius, density=density)
    wind = ForceSpec("wind", np.array([True]), np.zeros(3), np.array([0.0, 1.0, 0.0]), up)
    stepper = Stepper(RunSpec([spec], [], ground=None, forces=[wind], quality=QUALITIES["draft"]))
    play(stepper, 60)
    weight = density * 4.0 / 3.0 * np.pi * radius ** 3 * 9.81
    falls = np.sqrt(weight / (0.5 * 1.2 * 0.47 * np.pi * radius ** 2))
    assert stepper.state.v[:, 1] == pytest.approx(up - falls, rel=1e-3)
