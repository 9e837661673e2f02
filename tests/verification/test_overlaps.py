"""Solids that start in each other are drawn apart, and fall meanwhile as all things do."""

import numpy as np
import pytest

from bodies import JELLY, crossings, make_block_collider, make_solid
from rubberquince.shapes import primitives
from rubberquince.solver.specs import QUALITIES, RunSpec
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

HALF_A_SECOND = 12


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
