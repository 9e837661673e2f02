"""Named feels and their mixtures."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rubberquince.bake.assemble import material_of, run_key
from rubberquince.document.feels import FEELS, feels_of, mixed, usual, with_feel
from rubberquince.document.scene import Scene, SolidValues, changed
from rubberquince.document.values import FeelChoice
from scenes import ball

names = st.sampled_from(["solid", "shell"]).flatmap(
    lambda role: st.tuples(*[st.sampled_from([feel.name for feel in feels_of(role)])] * 2))


@pytest.mark.parametrize("name", sorted(FEELS))
def test_every_feel_is_a_whole_set_of_values(name):
    role = FEELS[name].role
    piece = with_feel(changed(ball(), "role", role), FeelChoice(name=name))
    values = getattr(piece, role)
    assert values.feel.name == name and 0.0 < material_of(values).poisson <= 0.495
    assert usual(piece) == {k: getattr(values, k) for k in usual(piece)}
    assert len(FEELS[name].line) > 10


def test_the_usual_solid_is_set_jelly():
    values = mixed(FeelChoice(name="set jelly"))
    assert usual(ball()) == values == {k: getattr(SolidValues(), k) for k in values}


def test_a_feel_of_another_role_leaves_the_values_as_they_are():
    piece = with_feel(changed(ball(), "role", "shell"), FeelChoice(name="soft rubber"))
    assert piece.shell.feel.name == "" and piece.shell.stretch == changed(ball(), "role", "shell").shell.stretch


@given(names, st.floats(0.0, 1.0))
def test_a_mixture_lies_between_its_two(two_of_a_role, share):
    one, two = two_of_a_role
    values = mixed(FeelChoice(name=one, mixed_with=two, share=share))
    for key, value in values.items():
        low, high = sorted((FEELS[one].values[key], FEELS[two].values[key]))
        assert low * (1 - 1e-5) <= value <= high * (1 + 1e-5)


def test_half_way_between_a_soft_and_a_hard_feel_is_their_geometric_mean():
    values = mixed(FeelChoice(name="set jelly", mixed_with="soft rubber", share=0.5))
    assert values["stiffness"] == pytest.approx((4200 * 400e3) ** 0.5, rel=1e-4)


def test_own_values_stay_as_they_are_and_frames_depend_on_values_only():
    stiff = changed(ball(), "solid.stiffness", 9000.0)
    own = with_feel(stiff, FeelChoice(name=""))
    assert own.solid == stiff.solid.model_copy(update={"feel": FeelChoice(name="")})
    assert run_key(Scene(pieces=(own,))) == run_key(Scene(pieces=(stiff,)))
