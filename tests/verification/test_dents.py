"""Solids that keep dents, against the model in one dimension, and what must stay true of them."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bodies import make_solid, own_crossings
from rubberquince.shapes import primitives
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import QUALITIES, Dents, LedSpec, Material, RunSpec, Touch
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper

BOX = primitives.block((4, 4, 4))
SLIDES = Touch(1e-3, 0.0)
WAX = Material(2e4, 0.49, 1000.0, 0.05)


def pressed(dents, quality="draft", lift=True):
    """A cube of 10 cm between the ground and a plate that comes down by a fifth, both without friction."""
    def course(t):
        height = 0.1025 - 0.04 * min(t, 0.5) + (0.1 * max(t - 1.2, 0.0) if lift else 0.0)
        return np.eye(4)[:, 1:] * (0.4, 0.05, 0.4) + (0.0, height + 0.025, 0.0)

    box = make_solid(BOX, (0.1, 0.1, 0.1), 2, (0.0, 0.051, 0.0), replace(WAX, dents=dents), SLIDES)
    plate = LedSpec(BOX.points, BOX.triangles, SLIDES, course)
    return Stepper(RunSpec([box, plate], [], quality=QUALITIES[quality], gravity=0.5, ground=SLIDES))


def height(stepper):
    return float(np.ptp(stepper.skin()[: len(BOX.points), 1]))


@pytest.mark.parametrize(("dents", "quality"), [
    (Dents(0.05, 0.05), "draft"), (Dents(0.05, 0.05), "good"), (Dents(0.1, 0.05, 0.5), "draft"), (None, "draft")])
def test_what_was_squeezed_comes_back_by_what_it_yields_at_and_what_does_not_stay(dents, quality):
    stepper, heights = pressed(dents, quality), []
    for k in range(48):
        stepper.frame(k / 24.0)
        heights.append(height(stepper))
    strain = -np.log(min(heights) / 0.1)
    assert strain > 0.18
    left = 0.0 if dents is None else (strain - dents.yields) * dents.stays
    assert -np.log(heights[-1] / 0.1) == pytest.approx(left, abs=0.01)


def test_what_is_held_squeezed_flows_as_fast_as_it_is_told():
    dents = Dents(0.0, 0.4)
    stepper, flowed = pressed(dents, lift=False), []
    for k in range(36):
        stepper.frame(k / 24.0)
        flowed.append(stepper.state.memory[:, 6].mean())
    strain, wanted, before = 0.0, 0.0, 0.0                 # the same in one dimension
    for k in range(36 * 6):
        strain = -np.log(max(1.0 - 0.4 * (k + 1) / 144.0, 0.8) + 0.0005)
        wanted += (strain - before) * (1.0 - np.exp(-1.0 / (144.0 * 0.4)))
        before = wanted
    assert flowed[-1] == pytest.approx(wanted, rel=0.08)


def test_a_pillar_of_syrup_runs_flat_and_keeps_its_volume_and_one_of_jelly_does_not():
    ends = []
    for dents in (Dents(0.0, 0.05), None):
        pillar = make_solid(BOX, (0.06, 0.14, 0.06), 3, (0.0, 0.0708, 0.0), replace(WAX, stiffness=2500.0, dents=dents))
        stepper = Stepper(RunSpec([pillar], [], quality=QUALITIES["draft"]))
        for k in range(36):
            stepper.frame(k / 24.0)
        assert own_crossings(stepper) == 0
        a, b, c = (stepper.skin()[BOX.triangles[:, k]] for k in range(3))
        ends.append((height(stepper), np.einsum("ti,ti->", a, np.cross(b, c)) / 6.0))
    assert ends[0][0] < 0.075 < 0.1 < ends[1][0]
    assert ends[0][1] == pytest.approx(0.06 * 0.06 * 0.14, rel=0.08)


def test_a_dented_thing_spins_on_as_it_did():
    bar = make_solid(BOX, (0.2, 0.06, 0.06), 3, (0.0, 1.0, 0.0), replace(WAX, stiffness=5e4, dents=Dents(0.01, 0.1)))
    stepper = Stepper(RunSpec([bar], [], gravity=0.0, ground=None))
    x, mass = stepper.state.x, stepper.world.mass
    spin = np.array([0.0, 0.0, 12.0])
    stepper.restore(replace(stepper.state, v=np.cross(spin, x - mass @ x / mass.sum())))
    turning = []
    for _ in range(24):
        x, v = stepper.state.x, stepper.state.v
        turning.append((mass[:, None] * np.cross(x - mass @ x / mass.sum(), v)).sum(axis=0)[2])
        stepper.frame()
    assert turning[-1] == pytest.approx(turning[0], rel=2e-3)


@pytest.mark.parametrize("kind", [Stepper, IslandStepper])
def test_a_run_taken_up_again_remembers_its_dents_to_the_bit(kind):
    dents = replace(WAX, stiffness=3000.0, dents=Dents(0.02, 0.1))
    soft = [make_solid(BOX, (0.08, 0.1, 0.08), 2, (x, y, 0.0), dents) for x, y in ((0.0, 0.0508), (0.6, 0.6))]
    still = make_solid(BOX, (0.1, 0.1, 0.1), 4, (-0.6, 0.0508, 0.0), replace(WAX, stiffness=1e5, wobble_halves=0.02,
                                                                          dents=Dents(0.2, 0.1)))
    one, two = (kind(RunSpec([*soft, still], [], quality=QUALITIES["draft"])) for _ in range(2))
    for k in range(20):
        one.frame(k / 24.0)
    kept = one.state.packed()
    for k in range(4):
        one.frame((20 + k) / 24.0)
    two.restore(State.unpacked(kept))
    for k in range(4):
        two.frame((20 + k) / 24.0)
    assert (one.state.memory[:, 6] > 0.0).any()
    assert (one.state.packed() == two.state.packed()).all()


@settings(max_examples=8, deadline=None)
@given(yields=st.sampled_from([0.0, 1e-6, 0.05, 3.0]), time=st.sampled_from([1e-3, 0.1, 1e4]),
       stays=st.sampled_from([0.05, 1.0]), stiffness=st.sampled_from([1.0, 3e3, 1e9]),
       speed=st.sampled_from([0.0, -30.0]))
def test_silly_values_neither_explode_nor_leave_anything_that_is_no_number(yields, time, stays, stiffness, speed):
    body = make_solid(BOX, (0.1, 0.1, 0.1), 2, (0.0, 0.06, 0.0),
                      replace(WAX, stiffness=stiffness, dents=Dents(yields, time, stays)))
    stepper = Stepper(RunSpec([body], [], quality=QUALITIES["draft"]))
    stepper.restore(replace(stepper.state, v=np.zeros_like(stepper.state.x) + np.array([0.0, speed, 0.0])))
    for k in range(8):
        stepper.frame(k / 24.0)
    assert np.isfinite(stepper.state.packed()[:-8]).all()
    assert np.abs(stepper.state.x).max() < 15.0
    rests = np.eye(3) + stepper.state.memory[:, [[0, 5, 4], [5, 1, 3], [4, 3, 2]]]
    assert np.linalg.det(rests) == pytest.approx(1.0, rel=1e-6)
