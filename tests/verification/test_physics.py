"""The solver against analytic answers and an independent finite-element solution."""

from dataclasses import replace
from functools import cache

import numpy as np
import pytest
from scipy.sparse import coo_array
from scipy.sparse.linalg import spsolve
from scipy.spatial.transform import Rotation

from bodies import JELLY, make_block_collider, make_shell, make_solid
from rubberquince.shapes import primitives
from rubberquince.shapes.lattice import box_lattice
from rubberquince.shapes.polymesh import volume
from rubberquince.solver.specs import QUALITIES, Material, Quality, RunSpec, Touch
from rubberquince.solver.stepper import Stepper

TETS_OF_OCTAHEDRON = [(0, 1, 2, 3), (0, 1, 3, 4), (0, 1, 4, 5), (0, 1, 2, 5)]
GOOD = QUALITIES["good"]


def mean_velocity(stepper):
    mass = stepper.world.mass
    return mass @ stepper.state.v / mass.sum()


def linear_reference(solid, gravity):
    """Static displacement (n, 3) m of the same tetrahedra by linear elasticity with mean dilatation.

    Written from the textbook (Hughes 1980, B-bar), sharing nothing with the kernels but the cells.
    """
    lattice, material = solid.lattice, solid.material
    lam, mu = material.lame
    n = len(lattice.nodes)
    rows, columns, values = [], [], []
    for corner, fill, scale in zip(lattice.corner, lattice.fill, lattice.scale):
        stiff = np.zeros((18, 18))
        dilation, filled = np.zeros(18), 0.0
        for tet, part in zip(TETS_OF_OCTAHEDRON, fill):
            if part == 0.0:
                continue
            x = lattice.nodes[corner[list(tet)]]
            coefficients = np.linalg.inv(np.column_stack([np.ones(4), x]))
            weight = part * abs(np.linalg.det(np.column_stack([np.ones(4), x]))) / 6.0
            strain = np.zeros((6, 18))
            for local, (_, dx, dy, dz) in zip(tet, coefficients.T):
                at = slice(3 * local, 3 * local + 3)
                strain[:, at] = [[dx, 0, 0], [0, dy, 0], [0, 0, dz], [dy, dx, 0], [0, dz, dy], [dz, 0, dx]]
            stiff += weight * mu * strain.T @ np.diag([2, 2, 2, 1, 1, 1]) @ strain
            dilation += weight * strain[:3].sum(axis=0)
            filled += weight
        stiff += lam / filled * np.outer(dilation, dilation)
        used = np.repeat(corner >= 0, 3)
        index = (3 * np.maximum(corner, 0)[:, None] + np.arange(3)).reshape(-1)[used]
        rows.append(np.repeat(index, len(index)))
        columns.append(np.tile(index, len(index)))
        values.append((scale * stiff[np.ix_(used, used)]).reshape(-1))
    matrix = coo_array((np.concatenate(values), (np.concatenate(rows), np.concatenate(columns))),
                       shape=(3 * n, 3 * n)).tocsc()
    load = np.zeros((n, 3))
    load[:, 1] = -gravity * material.density * lattice.share
    free = np.repeat(~solid.held, 3)
    sag = np.zeros(3 * n)
    sag[free] = spsolve(matrix[free][:, free], load.reshape(-1)[free])
    return sag.reshape(-1, 3)


@cache
def sag_of_a_bar(poisson, hangs, stretching):
    material = replace(JELLY, stiffness=2e5, poisson=poisson, density=1000.0, wobble_halves=0.05)
    bar = make_solid(primitives.block((4, 12, 4)), (0.06, 0.18, 0.06), 3, (0.0, 0.5, 0.0), material,
                     held=lambda nodes: nodes[:, 1] * (1.0 if hangs else -1.0) > 0.0899)
    stepper = Stepper(RunSpec([replace(bar, stretching=stretching)], [], ground=None))
    for _ in range(14):
        stepper.frame()
    return np.abs(stepper.state.x[:, 1] - stepper.world.start[:, 1]).max()


@pytest.mark.parametrize("poisson", [0.25, 0.44])
@pytest.mark.parametrize("ratio", [3.0, 0.3])
def test_a_bar_that_resists_one_way_more_hangs_or_stands_stiffer_by_as_much(ratio, poisson):
    """ρ g L² / 2E of a bar, with the E of that way.  What keeps its volume is stretched aside when squeezed, too."""
    ways = (True, False) if ratio > 1.0 else (False, True)
    harder, other = (sag_of_a_bar(poisson, hangs, 1.0) / sag_of_a_bar(poisson, hangs, ratio) for hangs in ways)
    assert harder == pytest.approx(max(ratio, 1.0 / ratio), rel=0.1)
    assert 1.0 < other < (1.25 if poisson < 0.3 else 0.6 * harder)


@pytest.mark.parametrize("ratio", [0.1, 10.0])
def test_a_ball_of_extreme_resistances_falls_grows_and_comes_to_rest(ratio):
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.2, 0.0), replace(JELLY, wobble_halves=0.1))
    stepper = Stepper(RunSpec([replace(ball, stretching=ratio)], [], quality=QUALITIES["draft"]))
    for k in range(96):                # it rolls on to one of its facets first
        if k == 24:
            stepper.set_material(0, replace(ball.material, grown=1.3))
        stepper.frame(k / 24)
        assert np.isfinite(stepper.state.packed()).all()
    skin = stepper.skin()
    assert skin[:, 1].min() > 0.0 and np.ptp(skin[:, 0]) == pytest.approx(0.13, rel=0.15)
    assert np.abs(stepper.state.v).max() < 0.02


@pytest.mark.parametrize("substeps", [1, 8])
def test_static_sag_agrees_with_finite_elements_at_any_substep(substeps):
    solid = make_solid(primitives.block((10, 3, 3)), (0.2, 0.05, 0.05), 4,
                       material=Material(20000.0, 0.4, 1000.0, 0.1), held=lambda nodes: nodes[:, 0] < -0.09)
    gravity = 0.02                                        # small enough for the linear answer to hold
    expected = linear_reference(solid, gravity)
    stepper = Stepper(RunSpec([solid], [], gravity=gravity, ground=None,
                              quality=Quality(substeps, 2, 0.0, 1e-4)))
    for _ in range(60):
        stepper.frame()
    sag = stepper.state.x - stepper.world.start
    tip = expected[:, 1].argmin()
    assert expected[tip, 1] < -1e-5
    np.testing.assert_allclose(sag[tip, 1], expected[tip, 1], rtol=0.01)
    assert np.abs(sag - expected).max() < 0.01 * abs(expected[tip, 1])


@pytest.mark.parametrize("in_a_cage", [False, True])
def test_a_skin_of_eight_corners_stands_and_tumbles_as_a_fine_one(in_a_cage):
    """Between its corners it sank through the ground: its middle came to rest a quarter of a metre below."""
    def heights(divisions, at, size, turn, frames):
        mesh = primitives.block((divisions,) * 3)
        cube = make_solid(mesh, size, 5, at, JELLY, rotation=Rotation.from_euler("xyz", turn, degrees=True).as_matrix())
        if in_a_cage:
            cube = replace(cube, lattice=box_lattice(mesh.points * size, mesh.triangles, min(size) / 5))
        stepper = Stepper(RunSpec([cube], [], quality=GOOD))
        for frame in range(frames):
            stepper.frame(frame / 24)
            yield stepper.world.mass @ stepper.state.x[:, 1] / stepper.world.mass.sum()
        assert stepper.skin().shape == mesh.points.shape and stepper.skin()[:, 1].min() > 0.0

    stands = [list(heights(divisions, (0.0, 0.052, 0.0), (0.1,) * 3, (0.0, 0.0, 0.0), 24))[-1] for divisions in (1, 6)]
    assert 0.042 < stands[1] < 0.048 and stands[0] == pytest.approx(stands[1], abs=1e-3)
    if in_a_cage:
        return
    falls = [list(heights(divisions, (0.0, 0.15, 0.0), (0.1, 0.06, 0.08), (20.0, 10.0, 35.0), 9))
             for divisions in (1, 6)]
    assert min(falls[1]) < 0.03 and falls[0] == pytest.approx(falls[1], abs=8e-3)


def test_where_it_lies_and_which_way_it_faces_changes_nothing():
    tilt = Rotation.from_euler("xyz", [20, 10, 35], degrees=True).as_matrix()
    sheet = make_shell(primitives.sheet(6, 6), (0.2, 1.0, 0.2), (0.02, 0.34, 0.0), rotation=tilt)
    cube = make_solid(primitives.block((3, 3, 3)), (0.1, 0.06, 0.08), 3, (0.0, 0.16, 0.0), rotation=tilt)

    def middles(turn, shift):
        bodies = [replace(body, rotation=turn @ body.rotation, translation=turn @ body.translation + shift)
                  for body in (cube, sheet)]
        stepper = Stepper(RunSpec(bodies, []))
        for frame in range(6):
            stepper.frame(frame / 24)
        return [turn.T @ (stepper.state.x[stepper.world.node_body == k].mean(axis=0) - shift) for k in (0, 1)]

    here = middles(np.eye(3), np.zeros(3))
    assert here[0][1] < 0.1
    about = Rotation.from_euler("y", 37, degrees=True).as_matrix()
    for turn, shift in ((np.eye(3), np.array([300.0, 0.0, -700.0])), (about, np.zeros(3))):
        away = np.abs(np.array(middles(turn, shift)) - here).max(axis=1)
        assert away[0] < 2e-3 and away[1] < 6e-3        # the sheet has just landed, which rounding changes more


def test_free_fall_is_that_of_a_point():
    stepper = Stepper(RunSpec([make_solid(primitives.sphere(24, 12), (0.1, 0.1, 0.1), 5)], [], ground=None,
                              quality=GOOD))
    start = stepper.state.x.copy()
    for _ in range(12):
        stepper.frame()
    fallen = (stepper.state.x - start).mean(axis=0)
    time = 12 / 24
    np.testing.assert_allclose(fallen, [0, -0.5 * 9.81 * time ** 2, 0], atol=1e-6)
    np.testing.assert_allclose(mean_velocity(stepper), [0, -9.81 * time, 0], atol=1e-6)
    shape = stepper.state.x - stepper.state.x.mean(axis=0)
    np.testing.assert_allclose(shape, start - start.mean(axis=0), atol=1e-8)


def tilt(degrees):
    a = np.radians(degrees)
    return np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])


def slope_run(degrees, friction, frames):
    turn = tilt(-degrees)                                 # downhill is +x
    touch = Touch(1e-3, friction)
    solid = make_solid(primitives.block((6, 3, 6)), (0.12, 0.05, 0.12), 3, at=turn @ np.array([0, 0.0262, 0]),
                       material=Material(60000.0, 0.4, 1000.0, 0.05), touch=touch, rotation=turn)
    slope = make_block_collider((3.0, 0.05, 1.0), turn @ np.array([1.0, -0.025, 0]), turn, touch, (1, 1, 1))
    stepper = Stepper(RunSpec([solid], [slope], ground=None, quality=GOOD))
    speeds = []
    for _ in range(frames):
        stepper.frame()
        speeds.append(mean_velocity(stepper) @ turn[:, 0])
    return np.array(speeds)


def test_sticks_on_a_slope_below_the_friction_angle():
    speeds = slope_run(15.0, 0.4, 24)                     # atan 0.4 = 21.8 degrees
    assert np.abs(speeds[-6:]).max() < 1e-4


def test_slides_on_a_slope_above_the_friction_angle():
    speeds = slope_run(30.0, 0.3, 24)
    gain = (speeds[-1] - speeds[8]) * 24 / (len(speeds) - 9)
    expected = 9.81 * (np.sin(np.radians(30)) - 0.3 * np.cos(np.radians(30)))
    np.testing.assert_allclose(gain, expected, rtol=0.03)


@pytest.mark.parametrize("factor", [1000.0, 0.001])
def test_absurd_stiffness_stays_finite_and_bounded(factor):
    material = Material(JELLY.stiffness * factor, 0.44, 1050.0, 0.3)
    solid = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 3, at=(0, 0.08, 0), material=material)
    stepper = Stepper(RunSpec([solid], [], quality=GOOD))
    for _ in range(30):
        stepper.frame()
    skin = stepper.skin()
    assert np.isfinite(stepper.state.x).all()
    assert skin[:, 1].min() > 0.0 and skin[:, 1].max() < 0.3
    assert np.abs(skin).max() < 1.0


@pytest.mark.parametrize("stiffness", [40.0, 200.0])
def test_what_cannot_bear_its_weight_spreads_and_is_not_pressed_through_the_ground(stiffness):
    """Its cells were turned inside out: its flesh came to hang below the ground, its skin shrank to a lump above it."""
    heights = []
    for cells in (3, 6):
        ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), cells, (0.0, 0.15, 0.0),
                          replace(JELLY, stiffness=stiffness))
        stepper = Stepper(RunSpec([ball], [], quality=QUALITIES["draft"]))
        for _ in range(26):
            stepper.frame()
        x, mass, skin = stepper.state.x, stepper.world.mass, stepper.skin()
        heights.append(mass @ x[:, 1] / mass.sum())
        assert stepper.world.octahedra.inside_out(x, 0.02, 1)[0] < 0.02
        assert np.ptp(skin[:, 0]) > 0.12 and np.ptp(skin[:, 1]) < 0.05
    assert 0.003 < heights[0] < 0.02 and heights[1] == pytest.approx(heights[0], rel=0.1)


@pytest.mark.parametrize("start", ["flat", "mirrored", "random"])
def test_a_ruined_start_comes_to_rest(start):
    solid = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 3, at=(0, 0.3, 0))
    stepper = Stepper(RunSpec([solid], [], gravity=0.0, ground=None, quality=GOOD))
    x = stepper.state.x
    if start == "flat":
        x[:, 1] = 0.3
    elif start == "mirrored":
        x[:, 0] *= -1
    else:
        x[:] = np.random.default_rng(3).uniform(-0.05, 0.05, x.shape)
    for _ in range(54):
        stepper.frame()
    assert np.isfinite(stepper.state.x).all()
    assert np.ptp(stepper.state.x, axis=0).max() < 0.3
    skin = stepper.world.skin
    share = volume(stepper.skin(), skin.triangles[0]) / volume(skin.points, skin.triangles[0])
    assert 0.3 < abs(share) < 1.2                           # it may stay folded, but is not crushed to a point
    internal = stepper.state.v - mean_velocity(stepper)
    assert np.sqrt((internal ** 2).mean()) < 5e-3           # nor does it spin, which nothing made it do


def test_same_run_same_bits():
    def run():
        solid = make_solid(primitives.sphere(20, 10), (0.1, 0.1, 0.1), 5, at=(0, 0.06, 0))
        stepper = Stepper(RunSpec([solid], [make_block_collider((0.3, 0.02, 0.3), (0, 0, 0))], quality=GOOD))
        for _ in range(10):
            stepper.frame()
        return stepper.state.packed()
    np.testing.assert_array_equal(run(), run())


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_no_skin_point_passes_a_collider(quality):
    solid = make_solid(primitives.sphere(32, 16), (0.1, 0.1, 0.1), 5, at=(0.02, 0.4, 0.01))
    edge = make_block_collider((0.06, 0.06, 0.06), (0, 0.1, 0), cells=(1, 1, 1))
    stepper = Stepper(RunSpec([solid], [edge], quality=QUALITIES[quality]))
    for _ in range(20):
        stepper.frame()
        skin = stepper.skin()
        inside = (np.abs(skin - [0, 0.1, 0]) < 0.03).all(axis=1)
        assert not inside.any() and skin[:, 1].min() > 0.0


def test_two_solids_meeting_keep_their_momentum():
    ball = primitives.sphere(24, 12)
    solids = [make_solid(ball, (0.1, 0.1, 0.1), 4, at=(x, 0.5, 0.0)) for x in (-0.06, 0.06)]
    stepper = Stepper(RunSpec(solids, [], gravity=0.0, ground=None, quality=GOOD))
    left = stepper.world.node_body == 0
    stepper.state.v[left, 0], stepper.state.v[~left, 0] = 1.0, -0.5
    before = stepper.world.mass @ stepper.state.v
    for _ in range(10):
        stepper.frame()
    after = stepper.world.mass @ stepper.state.v
    scale = stepper.world.mass.sum()
    np.testing.assert_allclose(after, before, atol=2e-3 * scale)
    relative = stepper.state.v[left].mean(axis=0)[0] - stepper.state.v[~left].mean(axis=0)[0]
    assert relative < 0.1                                 # they met and no longer close in
