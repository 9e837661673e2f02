"""Goals, nets and braces against what is known of springs, strings and drums, and cages against what they carry."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize import brentq

from bodies import JELLY, make_shell, make_solid
from rubberquince.bake.assemble import assemble
from rubberquince.bake.goals import goal_stiffness
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import BlockShape, Piece, Place, RevolvedShape, RunSettings, Scene
from rubberquince.document.values import SolidValues
from rubberquince.shapes import primitives, profiles
from rubberquince.shapes.lattice import box_lattice, smooth_binding
from rubberquince.shapes.links import braces_across, net_links
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.specs import QUALITIES, Goal, Links, RunSpec, ShellMaterial
from rubberquince.solver.stepper import Stepper
from rubberquince.solver.world import World

SKIN = ShellMaterial(stretch=2000.0, squeeze=0.3, bend=2e-5, density=0.25, wobble_halves=0.1)


def with_goal(spec, strength, filled=False, **more):
    """The body drawn to where it starts, everywhere with a strength."""
    world = World(RunSpec([spec], []))
    stiffness = goal_stiffness(np.full(len(world.start), strength), world.share, filled)
    return replace(spec, goal=Goal(world.start.copy(), stiffness, **more))


@pytest.mark.parametrize("across", [8, 16, 24])
@pytest.mark.parametrize(("strength", "sag"), [(0.5, 0.0981), (0.8, 0.00613), (0.95, 0.000272)])
def test_a_goal_gives_way_as_far_however_fine_the_skin(across, strength, sag):
    """ρ g / κ with κ = 25 N/m³ (s / (1 - s))²."""
    sheet = make_shell(primitives.sheet(across, across), (0.3, 1.0, 0.3), (0.0, 1.0, 0.0), SKIN)
    stepper = Stepper(RunSpec([with_goal(sheet, strength)], [], ground=None))
    for _ in range(50):
        stepper.frame()
    assert 1.0 - stepper.state.x[:, 1] == pytest.approx(sag, rel=0.01)


@pytest.mark.parametrize("cells", [3, 5])
def test_the_goal_of_a_solid_carries_its_weight_at_any_density_of_cells(cells):
    quiet = replace(JELLY, wobble_halves=0.1)
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), cells, (0.0, 0.5, 0.0), quiet)
    stepper = Stepper(RunSpec([with_goal(ball, 0.8, True)], [], ground=None))
    for _ in range(60):
        stepper.frame()
    mass = stepper.world.mass
    middle = mass @ (stepper.world.start - stepper.state.x)[:, 1] / mass.sum()
    assert middle == pytest.approx(JELLY.density * 9.81 / (1e5 * 16.0), rel=0.01)


def test_feet_that_are_held_by_a_goal_do_not_stiffen_the_rest():
    """As far as an equal body goes whose feet are held for good; damped by its stiffness it moves, too."""
    far = []
    for by_goal, halves in ((False, 0.0), (True, 0.0), (True, 1.0)):
        pole = make_solid(primitives.block((3, 12, 3)), (0.1, 0.5, 0.1), 3, (0.0, 0.3, 0.0),
                          replace(JELLY, stiffness=2e4, wobble_halves=halves),
                          held=None if by_goal else lambda p: p[:, 1] < -0.2, rotation=np.array(
                              [[0.995, -0.0998, 0], [0.0998, 0.995, 0], [0, 0, 1.0]]))
        if by_goal:
            feet = np.where(pole.lattice.nodes[:, 1] < -0.2, 0.999, 0.0)
            world = World(RunSpec([pole], []))
            pole = replace(pole, goal=Goal(world.start.copy(), goal_stiffness(feet, world.share, True)))
        stepper = Stepper(RunSpec([pole], [], ground=None))
        for _ in range(8):
            stepper.frame()
        far.append(np.abs(stepper.state.x - stepper.world.start).max())
    assert far[1] == pytest.approx(far[0], rel=0.05) and far[2] > 0.5 * far[0] > 0.03


def test_a_middle_that_is_drawn_swings_at_its_pitch_fades_in_its_time_and_lets_the_body_spin():
    ball = make_solid(primitives.sphere(16, 8), (0.1, 0.1, 0.1), 4, (0.0, 0.5, 0.0), replace(JELLY, stiffness=4e4))
    calms = np.log(2.0) / 0.5
    stepper = Stepper(RunSpec([with_goal(ball, 0.5, True, draws="middle", calms=calms)], [], ground=None, gravity=0.0))
    world, mass = stepper.world, stepper.world.mass
    around = world.start - np.array([0.0, 0.5, 0.0])
    stepper.state.v[:] = np.cross([0.0, 4.0, 0.0], around) + np.array([0.3, 0.0, 0.0])
    aside = []
    for _ in range(36):
        stepper.frame()
        aside.append(mass @ stepper.state.x[:, 0] / mass.sum())
    pitch = np.sqrt(1e5 / JELLY.density)                        # rad/s
    time = np.arange(1, 37) / 24.0
    expected = 0.3 / pitch * np.exp(-calms * time) * np.sin(pitch * time)
    assert np.abs(np.array(aside) - expected).max() < 0.12 * 0.3 / pitch
    spin = mass @ np.cross(stepper.state.x, stepper.state.v)[:, 1] / (mass @ (around[:, [0, 2]] ** 2).sum(axis=1))
    assert spin == pytest.approx(4.0, rel=0.02)


def net(across, rings, stretch, size=(0.2, 1.0, 0.4), taut=1.0, **more):
    mesh = primitives.sheet(across, across)
    pairs, length, weight = net_links(mesh.points * np.array(size), mesh, rings)
    material = ShellMaterial(stretch, 0.2, 0.0, 0.3, more.pop("halves", 0.05))
    return make_shell(mesh, size, material=material, links=(Links(pairs, taut * length, weight),), net=True, **more)


@pytest.mark.parametrize(("rings", "within"), [(1, 0.06), (2, 0.25), (3, 0.25)])
def test_a_hanging_net_lengthens_as_a_sheet_however_fine(rings, within):
    """ρ g L² / 2 Y; with more rings its free sides are firmer than its middle."""
    down = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])
    longer = []
    for across in (8, 16):
        spec = net(across, rings, 300.0, rotation=down, held=lambda p: p[:, 2] > 0.199)
        stepper = Stepper(RunSpec([spec], [], ground=None))
        for _ in range(36):
            stepper.frame()
        longer.append((stepper.world.start[:, 1].min() - stepper.state.x[:, 1].min()) / 0.4)
    assert longer[1] == pytest.approx(0.3 * 9.81 * 0.4 / (2.0 * 300.0), rel=within)
    assert longer[0] == pytest.approx(longer[1], rel=0.03)


@pytest.mark.parametrize(("waves", "draws"), [(1, None), (2, "level"), (2, "points")])
def test_a_drumskin_has_the_pitch_of_its_tension(waves, draws):
    """√((n² + 1) T / ρ) / 2 L, of a square membrane (Rayleigh 1877, §197), with T = 3/2 Y ε of a net drawn evenly.

    A goal of each point raises its square by κ / ρ; one of the mean height leaves waves as they are.
    """
    side, stretch, taut = 0.3, 1500.0 if draws is None else 15.0, 0.95
    spec = net(16, 1, stretch, (side, 1.0, side), taut, halves=0.0, held=lambda p: np.abs(p).max(axis=1) > 0.499 * side)
    spec = spec if draws is None else with_goal(spec, 0.8, draws=draws)
    stepper = Stepper(RunSpec([spec], [], fps=240.0, gravity=0.0, ground=None))
    rest = stepper.world.start
    free = stepper.world.free > 0.0
    across = np.cos(np.pi * rest[:, 0] / side) if waves == 1 else np.sin(2.0 * np.pi * rest[:, 0] / side)
    shape = across * np.cos(np.pi * rest[:, 2] / side)
    stepper.state.v[free, 1] = 0.2 * shape[free]
    height = []
    for _ in range(72 if draws is None else 110):
        stepper.frame()
        height.append(float(shape @ stepper.state.x[:, 1]))
    turns = np.flatnonzero(np.diff(np.sign(height)))
    times = [k + height[k] / (height[k] - height[k + 1]) for k in turns]
    pitch = 240.0 / (2.0 * np.mean(np.diff(times)))
    tension = 1.5 * stretch * (1.0 - taut)                      # of springs at rest length L0 = taut L: k (L - L0)
    square = (waves ** 2 + 1.0) * tension / 0.3 / (2.0 * side) ** 2
    square += 25.0 * 16.0 / 0.3 / (2.0 * np.pi) ** 2 if draws == "points" else 0.0
    assert pitch == pytest.approx(np.sqrt(square), rel=0.03)


def test_a_brace_that_calms_slows_its_ends_as_a_dashpot_does():
    """v = v0 exp(-2 c t / m), of two equal masses m."""
    mesh, calms = primitives.sheet(1, 1), 0.05
    brace = Links(np.array([[0, 1]]), np.array([0.1]), np.ones(1), braces=True)
    spec = make_shell(mesh, (0.1, 1.0, 0.1), links=(brace,), net=True,
                      material=ShellMaterial(0.0, 0.0, 0.0, 0.3, 0.0, calms=calms))
    stepper = Stepper(RunSpec([spec], [], gravity=0.0, ground=None, fps=96.0))
    stepper.world.mass[:] = 1e-3
    along = np.subtract(*stepper.world.start[[1, 0]])
    stepper.state.v[:2] = 0.2 * along, -0.2 * along
    speeds = []
    for _ in range(12):
        stepper.frame()
        speeds.append(np.linalg.norm(stepper.state.v[0] - stepper.state.v[1]) / (0.4 * np.linalg.norm(along)))
    np.testing.assert_allclose(speeds, np.exp(-2.0 * calms / 1e-3 * np.arange(1, 13) / 96.0), atol=0.04)


def test_braces_span_the_inside_and_let_a_limp_skin_stand():
    mesh = primitives.sphere(20, 12)
    points = 0.2 * mesh.points
    pairs, length = braces_across(points, mesh.triangles, 150, 0.19, 30.0, 3)
    assert len(pairs) > 10 and length.max() <= 0.19
    again = braces_across(points, mesh.triangles, 150, 0.19, 30.0, 3)[0]
    np.testing.assert_array_equal(pairs, again)
    assert len(braces_across(points, mesh.triangles, 150, 0.19, 30.0, 4)[0]) != len(pairs)
    straight, through = braces_across(points, mesh.triangles, 150, 1.0, 0.0, 3)
    assert through == pytest.approx(0.2, rel=0.1)               # straight through the middle
    limp = ShellMaterial(300.0, 0.3, 1e-6, 0.5, 0.05)
    heights = []
    for links in ((), (Links(straight, through, np.ones(len(straight)), braces=True),)):
        ball = make_shell(mesh, (0.2, 0.2, 0.2), (0.0, 0.102, 0.0), replace(limp, brace=200.0), links=links)
        stepper = Stepper(RunSpec([ball], []))
        for _ in range(36):
            stepper.frame()
        heights.append(np.ptp(stepper.state.x[:, 1]))
    assert heights[1] > 0.18 and heights[0] < heights[1] - 0.01


def arch(bands=26, sides=10, radius=0.15, thick=0.03):
    """A closed tube that stands as half a ring, m."""
    along, turn = np.linspace(0.0, np.pi, bands + 1)[:, None], 2.0 * np.pi * np.arange(sides) / sides
    out = radius + thick * np.cos(turn)
    points = np.stack([np.cos(along) * out, np.sin(along) * out, 0.0 * along + thick * np.sin(turn)], axis=-1)
    i, k = (part.reshape(-1) for part in np.meshgrid(np.arange(bands), np.arange(sides), indexing="ij"))
    after = (k + 1) % sides
    quads = np.stack([i * sides + k, (i + 1) * sides + k, (i + 1) * sides + after, i * sides + after], axis=1)
    faces = np.concatenate([quads.reshape(-1), np.arange(sides), bands * sides + np.arange(sides)[::-1]])
    return PolyMesh(points.reshape(-1, 3), np.array([4] * len(quads) + 2 * [sides], np.int32), faces.astype(np.int32))


def test_a_limp_arch_slumps_and_braces_raise_it_again():
    mesh, limp = arch(), ShellMaterial(300.0, 0.02, 1e-7, 0.2, 0.05)
    pairs, length = braces_across(mesh.points, mesh.triangles, 800, 0.12, 50.0, 1)
    braces = (Links(pairs, length, np.ones(len(pairs)), braces=True),)

    def after(links, lying=None):
        spec = make_shell(mesh, (1.0, 1.0, 1.0), (0.0, 0.002, 0.0), replace(limp, brace=1000.0), links=links,
                          held=lambda p: p[:, 1] < 1e-6)
        stepper = Stepper(RunSpec([spec], [], quality=QUALITIES["draft"]))
        stepper.state.x[:] = stepper.state.x if lying is None else lying
        for _ in range(30):
            stepper.frame()
        return stepper.state.x, stepper.world.start

    slumped, made = after(())
    tall = np.ptp(made[:, 1])
    assert np.ptp(slumped[:, 1]) < 0.5 * tall
    for lying in (made, slumped):
        standing = after(braces, lying)[0]
        assert np.ptp(standing[:, 1]) > 0.97 * tall
        assert np.sqrt(((standing - made) ** 2).sum(axis=1).mean()) < 0.015 * tall


def test_a_rope_between_two_pins_hangs_as_a_catenary():
    length, apart = 0.78, 0.6
    rope = unit_mesh(RevolvedShape(name="rope", profile=profiles.rod(), around=6, bands=70), {})
    mesh = PolyMesh(rope.points * (0.012, apart, 0.012), rope.face_sizes, rope.face_points)
    pairs, long, weight = net_links(mesh.points, mesh, 1)
    across = np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])
    spec = make_shell(mesh, (1.0, 1.0, 1.0), (0.0, 1.0, 0.0), ShellMaterial(3000.0, 0.2, 0.0, 0.3, 0.05), net=True,
                      links=(Links(pairs, length / apart * long, weight),), rotation=across,
                      held=lambda p: np.abs(p[:, 1]) > 0.4999 * apart)
    stepper = Stepper(RunSpec([spec], [], ground=None, quality=QUALITIES["draft"]))
    for _ in range(40):
        stepper.frame()
    width = brentq(lambda a: 2.0 * a * np.sinh(apart / (2.0 * a)) - length, 0.02, 5.0)
    middle = np.abs(stepper.world.start[:, 0]) < 0.01
    sag = 1.0 - stepper.state.x[middle, 1].mean()
    assert sag == pytest.approx(width * (np.cosh(apart / (2.0 * width)) - 1.0), rel=0.02)


def test_a_cage_weighs_and_swings_as_the_block_it_stands_for():
    weighs, middle, pitch = [], [], []
    for role in ("solid", "cage"):
        piece = Piece(id="a", name="A", role=role, shape=BlockShape(), solid=SolidValues(cells=4, density=1e3),
                      place=Place(position=(0.0, 0.5, 0.0), size=(0.1, 0.14, 0.1)))
        run = RunSettings(ground=False, gravity=0.0, quality="good", fps=96.0)
        stepper = Stepper(assemble(Scene(pieces=(piece,), run=run), {}).spec)
        mass, start = stepper.world.mass, stepper.world.start
        stepper.state.v[:] = (start - mass @ start / mass.sum()) * (-0.4, 1.0, -0.4)
        tall = []
        for _ in range(40):
            stepper.frame()
            x = stepper.state.x
            tall.append(mass @ (x - mass @ x / mass.sum())[:, 1] ** 2)
        tall = np.array(tall) - np.mean(tall)
        turns = np.flatnonzero(np.diff(np.sign(tall)))
        pitch.append(96.0 / (2.0 * np.mean(np.diff([k + tall[k] / (tall[k] - tall[k + 1]) for k in turns]))))
        weighs.append(mass.sum())
        middle.append(mass @ start / mass.sum())
    assert weighs == pytest.approx([1000.0 * 0.1 * 0.14 * 0.1] * 2, rel=1e-6)
    np.testing.assert_allclose(middle[1], middle[0], atol=1e-4)
    assert pitch[1] == pytest.approx(pitch[0], rel=0.05)


def test_a_cage_carries_every_point_smoothly_and_keeps_straight_what_is_straight():
    mesh = primitives.torus(60, 24, 0.6)
    points = mesh.points * np.array([0.2, 0.06, 0.2])
    lattice = box_lattice(points, np.zeros((0, 3), np.int64), 0.02)
    node, weight = lattice.bind_node, lattice.bind_weight
    carried = np.einsum("nk,nki->ni", weight, lattice.nodes[node])
    np.testing.assert_allclose(carried, points, atol=1e-12)
    bend = np.array([[1.1, 0.2, 0.0], [0.0, 0.9, -0.3], [0.1, 0.0, 1.0]])
    np.testing.assert_allclose(np.einsum("nk,nki->ni", weight, lattice.nodes[node] @ bend), points @ bend, atol=1e-12)
    line = np.column_stack([np.linspace(-0.05, 0.05, 401), np.full(401, 0.003), np.full(401, 0.007)])
    node, weight = smooth_binding(line, lattice.nodes, 1.4 * lattice.cell)
    bumped = np.sin(60.0 * lattice.nodes[:, 0])
    course = (weight * bumped[node]).sum(axis=1)
    kinks = np.abs(np.diff(course, 2)) / (line[1, 0] - line[0, 0]) ** 2
    assert kinks.max() < 3.0 * 60.0 ** 2                        # as bent as what it follows, not broken
