"""Rigid bodies against Euler's equations, rolling, billiards, and what they stand on."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from bodies import CANVAS, JELLY, make_block_collider, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver.carriers.rigid import equal_masses
from rubberquince.solver.specs import QUALITIES, RigidMaterial, RigidSpec, RunSpec, ShellMaterial, Touch
from rubberquince.solver.stepper import Stepper
from rubberquince.solver.world import World

WOOD = RigidMaterial(600.0)
BALL = primitives.sphere(24, 12)
BOX = primitives.block((2, 2, 2))


def rigid(mesh, size, at, material=WOOD, touch=None, rotation=None, **more):
    return RigidSpec(mesh.points * np.asarray(size), mesh.triangles, np.eye(3) if rotation is None else rotation,
                     np.asarray(at, float), material, touch or Touch(1e-3, 0.5), **more)


def momenta(stepper, body=0):
    mine = stepper.world.node_body == body
    mass, x, v = stepper.world.mass[mine], stepper.state.x[mine], stepper.state.v[mine]
    centre = mass @ x / mass.sum()
    return centre, mass @ v / mass.sum(), mass @ np.cross(x - centre, v)


def shape_kept(stepper, body=0):
    """By what part the four nodes of a body are nearer or farther than they were made."""
    mine = stepper.world.node_body == body
    now, rest = stepper.state.x[mine], stepper.world.start[mine]
    pairs = np.triu_indices(4, 1)
    lengths = [np.linalg.norm(p[pairs[0]] - p[pairs[1]], axis=1) for p in (now, rest)]
    return float(np.abs(lengths[0] / lengths[1] - 1.0).max())


@pytest.mark.parametrize("size", [(0.1, 0.1, 0.1), (0.3, 0.1, 0.05)])
def test_mass_and_moments_are_those_of_a_box(size):
    world = World(RunSpec([rigid(BOX, size, (0, 0, 0))], []))
    mass, (a, b, c) = WOOD.density * np.prod(size), size
    assert world.mass.sum() == pytest.approx(mass)
    r = world.start
    moments = [world.mass @ (r[:, i] ** 2 + r[:, j] ** 2) for i, j in ((1, 2), (2, 0), (0, 1))]
    assert moments == pytest.approx([mass / 12 * (b * b + c * c), mass / 12 * (c * c + a * a),
                                     mass / 12 * (a * a + b * b)], rel=1e-9)


@pytest.mark.parametrize("quality, friction", [("draft", 0.0), ("good", 0.3)])
def test_what_slides_fast_does_not_stumble_over_edges_in_the_plane_it_slides_on(quality, friction):
    """At 5 m/s down 40°: it hopped by 10 mm, or lost a tenth of its acceleration, where faces of the slab meet."""
    angle, touch, frames = np.radians(40.0), Touch(1e-3, friction), 28
    turn = Rotation.from_euler("z", -40.0, degrees=True).as_matrix()
    slab = make_block_collider((16.0, 0.4, 4.0), (0, 0, 0), turn, touch)
    box = rigid(primitives.block((4, 4, 4)), (0.1, 0.1, 0.1), turn @ (-6.0, 0.251, 0.0), touch=touch, rotation=turn)
    stepper, ways = Stepper(RunSpec([box], [slab], ground=None, quality=QUALITIES[quality])), []
    for _ in range(frames):
        stepper.frame()
        ways.append(momenta(stepper)[0] @ turn)
    ways, last = np.array(ways), np.arange(10) / 24
    assert np.ptp(ways[:, 1]) < 1e-4
    assert 2.0 * np.polyfit(last, ways[-10:, 0], 2)[0] == pytest.approx(
        9.81 * (np.sin(angle) - friction * np.cos(angle)), rel=0.02)


def test_the_centre_of_a_half_ball_is_three_eighths_up():
    half = primitives.sphere(96, 48)
    points = half.points.copy()
    points[:, 1] = np.maximum(points[:, 1], 0.0)
    nodes, volume = equal_masses(points, half.triangles)
    assert nodes.mean(axis=0) == pytest.approx([0, 3 / 16, 0], abs=2e-3)
    assert volume == pytest.approx(np.pi / 12, rel=5e-3)


def euler(moments, omega, time, step=1e-5):
    """ω in the body's frame, integrated finely (Euler 1758)."""
    omega = np.array(omega, float)
    for _ in range(round(time / step)):
        half = omega + 0.5 * step * _speeding(moments, omega)
        omega = omega + step * _speeding(moments, half)
    return omega


def _speeding(i, w):
    return np.array([(i[1] - i[2]) * w[1] * w[2] / i[0], (i[2] - i[0]) * w[2] * w[0] / i[1],
                     (i[0] - i[1]) * w[0] * w[1] / i[2]])


@pytest.mark.parametrize(("spin", "turns"), [((0.05, 8.0, 0.05), True), ((8.0, 0.1, 0.1), False),
                                             ((2.0, 3.0, 4.0), None)])
def test_a_free_box_spins_as_euler_says_and_tumbles_about_its_middle_axis(spin, turns):
    size = (0.3, 0.2, 0.1)
    stepper = Stepper(RunSpec([rigid(BOX, size, (0, 1, 0))], [], ground=None, gravity=0.0))
    world = stepper.world
    r = world.start - [0, 1, 0]
    stepper.state.v[:] = np.cross(spin, r)
    before, flipped, axis = momenta(stepper)[2], False, int(np.argmax(np.abs(spin)))
    energy = 0.5 * world.mass @ (stepper.state.v ** 2).sum(axis=1)
    for _ in range(62 if turns is not None else 36):
        stepper.frame()
        turn = (stepper.state.x - momenta(stepper)[0]).T @ np.linalg.pinv(r).T
        flipped |= turn[axis, axis] < -0.8
    after = momenta(stepper)[2]
    assert np.linalg.norm(after - before) < 1e-4 * np.linalg.norm(before)
    assert 0.5 * world.mass @ (stepper.state.v ** 2).sum(axis=1) == pytest.approx(energy, rel=1e-3)
    assert shape_kept(stepper) < 1e-3
    if turns is not None:
        assert flipped == turns
    else:
        moments = [world.mass @ (r[:, i] ** 2 + r[:, j] ** 2) for i, j in ((1, 2), (2, 0), (0, 1))]
        in_body = turn.T @ np.linalg.solve(turn @ np.diag(moments) @ turn.T, after)
        assert in_body == pytest.approx(euler(moments, spin, 1.5), abs=0.003 * np.linalg.norm(spin))


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_ball_rolls_down_a_slope_as_a_ball_does(quality):
    tilt = np.radians(12.0)
    down = np.array([[np.cos(tilt), np.sin(tilt), 0], [-np.sin(tilt), np.cos(tilt), 0], [0, 0, 1.0]])
    plank = make_block_collider((4.0, 0.1, 1.0), (0, 0, 0), touch=Touch(1e-3, 0.8))
    plank = replace(plank, points=plank.points @ down.T)
    start = down @ [-1.5, 0.05 + 0.05 + 0.0008, 0.0]
    ball = rigid(primitives.sphere(80, 40), (0.1, 0.1, 0.1), start, touch=Touch(1e-3, 0.8))
    stepper = Stepper(RunSpec([ball], [plank], ground=None, quality=QUALITIES[quality]))
    for _ in range(20):
        stepper.frame()
    speed = np.linalg.norm(momenta(stepper)[1])
    assert speed == pytest.approx(5 / 7 * 9.81 * np.sin(tilt) * 20 / 24, rel=0.02)


@pytest.mark.parametrize("divisions", [1, 12])
def test_a_box_slides_as_far_on_any_number_of_points(divisions):
    """Each point has friction of its own; together they have that of the weight, also where the box has just landed."""
    box = rigid(primitives.block((divisions,) * 3), (0.1, 0.1, 0.1), (0.0, 0.0511, 0.0), touch=Touch(1e-3, 0.3))
    stepper = Stepper(RunSpec([box], [], quality=QUALITIES["draft"]))
    stepper.state.v[:] = 1.5, 0.0, 0.0
    for _ in range(14):
        stepper.frame()
    assert momenta(stepper)[0][0] == pytest.approx(1.5 ** 2 / (2 * 0.3 * 9.81), rel=0.02)


@pytest.mark.parametrize(("divisions", "size", "tilt", "height", "speed", "friction"), [
    (8, (0.1, 0.1, 0.1), (0, 0, 0), 0.002, 0.0, 0.0), (8, (0.1, 0.1, 0.1), (8, 0, 5), 0.002, 1.5, 0.5),
    (1, (0.1, 0.1, 0.1), (30, 20, 40), 0.05, 1.5, 0.0), (4, (0.2, 0.02, 0.15), (30, 20, 40), 0.002, 1.5, 0.0)])
def test_what_falls_on_hard_ground_gains_no_energy(divisions, size, tilt, height, speed, friction):
    """A box set down from two millimetres hopped by as many centimetres, and one that slid leapt up by twenty."""
    mesh, turn = primitives.block((divisions,) * 3), Rotation.from_euler("xyz", tilt, degrees=True).as_matrix()
    low = (mesh.points * size @ turn.T)[:, 1].min()
    box = rigid(mesh, size, (0.0, height - low, 0.0), touch=Touch(1e-3, friction), rotation=turn)
    stepper, energies = Stepper(RunSpec([box], [], quality=QUALITIES["draft"])), []
    stepper.state.v[:] = speed, 0.0, 0.2 * speed
    mass = stepper.world.mass
    for _ in range(16):
        v = stepper.state.v
        energies.append((0.5 * mass @ (v ** 2).sum(axis=1) / 9.81 + mass @ stepper.state.x[:, 1]) / mass.sum())
        stepper.frame()
    assert max(energies) < energies[0] + 1e-3
    assert (energies - np.minimum.accumulate(energies)).max() < 4e-3       # m: part of it lies in the contact


@pytest.mark.parametrize(("bounce", "friction", "spin"), [(0.8, 0.3, 0.0), (0.5, 0.3, 40.0)])
def test_a_ball_thrown_aslant_goes_on_spinning(bounce, friction, spin):
    """An impulse J of its bounce lets friction take no more than μJ, and no more than ends its sliding."""
    ball = rigid(primitives.sphere(48, 24), (0.1, 0.1, 0.1), (0.0, 0.3, 0.0), touch=Touch(1e-3, friction, bounce))
    stepper = Stepper(RunSpec([ball], []))
    x, mass, r = stepper.state.x, stepper.world.mass, 0.05
    stepper.state.v[:] = np.array([2.0, 0.0, 0.0]) + np.cross([0.0, 0.0, spin], x - x.mean(axis=0))
    moment = mass @ ((x - x.mean(axis=0))[:, :2] ** 2).sum(axis=1) / mass.sum()
    for _ in range(8):
        stepper.frame()
    sliding = 2.0 + spin * r
    stops = min(friction * (1.0 + bounce) * np.sqrt(2 * 9.81 * 0.248), sliding / (1.0 + r * r / moment))
    _, speed, momentum = momenta(stepper)
    assert speed[0] == pytest.approx(2.0 - stops, abs=0.02)
    assert momentum[2] / (moment * mass.sum()) == pytest.approx(spin - stops * r / moment, abs=0.15 + 0.05 * spin)


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize(("tilt", "bounce"), [(30.0, 0.2), (30.0, 0.8), (60.0, 0.5)])
def test_a_rod_that_lands_on_its_end_is_turned_by_the_blow(quality, tilt, bounce):
    """J = (1 + e) v / (1/m + a²/I) at the corner, a beside the centre: as wholes, bodies would only be thrown back."""
    size, turn = np.array([0.3, 0.04, 0.04]), Rotation.from_euler("z", tilt, degrees=True).as_matrix()
    corners = BOX.points * size @ turn.T
    low, touch = corners[np.argmin(corners[:, 1])], Touch(1e-3, 0.0, bounce)
    rod = rigid(BOX, size, (0.0, 0.15 - low[1], 0.0), touch=touch, rotation=turn)
    stepper = Stepper(RunSpec([rod], [], quality=QUALITIES[quality], ground=touch))
    fall = np.sqrt(2 * 0.149 / 9.81)
    for _ in range(5):
        stepper.frame()
    mass, moment = stepper.world.mass.sum(), stepper.world.mass.sum() / 12 * (size[0] ** 2 + size[1] ** 2)
    blow = (1.0 + bounce) * 9.81 * fall / (1.0 / mass + low[0] ** 2 / moment)
    _, speed, momentum = momenta(stepper)
    assert momentum[2] / moment == pytest.approx(low[0] * blow / moment, rel=0.06 if quality == "draft" else 0.04)
    assert speed[1] == pytest.approx(blow / mass - 9.81 * 5 / 24, abs=0.08)


@pytest.mark.parametrize("quality", ["draft", "good", "sure"])
def test_a_blow_on_one_end_of_a_see_saw_throws_up_what_lies_on_the_other(quality):
    """What falls gives the plank its moment about the wedge: it is not the plank's centre that is struck."""
    plank = rigid(primitives.block((8, 1, 2)), (0.4, 0.02, 0.08), (0.0, 0.0625, 0.0), touch=Touch(1e-3, 0.6))
    light = rigid(BOX, (0.04, 0.04, 0.04), (-0.17, 0.0955, 0.0), RigidMaterial(300.0))
    heavy = rigid(BOX, (0.06, 0.06, 0.06), (0.17, 0.3, 0.0), RigidMaterial(2000.0))
    wedge = make_block_collider((0.02, 0.05, 0.08), (0.0, 0.025, 0.0))
    stepper, top, turns = Stepper(RunSpec([plank, light, heavy], [wedge], quality=QUALITIES[quality])), 0.0, []
    for _ in range(14):
        stepper.frame()
        top = max(top, momenta(stepper, 1)[0][1])
        turns.append(momenta(stepper, 0)[2][2])
    moment = stepper.world.mass[stepper.world.node_body == 0].sum() / 12 * (0.4 ** 2 + 0.02 ** 2)
    assert -13.0 < min(turns) / moment < -6.0           # rad/s; struck plastically it turns at 8.7
    assert 0.25 < top < 0.45                            # m; it lay at 0.09


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_rod_that_spins_strikes_a_ball_though_neither_centre_moves(quality):
    """J = (1 + e) ω a / (1/m + a²/I + 1/m of the ball)."""
    touch, mass = Touch(1e-3, 0.0, 0.7), (600 * 0.4 * 0.03 ** 2, 400 * 4 / 3 * np.pi * 0.04 ** 3)
    rod = rigid(primitives.block((10, 1, 1)), (0.4, 0.03, 0.03), (0.0, 0.0, 0.0), touch=touch)
    ball = rigid(BALL, (0.08, 0.08, 0.08), (0.15, 0.057, 0.0), RigidMaterial(400.0), touch)
    stepper = Stepper(RunSpec([rod, ball], [], quality=QUALITIES[quality], gravity=0.0, ground=None))
    mine = stepper.world.node_body == 0
    stepper.state.v[mine] = np.cross([0.0, 0.0, 12.0], stepper.state.x[mine])
    moved = [stepper.world.mass[:, None] * stepper.state.v]
    for _ in range(3):
        stepper.frame()
    moved.append(stepper.world.mass[:, None] * stepper.state.v)
    moment = mass[0] / 12 * (0.4 ** 2 + 0.03 ** 2)
    blow = 1.7 * 12.0 * 0.15 / (1 / mass[0] + 0.15 ** 2 / moment + 1 / mass[1])
    assert np.linalg.norm(momenta(stepper, 1)[1]) == pytest.approx(blow / mass[1], rel=0.03)
    assert momenta(stepper)[2][2] / moment == pytest.approx(12.0 - 0.15 * blow / moment, rel=0.06)
    assert moved[1].sum(axis=0) == pytest.approx(moved[0].sum(axis=0), abs=1e-6)


@pytest.mark.parametrize("apart", [4e-4, 3e-3])
@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_row_of_balls_passes_on_a_blow_to_the_last(quality, apart):
    touch = Touch(1e-4, 0.0, 1.0)
    balls = [rigid(BALL, (0.06,) * 3, (k * (0.06 + apart) - 0.1 * (k == 0), 0.0301, 0.0), touch=touch)
             for k in range(4)]
    stepper = Stepper(RunSpec(balls, [], quality=QUALITIES[quality], ground=Touch(1e-4, 0.0)))
    stepper.state.v[stepper.world.node_body == 0, 0] = 1.0
    for _ in range(6):
        stepper.frame()
    assert [momenta(stepper, k)[1][0] for k in range(4)] == pytest.approx([0.0, 0.0, 0.0, 1.0], abs=0.02)


@pytest.mark.parametrize("bounce", [0.0, 0.5, 0.95])
def test_a_heavy_ball_and_a_light_one_meet_as_in_billiards(bounce):
    touch = Touch(1e-3, 0.0, bounce)
    balls = [rigid(BALL, (0.1, 0.1, 0.1), (x, 0.5, 0.0), RigidMaterial(density), touch)
             for x, density in ((-0.1, 3000.0), (0.1, 300.0))]
    stepper = Stepper(RunSpec(balls, [], ground=None, gravity=0.0))
    mass = np.bincount(stepper.world.node_body, stepper.world.mass)
    stepper.state.v[stepper.world.node_body == 0, 0] = 1.0
    for _ in range(10):
        stepper.frame()
    speeds = [momenta(stepper, k)[1][0] for k in range(2)]
    assert mass @ speeds == pytest.approx(mass[0], rel=1e-6)
    middle = mass[0] / mass.sum()
    wanted = [middle - bounce * mass[1] / mass.sum(), middle + bounce * mass[0] / mass.sum()]
    assert speeds == pytest.approx(wanted, rel=0.03, abs=0.01)


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_pile_of_ten_stands_still(quality):
    pile = [rigid(BOX, (0.1, 0.06, 0.1), (0.003 * (k % 2), 0.031 + 0.061 * k, 0.0)) for k in range(10)]
    stepper = Stepper(RunSpec(pile, [], quality=QUALITIES[quality]))
    for _ in range(16):
        stepper.frame()
    top = stepper.state.x[stepper.world.node_body == 9][:, 1].mean()
    assert top == pytest.approx(0.03 + 0.06 * 9, abs=0.01)
    assert np.abs(stepper.state.v).max() < 0.02
    assert own_crossings(stepper) == 0
    assert max(shape_kept(stepper, k) for k in range(10)) < 2e-3


def test_a_ball_a_hundred_times_as_heavy_lies_on_its_support():
    light = rigid(BOX, (0.2, 0.05, 0.2), (0, 0.026, 0), RigidMaterial(50.0))
    heavy = rigid(BALL, (0.2, 0.2, 0.2), (0, 0.153, 0), RigidMaterial(2500.0))
    stepper = Stepper(RunSpec([light, heavy], []))
    mass = np.bincount(stepper.world.node_body, stepper.world.mass)
    assert mass[1] / mass[0] > 99.0
    for _ in range(24):
        stepper.frame()
    assert own_crossings(stepper) == 0 and np.abs(stepper.state.v).max() < 0.05
    assert stepper.skin()[: len(BOX.points), 1].max() < 0.053 and shape_kept(stepper, 0) < 0.02


def test_a_heavy_ball_hops_on_a_skin_that_is_held_at_its_rim():
    skin = make_shell(primitives.sheet(12, 12), (0.4, 1.0, 0.4), (0.0, 0.3, 0.0),
                      replace(CANVAS, along=0.97, across=0.97),
                      held=lambda p: np.abs(p[:, [0, 2]]).max(axis=1) > 0.199)
    ball = rigid(BALL, (0.08, 0.08, 0.08), (0.01, 0.5, 0.0))
    stepper, heights = Stepper(RunSpec([skin, ball], [], ground=None)), []
    for _ in range(30):
        stepper.frame()
        heights.append(momenta(stepper, 1)[0][1])
        assert own_crossings(stepper) == 0
    low = int(np.argmin(heights))
    assert heights[low] < 0.34 and max(heights[low:]) > heights[low] + 0.04


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_what_is_thrown_on_an_elastic_sheet_is_thrown_back(quality):
    """What swings on something soft does not rest on it, however little the two near each other."""
    skin = ShellMaterial(400.0, 0.3, 1e-4, 0.35, 0.0)
    sheet = make_shell(primitives.sheet(12, 12), (0.5, 1.0, 0.5), (0.0, 0.5, 0.0), skin,
                       held=lambda p: np.abs(p[:, [0, 2]]).max(axis=1) > 0.249)
    ball = rigid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), (0.0, 0.75, 0.0), RigidMaterial(900.0))
    stepper, heights = Stepper(RunSpec([sheet, ball], [], ground=None, quality=QUALITIES[quality])), []
    for _ in range(18):
        stepper.frame()
        heights.append(momenta(stepper, 1)[0][1])
    low = int(np.argmin(heights))
    assert heights[low] == pytest.approx(0.395, abs=0.01)
    assert 0.75 < np.sqrt((max(heights[low:]) - 0.55) / 0.2) < 0.96     # .956 at ten times the steps


def test_rigid_and_soft_take_each_others_momentum():
    soft = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (-0.08, 0.5, 0.01), replace(JELLY, stiffness=2e4))
    hard = rigid(BOX, (0.1, 0.1, 0.1), (0.08, 0.5, 0.0))
    stepper = Stepper(RunSpec([soft, hard], [], ground=None, gravity=0.0))
    stepper.state.v[stepper.world.node_body == 0, 0] = 1.5
    mass = stepper.world.mass
    before = mass @ stepper.state.v, mass @ np.cross(stepper.state.x, stepper.state.v)
    for _ in range(16):
        stepper.frame()
    after = mass @ stepper.state.v, mass @ np.cross(stepper.state.x, stepper.state.v)
    assert momenta(stepper, 1)[1][0] > 0.3
    assert after[0] == pytest.approx(before[0], abs=1e-5 * np.linalg.norm(before[0]))
    assert after[1] == pytest.approx(before[1], abs=0.02 * np.linalg.norm(before[1]))


@pytest.mark.parametrize("at", [(0.0, 20.0, 0.0)])
def test_a_stone_that_falls_far_keeps_its_shape_and_passes_nothing(at):
    stepper = Stepper(RunSpec([rigid(BOX, (0.1, 0.03, 0.1), at, RigidMaterial(2500.0), rotation=np.array(
        [[0.8, -0.6, 0], [0.6, 0.8, 0], [0, 0, 1.0]]))], []))
    for _ in range(60):
        stepper.frame()
        assert stepper.skin()[:, 1].min() > -1e-4 and shape_kept(stepper) < 0.02
