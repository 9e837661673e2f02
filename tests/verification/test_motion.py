"""How bodies move in time: pitch, decay and rebound against answers that share no time stepping with the solver."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from bodies import CANVAS, JELLY, make_shell, make_solid, own_crossings
from rubberquince.kernels.contact import gap_energy
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.newton import Move
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
from rubberquince.solver.system import NO_PAIRS, ElasticSystem

GOOD, SURE = QUALITIES["good"], QUALITIES["sure"]
FOOT = 0.02                 # m, of the tower that is held
FIRM = 10.0                 # times the contact stiffness of the run: from here on a rebound changes by a hundredth


def tower(halves):
    """A standing block of jelly, held at its foot."""
    return make_solid(primitives.block((4, 8, 4)), (0.06, 0.14, 0.06), 4,
                      material=Material(6000.0, 0.42, 1000.0, halves), held=lambda nodes: nodes[:, 1] < -0.07 + FOOT)


def first_mode(stepper):
    """Frequency, Hz, and shape (n, 3) of the lowest mode, by inverse iteration."""
    world, system = stepper.world, ElasticSystem(stepper.world)
    ones, zeros, mass = np.ones(len(world.mass)), np.zeros(len(world.mass)), world.mass[:, None]
    system.prepare(world.start, ones, zeros)
    mode = world.free[:, None] * (world.start[:, 1:2] + 0.07) * np.array([1.0, 0.0, 0.3])
    for _ in range(40):
        load = mass * mode
        mode = system.solve(world.start, load, ones, zeros, NO_PAIRS, 1e-6)[0]
        square = np.vdot(mode, load) / np.vdot(mode, mass * mode)
        mode /= np.abs(mode).max()
    return np.sqrt(square) / (2 * np.pi), mode


def swing(halves, frames, quality="good"):
    """Part of the mode in the motion after every frame, and the mode's frequency."""
    stepper = Stepper(RunSpec([tower(halves)], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    frequency, mode = first_mode(stepper)
    stepper.state.v[:] = 0.02 * mode
    return part_of(stepper, mode, frames), frequency


def part_of(stepper, mode, frames):
    """How much of ``mode`` (n, 3) is in the motion after every frame."""
    weigh = stepper.world.mass[:, None] * mode / np.vdot(mode, stepper.world.mass[:, None] * mode)
    start, parts = stepper.state.x.copy(), []
    for _ in range(frames):
        stepper.frame()
        parts.append(np.vdot(weigh, stepper.state.x - start))
    return np.array(parts)


def fitted(parts, lowest=0.5, highest=11.5):
    """Frequency, Hz, and decay, 1/s, of the damped sine about some middle that is nearest to ``parts``."""
    time = (np.arange(len(parts)) + 1) / 24

    def left(guess):
        pitch, decay = guess
        waves = np.exp(-decay * time)[:, None] * np.stack(
            [np.cos(2 * np.pi * pitch * time), np.sin(2 * np.pi * pitch * time)], axis=1)
        waves = np.column_stack([waves, np.ones(len(time))])
        return parts - waves @ np.linalg.lstsq(waves, parts, rcond=None)[0]

    guesses = [(pitch, decay) for pitch in np.linspace(lowest, highest, 80) for decay in (0.3, 1.0, 2.0, 4.0, 8.0)]
    best = min(guesses, key=lambda guess: left(guess) @ left(guess))
    return least_squares(left, best, bounds=([0.8 * lowest, 0.0], [1.1 * highest, 60.0])).x


def test_a_wobble_has_the_pitch_of_the_body_and_hardly_fades_by_itself():
    parts, frequency = swing(0.0, 48)
    pitch, decay = fitted(parts, highest=3.0)
    np.testing.assert_allclose(pitch, frequency, rtol=0.015)
    assert decay <= 0.05


@pytest.mark.parametrize("quality, within", [("draft", 0.25), ("good", 0.1), ("sure", 0.1)])
@pytest.mark.parametrize("halves", [0.35])
def test_what_is_held_halves_its_wobble_in_the_time_it_was_told(quality, within, halves):
    parts, frequency = swing(halves, 40, quality)
    pitch, decay = fitted(parts, highest=3.0)
    np.testing.assert_allclose(np.log(2) / decay, halves, rtol=within)
    np.testing.assert_allclose(pitch, frequency, rtol=0.05)


@pytest.mark.parametrize("quality, within", [("draft", 0.25), ("good", 0.15)])
@pytest.mark.parametrize("halves", [0.35])
def test_so_does_what_is_free(quality, within, halves):
    size = np.array([0.1, 0.06, 0.14])
    brick = make_solid(primitives.block((4, 4, 4)), size, 5, (0, 0.3, 0), Material(6000.0, 0.42, 1000.0, halves))
    stepper = Stepper(RunSpec([brick], [], gravity=0.0, ground=None, quality=QUALITIES[quality]))
    mass, x = stepper.world.mass, stepper.state.x
    mode = (x - mass @ x / mass.sum()) * [0.3, 0.3, -1.0]
    stepper.state.v[:] = 0.2 * mode
    _, decay = fitted(part_of(stepper, mode, round(24 * min(1.5, 4 * halves + 0.3))), lowest=4.0)
    np.testing.assert_allclose(np.log(2) / decay, halves, rtol=within)


@pytest.mark.parametrize("quality, halves, size, stiffness", [
    ("draft", 0.35, (0.2, 0.06, 0.2), 8e3), ("draft", 1.0, (0.06, 0.14, 0.06), 3e4),
    ("good", 0.35, (0.06, 0.14, 0.06), 3e4)])
def test_so_does_what_stands_on_the_ground(quality, halves, size, stiffness):
    counts = (6, 3, 6) if size[1] < 0.1 else (4, 8, 4)
    block = make_solid(primitives.block(counts), size, 4, (0, size[1] / 2 + 9e-4, 0),
                       Material(stiffness, 0.42, 1000.0, 0.05), Touch(1e-3, 0.9))
    stepper = Stepper(RunSpec([block], [], ground=Touch(1e-3, 0.9), quality=QUALITIES[quality]))
    for _ in range(24):
        stepper.frame()
    stepper.set_material(0, Material(stiffness, 0.42, 1000.0, halves))
    height = np.maximum(stepper.state.x[:, 1], 0.0) / stepper.state.x[:, 1].max()
    stepper.state.v[:] = 0.15 * height[:, None] ** 1.5 * [1.0, 0.0, 0.0]
    lean = height[:, None] * [1.0, 0.0, 0.0]
    _, decay = fitted(part_of(stepper, lean, round(24 * min(1.5, 4 * halves + 0.5))))
    assert 0.6 < np.log(2) / decay / halves < 1.4


def explicit_fall(stepper, stiffness, seconds, step):
    """Heights of the centre at frames of 1/24 s, by symplectic Euler with the same energies (Hairer et al. 2006).

    The contact ``stiffness``, N/m, is so high that the fall does not depend on it.
    """
    world, system, skin = stepper.world, ElasticSystem(stepper.world), stepper.world.skin
    x, v = stepper.state.x.copy(), stepper.state.v.copy()
    slope, mass, heights = np.empty_like(x), world.mass[:, None], []
    every = round(1 / 24 / step)
    for k in range(round(seconds / step)):
        system.gradient(x, slope)
        y = np.einsum("pk,pk->p", skin.bind_weight, x[skin.bind_node, 1])
        for p in np.flatnonzero(y < world.gap[0]):
            push = gap_energy(y[p], world.gap[0], stiffness[p])[1]
            np.add.at(slope[:, 1], skin.bind_node[p], push * skin.bind_weight[p])
        v -= step * (slope / mass + np.array([0.0, 9.81, 0.0]))
        x += step * v
        if (k + 1) % every == 0:
            heights.append(world.mass @ x[:, 1] / world.mass.sum())
    return np.array(heights)


@pytest.mark.parametrize("speed, share, apart", [(1.2, 0.1, 8e-3), (1.5, 0.1, 0.014)])
def test_a_rebound_is_that_of_a_fine_explicit_run(speed, share, apart):
    ball = make_solid(primitives.sphere(20, 10), (0.1, 0.1, 0.1), 4, (0, 0.06, 0), Material(20e3, 0.42, 1000.0, 0.0),
                      Touch(1e-3, 0.0))
    stepper = Stepper(RunSpec([ball], [], quality=GOOD))
    stepper.state.v[:, 1] = -speed
    start = stepper.state.copy()
    heights = []
    for _ in range(6):
        stepper.frame()
        heights.append(stepper.world.mass @ stepper.state.x[:, 1] / stepper.world.mass.sum())
    other = Stepper(RunSpec([ball], [], quality=GOOD))
    other.restore(start)
    expected = explicit_fall(other, FIRM * stepper._firmness.contact, 6 / 24, 1 / 24 / 3200)
    top, low = expected.max(), 0.051                   # where it comes back to, and where it would touch
    assert top > low + 0.02
    np.testing.assert_allclose(np.sqrt((max(heights) - low) / (top - low)), 1.0, atol=share)
    assert np.sqrt(((heights - expected) ** 2).mean()) < apart


def test_a_ball_of_gas_comes_back_as_a_fine_explicit_run_says():
    """Its air gives way a hundred times less than it presses: the solver has to know how firm a gas is."""
    skin = ShellMaterial(2000.0, 1.0, 1e-6, 0.3, 0.0)
    ball = make_shell(primitives.sphere(12, 6), (0.2, 0.2, 0.2), (0, 0.111, 0), skin, Touch(1e-3, 0.0),
                      inflation=Inflation(1000.0, backing=101325.0))
    tops = []
    for quality in (GOOD, SURE):
        stepper = Stepper(RunSpec([ball], [], quality=quality, apart=[(0, 0)]))
        stepper.state.v[:, 1] = -2.4
        start, heights, cuts = stepper.state.copy(), [], 0
        for _ in range(6):
            cuts += stepper.frame().cuts
            heights.append(stepper.world.mass @ stepper.state.x[:, 1] / stepper.world.mass.sum())
        assert cuts <= 3
        tops.append(max(heights))
        if quality is GOOD:
            other = Stepper(stepper.world.spec)
            other.restore(start)
            expected = explicit_fall(other, FIRM * stepper._firmness.contact, 6 / 24, 1 / 24 / 3200).max()
    assert np.sqrt((np.array(tops) - 0.1) / (expected - 0.1)) == pytest.approx([1.0, 1.0], abs=0.05)


@pytest.mark.parametrize(("pressure", "density", "backing"),
                         [(500.0, 0.05, 1e5), (2000.0, 0.05, 1e5), (100.0, 0.03, 1e5), (500.0, 0.05, None)])
def test_a_light_balloon_comes_back_alike_at_any_quality(pressure, density, backing):
    """Its contact takes one to four steps at draft, which lost it half of its speed."""
    skin = ShellMaterial(500.0, 1.0, 1e-5, density, 0.3)
    balloon = make_shell(primitives.sphere(24, 12), (0.2, 0.2, 0.2), (0, 0.4, 0), skin,
                         inflation=Inflation(pressure, backing=backing))
    kept = []
    for quality in (*QUALITIES.values(), replace(SURE, substeps=64)):
        stepper, speeds = Stepper(RunSpec([balloon], [], quality=quality)), []
        for _ in range(8):
            stepper.frame()
            mass = stepper.world.mass
            height, speed = (mass @ of[:, 1] / mass.sum() for of in (stepper.state.x, stepper.state.v))
            speeds.append(np.copysign(np.sqrt(speed ** 2 + 2.0 * 9.81 * (height - 0.1)), speed))   # where it touches
        kept.append(max(speeds) / -min(speeds))
    assert kept[:3] == pytest.approx([kept[3]] * 3, rel=0.12)


def test_what_falls_on_a_light_balloon_presses_it_flat():
    """It is thrown back by what stands alone; a weight, by what is in it, as long as that takes."""
    skin = ShellMaterial(500.0, 1.0, 1e-5, 0.05, 0.3)
    balloon = make_shell(primitives.sphere(24, 12), (0.2, 0.2, 0.2), (0, 0.101, 0), skin,
                         inflation=Inflation(500.0, backing=1e5))
    mesh = primitives.block((2, 2, 2))
    weight = RigidSpec(0.1 * mesh.points, mesh.triangles, np.eye(3), np.array([0, 0.4, 0]), RigidMaterial(600.0),
                       Touch(1e-3, 0.5))
    lowest = {}
    for name in ("draft", "sure"):
        stepper, heights = Stepper(RunSpec([balloon, weight], [], quality=QUALITIES[name])), []
        for _ in range(10):
            stepper.frame()
            heights.append(stepper.state.x[stepper.world.node_body == 1, 1].mean())
        lowest[name] = min(heights)
    assert 0.07 < lowest["sure"] < 0.2
    assert lowest["draft"] == pytest.approx(lowest["sure"], abs=0.02)


@pytest.mark.parametrize(("mesh", "quality"), [(primitives.sphere(20, 12), SURE), (primitives.block((4, 4, 4)), GOOD)])
def test_what_is_slammed_flat_comes_back_whole(mesh, quality):
    """At ten metres a second a jelly of 4 kPa is squashed to a tenth; its skin must not pass through itself."""
    body = make_solid(mesh, (0.08, 0.08, 0.08), 4, (0.003, 0.06, 0.0))
    heights, volumes = [], []
    stepper = Stepper(RunSpec([body], [], quality=quality), tell=lambda _: heights.append(np.ptp(stepper.skin()[:, 1])))
    stepper.state.v[:, 1] = -10.0
    for _ in range(18):
        stepper.frame()
        volumes.append(volume(stepper.skin(), mesh.triangles) / volume(stepper.world.skin.points, mesh.triangles))
        assert own_crossings(stepper) == 0
    assert min(heights) < 0.04 and np.mean(volumes[-6:]) == pytest.approx(1.0, abs=0.1)


def thrown(fps, quality, speed=2.2, seconds=0.25):
    """Heights of the middle, m, and energies, J, of an undamped ball that is thrown on the ground, at all substeps."""
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0, 0.06, 0), Material(20e3, 0.42, 1000.0, 0.0),
                      Touch(1e-3, 0.3))
    stepper, heights, energies = Stepper(RunSpec([ball], [], fps=fps, quality=quality)), [], []
    stepper.state.v[:, 1] = -speed
    mass, substep = stepper.world.mass, stepper._substep

    def watched(*when):
        wrong = substep(*when)
        x, v = stepper.state.x, stepper.state.v
        heights.append(mass @ x[:, 1] / mass.sum())
        energies.append(0.5 * mass @ (v ** 2).sum(axis=1) + stepper.system.energy(x) + 9.81 * mass @ x[:, 1])
        return wrong
    stepper._substep = watched
    for _ in range(round(seconds * fps)):
        stepper.frame()
    return np.array(heights), np.array(energies)


@pytest.mark.parametrize("quality, within", [(QUALITIES["draft"], 0.15), (GOOD, 0.05)])
def test_a_ball_is_squashed_and_comes_back_alike_at_any_frames_a_second(quality, within):
    runs = [thrown(fps, quality)[0] for fps in (12.0, 24.0, 48.0, 120.0)]
    squash = np.array([0.051 - heights.min() for heights in runs])
    fast = np.sqrt([heights.max() - 0.051 for heights in runs])
    assert squash == pytest.approx(squash[-1], rel=within) and squash[-1] > 0.02
    assert fast == pytest.approx(fast[-1], rel=0.15)


@pytest.mark.parametrize("fps, quality", [(240.0, GOOD), (120.0, QUALITIES["sure"])])
def test_short_steps_get_no_energy_out_of_contact(fps, quality):
    """A ball squashed to half of its height shot to pieces at more frames a second."""
    _, energies = thrown(fps, quality)
    assert energies.max() < 1.03 * energies[0] and energies[-1] > 0.7 * energies[0]


def energy_of(stepper):
    """All energy but that of contact, J."""
    mass, state = stepper.world.mass * stepper.world.free, stepper.state
    return (0.5 * mass @ (state.v ** 2).sum(axis=1) + 9.81 * mass @ state.x[:, 1] + stepper.system.energy(state.x))


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_ball_comes_back_from_a_drumskin_no_higher_than_it_fell(quality):
    """At draft it came back 3 cm above from where it fell 10: a skin that is slack one moment and taut the next."""
    skin = make_shell(primitives.sheet(12, 12), (0.4, 1.0, 0.4), (0.0, 0.3, 0.0),
                      ShellMaterial(2000.0, 1.0, 1e-6, 0.3, 0.0),
                      held=lambda p: (abs(p[:, 0]) > 0.199) | (abs(p[:, 2]) > 0.199))
    ball = make_solid(primitives.sphere(20, 10), (0.1, 0.1, 0.1), 5, (0.02, 0.45, 0.0),
                      replace(JELLY, stiffness=2e4, wobble_halves=0.0))
    stepper = Stepper(RunSpec([skin, ball], [], quality=QUALITIES[quality]))
    mine, heights, energies = stepper.world.node_body == 1, [], []
    for _ in range(20):
        stepper.frame()
        heights.append(np.average(stepper.state.x[mine, 1], weights=stepper.world.mass[mine]))
        energies.append(energy_of(stepper))
    fell = energies[0] - 9.81 * (stepper.world.mass * stepper.world.free).sum() * 0.3
    assert np.diff(energies).max() < 0.01 * fell
    assert min(heights) < 0.27 and 0.405 < max(heights[heights.index(min(heights)):]) < 0.445


@pytest.mark.parametrize("at, turned, speed", [((0.0, 0.3, 0.0), (20.0, 10.0, 40.0), (2.0, -1.0, 0.0)),
                                               ((0.0, 0.2, 0.0), (80.0, 0.0, 10.0), (0.0, -3.0, 1.0))])
def test_a_pad_that_is_thrown_gets_no_energy(at, turned, speed):
    """It got a fifth of what it had in one frame."""
    pad = make_shell(primitives.cushion(10, 0.0), (0.3, 0.01, 0.3), at, replace(CANVAS, wobble_halves=0.0),
                     rotation=Rotation.from_euler("xyz", turned, degrees=True).as_matrix(),
                     inflation=Inflation(200.0, 1e-9))
    stepper = Stepper(RunSpec([pad], [], quality=QUALITIES["draft"]))
    stepper.state.v[:] = speed
    energies = []
    for _ in range(20):
        stepper.frame()
        energies.append(energy_of(stepper))
    assert np.diff(energies).max() < 0.02 * (energies[0] - min(energies))


@pytest.mark.parametrize("poisson, least", [(0.495, 0.99), (0.3, 0.0)])
def test_what_hardly_compresses_keeps_its_volume(poisson, least):
    block = make_solid(primitives.block((6, 6, 6)), (0.12, 0.12, 0.12), 5, (0, 0.061, 0),
                       Material(5000.0, poisson, 1000.0, 0.1))
    stepper = Stepper(RunSpec([block], [], quality=GOOD))
    whole = volume(stepper.skin(), block.triangles)
    for _ in range(30):
        stepper.frame()
    share = volume(stepper.skin(), block.triangles) / whole
    assert least < share < 1.001
    assert np.ptp(stepper.skin()[:, 1]) < 0.117            # it is pressed by its own weight
    if poisson < 0.4:
        assert share < 0.98                                # and what can be compressed is


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize(("stiffness", "mesh", "size", "tilt"), [
    (1e7, primitives.sphere(24, 12), (0.1, 0.1, 0.1), 0.0), (1e6, primitives.block((2, 2, 2)), (0.08, 0.08, 0.08), 0.0),
    (1e8, primitives.block((6, 2, 2)), (0.2, 0.05, 0.05), 30.0)])
def test_what_is_too_stiff_for_a_step_lands_without_a_leap(quality, stiffness, mesh, size, tilt):
    """Its impact is over within a step: a hard ball came back from four times the height, a bar with sixty energies."""
    turn, touch = Rotation.from_euler("z", tilt, degrees=True).as_matrix(), Touch(1e-3, 0.5)
    low = (mesh.points * size @ turn.T)[:, 1].min()
    firm = Material(stiffness, 0.35, 1000.0, 0.1)
    body = make_solid(mesh, size, 4, (0.0, 0.5 - low, 0.0), firm, touch, rotation=turn)
    stepper, energies = Stepper(RunSpec([body], [], quality=QUALITIES[quality])), []
    mass = stepper.world.mass
    for _ in range(24):
        x, v = stepper.state.x, stepper.state.v
        energies.append(mass @ (0.5 * (v ** 2).sum(axis=1) + 9.81 * x[:, 1]) + stepper.system.energy(x))
        stepper.frame()
    assert max(energies) < 1.01 * energies[0]


@pytest.mark.parametrize("quality", ["draft", "good", "sure"])
@pytest.mark.parametrize(("mesh", "turn"), [(primitives.sphere(24, 12), 0.0), (primitives.block((2, 2, 2)), 30.0)])
def test_and_comes_back_as_what_is_softer_does(quality, mesh, turn):
    """A ball of 100 kPa that takes 1 s to calm comes back to .737 of its height in steps of 60 us."""
    body = make_solid(mesh, (0.1, 0.1, 0.1), 3, (0.0, 0.55, 0.0), Material(1e8, 0.35, 1000.0, 1.0), Touch(1e-3, 0.5),
                      rotation=Rotation.from_euler("y", turn, degrees=True).as_matrix())
    stepper, heights = Stepper(RunSpec([body], [], quality=QUALITIES[quality])), []
    for _ in range(18):
        stepper.frame()
        heights.append(stepper.world.mass @ stepper.state.x[:, 1] / stepper.world.mass.sum() - 0.05)
    assert max(heights[8:]) == pytest.approx(0.737 * 0.5, rel=0.06)
    assert abs(stepper.world.mass @ stepper.state.v[:, 0]) / stepper.world.mass.sum() < 0.01


def test_what_is_damped_comes_back_less_and_on_what_is_soft_as_that_lets_it():
    """A contact takes as long as a wobble."""
    def back(halves, pad):
        ball = make_solid(primitives.sphere(24, 12), (0.06, 0.06, 0.06), 3, (0.0, 0.4, 0.0),
                          Material(1e7, 0.35, 1000.0, halves), Touch(1e-3, 0.5))
        under = make_solid(primitives.block((3, 2, 3)), (0.2, 0.1, 0.2), 3, (0.0, 0.05, 0.0),
                           Material(2e4, 0.35, 1000.0, 0.03), Touch(1e-3, 0.5))
        stepper = Stepper(RunSpec([ball, under][: 1 + pad], [], quality=QUALITIES["draft"]))
        share = stepper.world.mass * (stepper.world.node_body == 0)
        speeds = []
        for _ in range(12):
            stepper.frame()
            speeds.append(share @ stepper.state.v[:, 1] / share.sum())
        return max(speeds)

    calm, lively = back(0.001, False), back(1.0, False)
    assert lively > 2.0
    assert 0.2 < calm / lively < 0.5
    assert back(1.0, True) < 0.6 * lively


@pytest.mark.parametrize("turns, taken", [(-1.0, 2), (1.0, 10)])
def test_newton_steps_that_lead_back_end_and_those_that_lead_on_do_not(turns, taken, monkeypatch):
    """The choice of what touches swung between two guesses, in each of which the energy fell, without an end."""
    stepper = Stepper(RunSpec([make_solid(primitives.sphere(12, 6), (0.1, 0.1, 0.1), 3, (0.0, 1.0, 0.0))], []))
    newton, numbers = stepper._newton, []

    def swing(at, step, number):
        numbers.append(number)
        there = newton._place(at.x + 1e-3 * turns ** number, step)
        return Move(there, (np.zeros(0),), gained=1.0, limited=False, cut=False, short=False, done=False)

    step = stepper._plan(1.0 / 144.0, 0.0)
    start = newton.predict(step)
    monkeypatch.setattr(newton, "_newton", swing)
    assert newton.minimised(start, step, 0, 10).done == (taken < 10) and numbers == list(range(taken))
