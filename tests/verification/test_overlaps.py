"""What starts in something else is drawn apart, held up by what it falls on meanwhile, and falls as all things do."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from bodies import JELLY, crossings, make_block_collider, make_shell, make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver.specs import (
    DOWN,
    QUALITIES,
    ColliderSpec,
    LedSpec,
    Material,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    Touch,
)
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

HALF_A_SECOND, A_SECOND = 12, 24
BOX, FIRM = primitives.block((4, 4, 4)), Material(1e5, 0.44, 1050.0, 0.15)
ASLANT = Rotation.from_rotvec([0.7, -1.1, 0.4]).as_matrix()
CORNERS = np.array([[0.0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]])


def box(kind, at, rotation=None, size=(0.1, 0.1, 0.1), friction=0.5):
    touch, turn = Touch(1e-3, friction), np.eye(3) if rotation is None else rotation
    if kind == "solid":
        return make_solid(BOX, size, 3, at, FIRM, touch, rotation=turn)
    return RigidSpec(BOX.points * size, BOX.triangles, turn, np.asarray(at, float), RigidMaterial(800.0), touch)


def floor(rotation):
    flat = make_block_collider((4.0, 0.1, 4.0), (0, -0.05, 0))
    return ColliderSpec(flat.points @ rotation.T, flat.triangles, flat.touch)


def run(stepper, frames):
    for _ in range(frames):
        stepper.frame()
    return stepper


def centres(stepper):
    w, x = stepper.world, stepper.state.x
    return np.array([w.mass[w.node_body == k] @ x[w.node_body == k] / w.mass[w.node_body == k].sum()
                     for k in range(w.bodies)])


def balls(*places):
    return [make_solid(primitives.sphere(20, 12), (0.08, 0.08, 0.08), 4, place) for place in places]


def count(stepper):
    skin = stepper.world.skin
    x = stepper.contacts.all_skins(stepper.state.x)
    return crossings(x, skin.edges, np.concatenate(skin.triangles))


@pytest.mark.parametrize("quality", ["draft", "good"])
@pytest.mark.parametrize("places", [((0, 0.1, 0), (0.01, 0.13, 0)), ((0, 0.1, 0), (0.005, 0.105, 0.003)),
                                    ((0, 0.1, 0), (0.03, 0.13, 0), (-0.02, 0.12, 0.03))])
def test_they_are_apart_after_half_a_second_and_were_not_shot(quality, places):
    shelf = make_block_collider((1.0, 0.02, 1.0), (0, 0.02, 0))
    stepper = Stepper(RunSpec(balls(*places), [shelf], quality=QUALITIES[quality]))
    assert count(stepper) > 50
    fastest = 0.0
    for _ in range(HALF_A_SECOND):
        stepper.frame()
        fastest = max(fastest, np.abs(stepper.state.v).max())
    assert count(stepper) == 0 and fastest < 3.0
    assert stepper.skin()[:, 1].min() > 0.03                    # none was pushed through the shelf


def test_they_fall_as_one_and_keep_their_momentum():
    stepper = Stepper(RunSpec(balls((0, 2.0, 0), (0.01, 2.03, 0)), []))
    mass = stepper.world.mass
    start = mass @ stepper.state.x / mass.sum()
    for _ in range(HALF_A_SECOND):
        stepper.frame()
    moved = mass @ stepper.state.x / mass.sum() - start
    assert moved[1] == pytest.approx(-0.5 * 9.81 * 0.5 ** 2, rel=0.02)
    assert np.abs(moved[[0, 2]]).max() < 1e-4 and count(stepper) == 0


def test_what_is_held_stays_and_the_other_leaves():
    held = make_solid(primitives.block((4, 4, 4)), (0.1, 0.1, 0.1), 4, (0, 0.5, 0),
                      held=lambda nodes: np.ones(len(nodes), bool))
    (ball,) = balls((0.02, 0.56, 0))
    stepper = Stepper(RunSpec([held, ball], []))
    for _ in range(HALF_A_SECOND):
        stepper.frame()
    mine = stepper.world.node_body == 0
    np.testing.assert_array_equal(stepper.state.x[mine], stepper.world.start[mine])
    assert count(stepper) == 0


def test_a_run_taken_up_on_the_way_goes_on_to_the_same_bits():
    solids = balls((0, 0.1, 0), (0.01, 0.13, 0))
    whole, again = Stepper(RunSpec(solids, [])), Stepper(RunSpec(solids, []))
    for _ in range(3):
        whole.frame()
    again.restore(State.unpacked(whole.state.packed()))
    for _ in range(8):
        whole.frame()
        again.frame()
    np.testing.assert_array_equal(whole.state.packed(), again.state.packed())


def test_a_ring_on_a_stick_is_not_an_overlap():
    ring = make_solid(primitives.torus(24, 10, 0.6), (0.12, 0.03, 0.12), 3, (0, 0.2, 0))
    stick = make_solid(primitives.block((2, 8, 2)), (0.02, 0.16, 0.02), 2, (0, 0.2, 0), JELLY)
    stepper = Stepper(RunSpec([ring, stick], []))
    assert not stepper.contacts.tangled()
    stepper.frame()
    mass, body = stepper.world.mass, stepper.world.node_body
    moved = stepper.state.x - stepper.world.start
    fallen = [mass[body == k] @ moved[body == k] / mass[body == k].sum() for k in (0, 1)]
    assert np.abs(fallen[0] - fallen[1]).max() < 1e-6


@pytest.mark.parametrize("kind", ["rigid", "solid"])
@pytest.mark.parametrize("overlap", [1e-3, 2e-2])
def test_a_stack_that_starts_overlapping_stands_as_a_stack(kind, overlap):
    stepper = Stepper(RunSpec([box(kind, (0.01 * (k % 2), 0.051 + (0.1 - overlap) * k, 0)) for k in range(3)], [],
                              quality=QUALITIES["draft"]))
    assert own_crossings(stepper) > 0
    run(stepper, A_SECOND)
    heights = centres(stepper)[:, 1]
    assert own_crossings(stepper) == 0
    assert np.diff(heights) == pytest.approx([0.1, 0.1], abs=3e-3) and heights[0] == pytest.approx(0.05, abs=3e-3)


@pytest.mark.parametrize("kind", ["rigid", "solid"])
def test_a_plank_that_starts_in_the_boxes_under_it_comes_to_lie_on_them(kind):
    plank = box(kind, (0.15, 0.117, 0), size=(0.5, 0.04, 0.1))
    stepper = run(Stepper(RunSpec([box(kind, (0, 0.051, 0)), box(kind, (0.3, 0.051, 0)), plank], [],
                                  quality=QUALITIES["draft"])), 16)
    assert own_crossings(stepper) == 0 and centres(stepper)[2, 1] == pytest.approx(0.119, abs=5e-3)


@pytest.mark.parametrize("kind", ["rigid", "solid"])
@pytest.mark.parametrize("distance", [2e-3, 1e-6, 0.0, -1e-4])
def test_a_pile_stands_however_the_world_is_turned_and_whether_it_just_touches(kind, distance):
    places = [ASLANT @ (0.01 * (k % 2), 0.051 + (0.1 + distance) * k, 0.0) for k in range(3)]
    stepper = Stepper(RunSpec([box(kind, place, ASLANT) for place in places], [floor(ASLANT)], ground=None,
                              pulls=ASLANT @ DOWN, quality=QUALITIES["draft"]))
    assert distance < 1e-3 or not stepper.contacts.tangled()    # edges along faces do not cross them
    run(stepper, A_SECOND)
    end = centres(stepper) @ ASLANT
    assert own_crossings(stepper) == 0
    assert end[:, 1] == pytest.approx([0.05, 0.15, 0.25], abs=4e-3)
    assert end[:, 0] == pytest.approx([0.0, 0.01, 0.0], abs=6e-3)


@pytest.mark.parametrize("kind", ["rigid", "solid"])
@pytest.mark.parametrize("outside", [False, True])
@pytest.mark.parametrize("distance", [-5e-3, 0.0])
def test_what_starts_in_a_slope_slides_off_it_as_one_that_does_not(kind, outside, distance):
    down, pull = Rotation.from_euler("z", -40.0, degrees=True).as_matrix(), 9.81
    slab = make_block_collider((4.0, 0.1, 1.0), (0, 0, 0), down, Touch(1e-3, 0.3, outside_only=outside))
    stepper = Stepper(RunSpec([box(kind, down @ (-1.5, 0.1 + distance, 0.0), down, friction=0.3)], [slab], ground=None,
                              quality=QUALITIES["draft"]))
    ways = [run(stepper, 4) and float(centres(stepper)[0] @ down[:, 0]) for _ in range(5)]
    wanted = pull * (np.sin(np.radians(40.0)) - 0.3 * np.cos(np.radians(40.0)))
    assert own_crossings(stepper) == 0
    assert 2.0 * np.polyfit(np.arange(3) / 6.0, ways[-3:], 2)[0] == pytest.approx(wanted, rel=0.04)


def test_what_starts_across_the_wall_of_a_room_comes_to_the_side_where_most_of_it_is():
    room = ColliderSpec(BOX.points * 0.5 + (0, 0.25, 0), BOX.triangles, Touch(1e-3, 0.5))
    for x, inside in ((0.21, True), (0.29, False)):
        (ball,) = balls((x, 0.2, 0))
        stepper = run(Stepper(RunSpec([ball], [room], quality=QUALITIES["draft"])), A_SECOND)
        assert own_crossings(stepper) == 0
        assert (abs(centres(stepper)[0, 0]) < 0.25) == inside


def test_what_starts_in_a_tray_that_rises_rides_on_it():
    slab = primitives.block((4, 1, 4))
    tray = LedSpec(slab.points * (0.4, 0.02, 0.4) + (0, 0.1, 0), slab.triangles, Touch(1e-3, 0.5),
                   lambda since: CORNERS + np.array([0.0, 0.2 * since, 0.0]))
    stepper = Stepper(RunSpec([tray, box("solid", (0, 0.155, 0))], [], quality=QUALITIES["draft"]))
    for frame in range(A_SECOND):
        stepper.frame(frame / 24)
    assert own_crossings(stepper) == 0 and centres(stepper)[1, 1] == pytest.approx(0.36, abs=4e-3)


@pytest.mark.parametrize("height", [0.0985, 0.094])
def test_a_cloth_that_starts_in_a_block_comes_to_lie_on_it(height):
    block = make_block_collider((0.2, 0.1, 0.2), (0, 0.05, 0))
    cloth = make_shell(primitives.sheet(14, 14), (0.4, 1.0, 0.4), (0, height, 0))
    stepper = run(Stepper(RunSpec([cloth], [block], quality=QUALITIES["draft"])), A_SECOND)
    assert own_crossings(stepper) == 0
    middle = np.linalg.norm(stepper.skin()[:, [0, 2]], axis=1) < 0.08
    assert stepper.skin()[middle, 1].min() > 0.1


def test_what_starts_in_the_wall_of_a_bowl_is_led_out_point_by_point_and_stays_in_it():
    bowl = primitives.torus(32, 16, 0.5)
    ring = ColliderSpec(bowl.points * (0.4, 0.13, 0.4) + (0, 0.07, 0), bowl.triangles, Touch(1e-3, 0.5))
    wall = np.linalg.norm(ring.points[:, [0, 2]], axis=1).min()
    (ball,) = balls((wall - 0.035, 0.07, 0))
    stepper, heights = Stepper(RunSpec([ball], [ring], quality=QUALITIES["draft"])), []
    assert own_crossings(stepper) > 0
    for _ in range(A_SECOND):
        stepper.frame()
        heights.append(centres(stepper)[0, 1])
    assert own_crossings(stepper) == 0
    assert max(heights) < 0.08 and np.linalg.norm(centres(stepper)[0, [0, 2]]) < wall - 0.03


@pytest.mark.parametrize("kind", ["rigid", "solid"])
@pytest.mark.parametrize("depth", [0.01, 0.08])
def test_what_starts_in_the_ground_rises_to_it_and_is_not_thrown_up(kind, depth):
    stepper, lowest = Stepper(RunSpec([box(kind, (0, 0.05 - depth, 0))], [], quality=QUALITIES["draft"])), []
    for _ in range(A_SECOND):
        stepper.frame()
        lowest.append(stepper.skin()[:, 1].min())
    assert max(lowest) < 2e-3 and min(lowest[4:]) > 0.0


def test_what_is_held_in_something_that_stands_stays_there_and_touches_it_all_around():
    """As flesh around a bone, or a stalk in a pot."""
    post = make_block_collider((0.04, 0.3, 0.04), (0, 0.15, 0))
    flesh = make_solid(BOX, (0.1, 0.1, 0.1), 4, (0, 0.2, 0), FIRM, held=lambda nodes: np.abs(nodes).max(axis=1) < 0.03)
    stepper = run(Stepper(RunSpec([flesh], [post], quality=QUALITIES["draft"])), HALF_A_SECOND)
    assert not stepper.contacts.tangled() and np.abs(centres(stepper)[0] - (0, 0.2, 0)).max() < 5e-3
