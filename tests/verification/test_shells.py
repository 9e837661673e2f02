"""Shells against what is known of membranes, plates and balloons, and what artists see of them."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq

from bodies import CANVAS, make_block_collider, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.shapes.links import net_links
from rubberquince.solver.specs import (
    QUALITIES,
    ColliderSpec,
    Inflation,
    Links,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    SeamSpec,
    ShellMaterial,
    ShellSpec,
    Touch,
)
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper
from rubberquince.solver.terms.pressing import rims

LATEX = ShellMaterial(stretch=200.0, squeeze=1.0, bend=1e-6, density=0.3, wobble_halves=0.05)


def still(spec, frames, quality="good", least=1e-3):
    """A stepper that has come to rest."""
    stepper = Stepper(replace(spec, quality=QUALITIES[quality]))
    for _ in range(frames):
        stepper.frame()
        if np.abs(stepper.state.v).max() < least:
            break
    return stepper


def radius(stepper):
    return (3.0 * stepper.world.pressing.volume(0, stepper.state.x) / (4.0 * np.pi)) ** (1.0 / 3.0)


@pytest.mark.parametrize("divisions", [(16, 8), (40, 20)])
@pytest.mark.parametrize("backing", [None, 2000.0])
def test_a_balloon_has_the_radius_of_its_pressure(divisions, backing):
    """Y (λ² - 1) / (1 - ν) = p R λ: from the energy of a sphere of St. Venant-Kirchhoff membrane."""
    pressure, room = 400.0, 4.0 / 3.0 * np.pi * 0.1 ** 3
    ball = make_shell(primitives.sphere(*divisions), (0.2, 0.2, 0.2), material=LATEX,
                      inflation=Inflation(pressure, backing=backing))
    stepper = still(RunSpec([ball], [], gravity=0.0, ground=None), 60)
    at_rest = (3.0 * stepper.world.pressing.volume(0, stepper.world.start) / (4.0 * np.pi)) ** (1.0 / 3.0)

    def lack(growth):
        inside = pressure if backing is None else (pressure + backing) / growth ** 3 - backing
        return LATEX.stretch * (growth ** 2 - 1.0) / (1.0 - LATEX.poisson) - inside * at_rest * growth

    assert radius(stepper) / at_rest == pytest.approx(brentq(lack, 1.0, 3.0), rel=5e-3)
    assert stepper.world.pressing.volume(0, stepper.world.start) == pytest.approx(room, rel=0.12)


@pytest.mark.parametrize("across", [24, 40])
def test_a_strip_between_two_points_hangs_as_a_catenary(across):
    length, apart = 0.4, 0.3
    limp = replace(CANVAS, bend=1e-9, stretch=3e4, wobble_halves=0.03, along=length / apart)
    strip = make_shell(primitives.sheet(across, 2), (apart, 1.0, 0.02), (0.0, 1.0, 0.0), limp,
                       held=lambda p: np.abs(p[:, 0]) > 0.499 * apart)
    stepper = still(RunSpec([strip], [], ground=None), 120, least=2e-3)
    width = brentq(lambda a: 2.0 * a * np.sinh(apart / (2.0 * a)) - length, 0.02, 1.0)
    sag = width * (np.cosh(apart / (2.0 * width)) - 1.0)
    assert 1.0 - stepper.state.x[:, 1].min() == pytest.approx(sag, rel=0.02)


def strip(pattern, across, length=0.1):
    """Points and triangles of a strip, one cell longer than ``length`` at its clamp, at x < 0."""
    cell, rows, rng = length / across, 4, np.random.default_rng(1)
    deep = cell * (np.sqrt(3.0) / 2.0 if pattern == "equilateral" else 1.0)
    i, j = (part.reshape(-1) for part in np.meshgrid(np.arange(-1, across + 1), np.arange(rows + 1)))
    lean = 0.5 * (j % 2) * (i >= 0) * (i < across) if pattern == "equilateral" else 0.0 * j
    points = np.column_stack([cell * (i + lean), 0.0 * i, deep * j])
    if pattern == "uneven":
        inside = (i > 0) & (i < across) & (j > 0) & (j < rows)
        points[inside] += rng.uniform(-0.3, 0.3, (inside.sum(), 3)) * [cell, 0.0, cell]
    width, triangles = across + 2, []
    for row in range(rows):
        for k in range(across + 1):
            a, b = row * width + k, (row + 1) * width + k
            other = {"one way": False, "alternating": (row + k) % 2 == 1, "uneven": bool(rng.integers(2)),
                     "equilateral": row % 2 == 1}[pattern]
            triangles += [[a, b, b + 1], [a, b + 1, a + 1]] if other else [[a, b, a + 1], [a + 1, b, b + 1]]
    return points, np.array(triangles, np.int32)


@pytest.mark.parametrize("across", [12, 30])
@pytest.mark.parametrize(("pattern", "within"), [("one way", 0.25), ("alternating", 0.25), ("uneven", 0.25),
                                                 ("equilateral", 0.12)])
def test_a_strip_sags_as_a_plate(pattern, within, across):
    """w g L⁴ / 8 D at the free end of a clamped strip (Timoshenko, Woinowsky-Krieger 1959)."""
    length, stiff = 0.1, replace(CANVAS, bend=4e-3, wobble_halves=0.03, poisson=0.0)
    points, triangles = strip(pattern, across)
    shell = ShellSpec(points, triangles, np.eye(3), np.array([0.0, 1.0, 0.0]), stiff, Touch(1e-4, 0.5),
                      points[:, 0] < 1e-6)
    stepper = still(RunSpec([shell], [], ground=None), 60, least=2e-4)
    sag = stiff.density * 9.81 * length ** 4 / (8.0 * stiff.bend)
    end = points[:, 0] > length - 1e-6 if pattern != "equilateral" else points[:, 0] > length - 1.2 * length / across
    reach = points[end, 0] / length
    expected = sag * reach ** 2 * (6.0 - 4.0 * reach + reach ** 2) / 3.0
    assert ((1.0 - stepper.state.x[end, 1]) / expected).mean() == pytest.approx(1.0, abs=within)


@pytest.mark.parametrize("pattern", ["one way", "alternating", "uneven"])
def test_a_sheared_sheet_wrinkles_along_the_pull(pattern):
    """Tension field theory (Wagner 1929): folds run along the larger principal stretch, at 45° for a small shear."""
    wide, deep, across, rows, rng = 0.6, 0.2, 60, 20, np.random.default_rng(0)
    i, j = (part.reshape(-1) for part in np.meshgrid(np.arange(across + 1), np.arange(rows + 1)))
    points = np.column_stack([wide / across * i, 0.0 * i, deep / rows * j])
    inside = (i > 0) & (i < across) & (j > 0) & (j < rows)
    if pattern == "uneven":
        points[inside] += rng.uniform(-0.3, 0.3, (inside.sum(), 3)) * [wide / across, 0.0, deep / rows]
    triangles = []
    for row in range(rows):
        for k in range(across):
            a, b = row * (across + 1) + k, (row + 1) * (across + 1) + k
            other = {"one way": False, "alternating": (row + k) % 2 == 1, "uneven": bool(rng.integers(2))}[pattern]
            triangles += [[a, b, b + 1], [a, b + 1, a + 1]] if other else [[a, b, a + 1], [a + 1, b, b + 1]]
    held = (j == 0) | (j == rows)
    thin = ShellMaterial(stretch=2000.0, squeeze=0.1, bend=1e-5, density=0.1, wobble_halves=0.05)
    sheet = ShellSpec(points, np.array(triangles, np.int32), np.eye(3), np.zeros(3), thin, Touch(1e-5, 0.3), held)
    stepper = Stepper(RunSpec([sheet], [], ground=None, gravity=0.0))
    x = stepper.state.x
    x[:, 0] += 0.05 * x[:, 2]
    x[~held, 1] += rng.uniform(-1e-4, 1e-4, (~held).sum())
    for _ in range(14):
        stepper.frame()
    a, b, c = (stepper.state.x[np.array(triangles)[:, k]] for k in range(3))
    middle = (a + b + c) / 3.0
    some = (np.abs(middle[:, 0] - wide / 2) < 0.2 * wide) & (np.abs(middle[:, 2] - deep / 2) < 0.25 * deep)
    plane = np.stack([b - a, c - a], axis=1)
    slope = np.linalg.solve(plane[:, :, [0, 2]], plane[:, :, 1:2])[some, :, 0]
    along = np.linalg.eigh(slope.T @ slope)[1][:, 0]
    assert np.degrees(np.arctan(along[1] / along[0])) == pytest.approx(45.0, abs=2.0)
    assert 0.001 < np.std(stepper.state.x[:, 1]) < 0.005


@pytest.mark.parametrize("turn", [0.0, 90.0])
def test_a_skin_grows_along_its_grain(turn):
    way = [np.cos(np.radians(turn)), 0.0, -np.sin(np.radians(turn))]
    mesh = primitives.sheet(6, 6)
    shell = make_shell(mesh, (0.2, 1.0, 0.2), material=replace(CANVAS, along=1.2),
                       grain=np.tile(way, (len(mesh.triangles), 1)))
    stepper = still(RunSpec([shell], [], gravity=0.0, ground=None), 60, least=1e-5)
    x, rest = stepper.state.x, stepper.world.start
    corner = [np.flatnonzero((rest[:, 0] * i > 0.099) & (rest[:, 2] * k > 0.099))[0] for i, k in
              ((-1, -1), (1, -1), (-1, 1))]
    wide, deep = (np.linalg.norm(x[corner[0]] - x[other]) for other in corner[1:])
    assert (wide, deep) == pytest.approx((0.24, 0.2) if turn == 0.0 else (0.2, 0.24), rel=1e-3)


@pytest.mark.parametrize("net", [False, True])
def test_what_grows_while_it_runs_comes_to_what_was_made_so(net):
    """Its lengths at rest change, from point to point, and its weight does not."""
    mesh = primitives.sheet(6, 6)
    growth = 1.0 + 0.5 * (mesh.points[:, 0] + 0.5)
    links = {"net": True, "links": (Links(*net_links(mesh.points * 0.2, mesh, 1, 0.0)),)} if net else {}
    grown = replace(CANVAS, along=growth, across=growth)
    made, growing = (Stepper(RunSpec([make_shell(mesh, (0.2, 1.0, 0.2), material=material, **links)], [], gravity=0.0,
                                     ground=None)) for material in (grown, CANVAS))
    np.testing.assert_array_equal(made.world.mass, growing.world.mass)
    for k in range(40):
        growing.set_material(0, replace(CANVAS, along=1.0 + min(k / 10, 1.0) * (growth - 1.0),
                                        across=1.0 + min(k / 10, 1.0) * (growth - 1.0)))
        growing.frame()
        made.frame()
    np.testing.assert_array_equal(*(stepper.world.membrane.area for stepper in (made, growing)))
    np.testing.assert_array_equal(*(stepper.world.springs.length for stepper in (made, growing)))
    width = [np.ptp(stepper.state.x[:, 0]) for stepper in (made, growing)]
    assert width[1] == pytest.approx(width[0], rel=1e-3) and 0.24 < width[0] < 0.265


def test_a_limit_ends_the_stretching():
    """Pulled by its own weight far beyond its limit, the excess is a fiftieth."""
    soft = ShellMaterial(stretch=1.0, squeeze=0.3, bend=1e-6, density=0.5, wobble_halves=0.03)
    longest = []
    for most in (None, 1.1):
        sheet = make_shell(primitives.sheet(4, 8), (0.1, 1.0, 0.2), (0.0, 1.0, 0.0), replace(soft, most=most),
                           rotation=np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]), held=lambda p: p[:, 2] > 0.099)
        stepper = still(RunSpec([sheet], [], ground=None), 60)
        longest.append(stepper.world.membrane.stretches(stepper.state.x)[:, 0].max())
    assert longest[0] > 1.3 and 1.1 < longest[1] < 1.13


def test_canvas_hardly_stretches_under_its_own_weight():
    sheet = make_shell(primitives.sheet(16, 16), (0.6, 1.0, 0.6), (0.0, 1.0, 0.0),
                       rotation=np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]]), held=lambda p: p[:, 2] > 0.299)
    stepper = still(RunSpec([sheet], [], ground=None), 48)
    assert stepper.world.membrane.stretches(stepper.state.x)[:, 0].max() < 1.005


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_a_cloth_over_a_ball_passes_nothing_and_comes_to_rest(quality):
    ball = primitives.sphere(24, 12)
    thing = ColliderSpec(0.16 * ball.points + np.array([0.0, 0.1, 0.0]), ball.triangles, Touch(1e-3, 0.4))
    cloth = make_shell(primitives.sheet(20, 20), (0.36, 1.0, 0.36), (0.01, 0.22, 0.0),
                       replace(CANVAS, bend=1e-5, density=0.1))
    stepper = Stepper(RunSpec([cloth], [thing], quality=QUALITIES[quality]))
    for frame in range(40):
        stepper.frame()
        if frame % 4 == 3:
            assert own_crossings(stepper) == 0
    assert stepper.state.x[:, 1].max() > 0.17 and np.median(np.abs(stepper.state.v).max(axis=1)) < 0.05


def test_a_sack_holds_what_is_in_it():
    sack = make_shell(primitives.sphere(24, 14), (0.2, 0.2, 0.2), (0.0, 0.3, 0.0), CANVAS,
                      held=lambda p: p[:, 1] > 0.095)
    balls = [make_solid(primitives.sphere(12, 6), (0.06, 0.06, 0.06), 3, at)
             for at in ((0.035, 0.28, 0.0), (-0.035, 0.28, 0.0), (0.0, 0.28, 0.055))]
    stepper = Stepper(RunSpec([sack, *balls], [], quality=QUALITIES["draft"]))
    for frame in range(30):
        stepper.frame()
        if frame % 5 == 4:
            assert own_crossings(stepper) == 0
    world, skin = stepper.world, stepper.world.skin.piece[: stepper.world.skin.moving]
    points = stepper.skin()
    assert points[skin != 0, 1].min() > points[skin == 0, 1].min()
    assert world.start[world.node_body == 1, 1].mean() > stepper.state.x[world.node_body == 1, 1].mean()


def test_a_rolled_sheet_does_not_pass_through_itself():
    mesh = primitives.sheet(40, 6)
    turn = 0.6 + 14.0 * (mesh.points[:, 0] + 0.5)
    rolled = np.stack([0.004 * turn * np.cos(turn), 0.004 * turn * np.sin(turn), 0.1 * mesh.points[:, 2]], axis=1)
    roll = replace(make_shell(mesh, (1, 1, 1), (0.0, 0.1, 0.0), replace(CANVAS, bend=1e-5)), points=rolled)
    stepper = Stepper(RunSpec([roll], [make_block_collider((0.3, 0.02, 0.3), (0, 0.01, 0))],
                              quality=QUALITIES["draft"]))
    for frame in range(30):
        stepper.frame()
        if frame % 3 == 2:
            assert own_crossings(stepper) == 0
    assert np.ptp(stepper.state.x[:, 1]) > 0.01


def cushion(pressure, grows=24):
    blank = make_shell(primitives.cushion(14, 0.0), (0.3, 0.01, 0.3), (0.0, 0.03, 0.0),
                       inflation=Inflation(pressure, grows / 24.0))
    return RunSpec([blank], [], quality=QUALITIES["draft"])


@pytest.mark.parametrize("pressure", [40.0, 4000.0])
def test_a_blank_is_blown_to_a_cushion(pressure):
    stepper = Stepper(cushion(pressure))
    for frame in range(60):
        stepper.frame(frame / 24.0)
        if frame % 6 == 5:
            assert own_crossings(stepper) == 0
    full = stepper.world.pressing.volume(0, stepper.state.x)
    most = 0.191 * 0.3 ** 3             # m³, of two squares of this side that do not stretch
    assert 0.6 < full / most < (1.15 if pressure < 100.0 else 1.6)


@pytest.mark.parametrize(("halves", "quality", "fps"), [(0.15, "draft", 24.0), (0.15, "good", 48.0)])
def test_what_an_air_pad_carries_stops_pumping_in_its_time(halves, quality, fps):
    """Its skin hardly stretches as its load goes up and down: by that alone it went on for some seconds."""
    pad = make_shell(primitives.cushion(8, 0.0), (0.3, 0.01, 0.3), (0, 0.02, 0), replace(CANVAS, wobble_halves=halves),
                     inflation=Inflation(60.0, 0.3))
    plate = primitives.block((2, 2, 2))
    load = RigidSpec(plate.points * np.array([0.2, 0.02, 0.2]), plate.triangles, np.eye(3), np.array([0, 0.12, 0]),
                     RigidMaterial(300.0), Touch(1e-3, 0.5))
    stepper, heights = Stepper(RunSpec([pad, load], [], quality=QUALITIES[quality], fps=fps)), []
    for frame in range(round(1.2 * fps)):
        stepper.frame(frame / fps)
        heights.append(stepper.state.x[stepper.world.node_body == 1, 1].mean())
    moves = np.array(heights) - np.mean(heights[-5:])
    top = int(moves[int(0.3 * fps):].argmax()) + int(0.3 * fps)
    later = top + round(3.0 * halves * fps)
    assert moves[top] > 2e-3 and np.abs(moves[later:]).max() < 0.25 * moves[top]
    assert 0.045 < np.mean(heights[-5:]) < 0.06


def test_a_ramp_goes_on_where_a_resumed_run_takes_it_up_to_the_same_bits():
    whole, again = Stepper(cushion(200.0)), Stepper(cushion(200.0))
    for frame in range(10):
        whole.frame(frame / 24.0)
        if frame == 5:
            again.restore(State.unpacked(whole.state.packed()))
    for frame in range(6, 10):
        again.frame(frame / 24.0)
    assert np.array_equal(whole.state.packed(), again.state.packed())


def test_two_shells_that_overlap_are_drawn_apart():
    ball = primitives.sphere(16, 8)
    pair = [make_shell(ball, (0.1, 0.1, 0.1), at, inflation=Inflation(100.0)) for at in ((0, 0.1, 0), (0.07, 0.1, 0))]
    stepper = Stepper(RunSpec(pair, [], gravity=0.0, ground=None, quality=QUALITIES["draft"]))
    assert own_crossings(stepper) > 0
    for _ in range(12):
        stepper.frame()
    assert own_crossings(stepper) == 0 and np.abs(stepper.state.x).max() < 0.5


@pytest.mark.parametrize("pressure", [0.0, 400.0])
def test_a_seam_closes_to_a_tenth_of_a_millimetre_and_moves_nothing_as_a_whole(pressure):
    mesh = primitives.sheet(10, 10)
    rim = np.unique(np.concatenate(rims(mesh.triangles)))
    over = np.diag([1.0, -1.0, -1.0])                           # so that both look outwards
    pair = [make_shell(mesh, (0.2, 1.0, 0.2), (0.0, 1.06, 0.0), inflation=Inflation(pressure, 1.0)),
            make_shell(mesh, (0.2, 1.0, 0.2), (0.0, 1.0, 0.0), rotation=over, inflation=Inflation(pressure, 1.0))]
    points = pair[0].points
    mirrored = np.array([np.linalg.norm(points - points[k] * [1.0, 1.0, -1.0], axis=1).argmin() for k in rim])
    seam = SeamSpec(0, 1, np.column_stack([rim, mirrored]), 1e4, 0.4)
    stepper = Stepper(RunSpec(pair, [], gravity=0.0, ground=None, quality=QUALITIES["draft"], seams=[seam]))
    start = stepper.world.mass @ stepper.state.x / stepper.world.mass.sum()
    for frame in range(36):
        stepper.frame(frame / 24.0)
    x, first = stepper.state.x, stepper.world.first_node
    apart = np.linalg.norm(x[rim] - x[mirrored + first[1]], axis=1)
    assert apart.max() < 1e-4
    middle = stepper.world.mass @ x / stepper.world.mass.sum()
    assert np.abs(middle - start).max() < 2e-3


silly = st.floats(-7.0, 7.0).map(lambda power: 10.0 ** power)


@settings(max_examples=8, suppress_health_check=[HealthCheck.too_slow])
@given(silly, st.floats(0.0, 1.0), silly, silly, st.floats(-5e4, 5e4), st.floats(0.2, 3.0), st.floats(0.2, 3.0))
def test_silly_values_give_numbers_and_no_explosion(stretch, squeeze, bend, density, pressure, along, across):
    material = ShellMaterial(min(stretch, 1e7), squeeze, min(bend, 1e3), min(max(density, 1e-3), 100.0), 0.1,
                             along=along, across=across)
    ball = make_shell(primitives.sphere(8, 5), (0.1, 0.1, 0.1), (0.0, 0.08, 0.0), material,
                      inflation=Inflation(pressure))
    stepper = Stepper(RunSpec([ball], [], quality=QUALITIES["draft"]))
    for _ in range(3):
        stepper.frame()
        assert np.isfinite(stepper.state.packed()).all()
    assert own_crossings(stepper) == 0


def film_over_a_ball(height, ground=True):
    ball = primitives.sphere(20, 10)
    thing = ColliderSpec(0.16 * ball.points + np.array([0.0, 0.08, 0.0]), ball.triangles, Touch(1e-3, 0.3))
    film = make_shell(primitives.sheet(20, 20), (0.36, 1.0, 0.36), (0.0, height, 0.0),
                      replace(CANVAS, bend=2e-6, density=0.05), inflation=Inflation(-80.0, 0.5))
    return Stepper(RunSpec([film], [thing] if ground else [], quality=QUALITIES["draft"]))


def test_a_loose_film_is_sucked_down_on_what_it_covers_and_stays_there():
    """With a cap thought over its rim, what the ball keeps from moving would throw the film up by that rim."""
    stepper = film_over_a_ball(0.17)
    for frame in range(30):
        stepper.frame(frame / 24.0)
        assert stepper.state.x[:, 1].max() < 0.18
    x = stepper.state.x
    rim = np.unique(rims(stepper.world.pressing._inside[0].triangles[:800])[0])
    from_ball = np.linalg.norm(x[:, [0, 2]], axis=1)
    assert own_crossings(stepper) == 0 and np.median(x[rim, 1]) < 0.05 and x[from_ball < 0.03, 1].min() > 0.15
    assert np.median(np.linalg.norm(stepper.state.v, axis=1)) < 0.01


def test_suction_pushes_by_area_where_it_covers_something_and_not_in_the_air():
    stepper = film_over_a_ball(1.0, ground=False)
    world, x = stepper.world, stepper.state.x
    world.pressing.tell(10.0)
    for covers, lift in ((True, 80.0 * 0.36 ** 2), (False, 0.0)):
        world.pressing.cover(x, np.array([covers]))
        slope = np.zeros_like(x)
        world.pressing.add_gradient(x, slope)
        assert slope.sum(axis=0) == pytest.approx([0.0, lift, 0.0], abs=1e-9)
    for _ in range(4):
        stepper.frame()
    assert np.ptp(stepper.state.x[:, 1]) < 1e-9                 # it falls flat
    assert stepper.state.x[0, 1] == pytest.approx(1.0 - 0.5 * 9.81 * (4.0 / 24.0) ** 2, rel=2e-3)
