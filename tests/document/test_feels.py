"""Named feels and their mixtures."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from rubberquince.bake.assemble import material_of
from rubberquince.bake.keys import run_key
from rubberquince.document.feels import FEELS, feels_of, mixed, usual, with_feel
from rubberquince.document.own_feels import feel_of, find_own, forget, keep, own_folder, read_feel, write_feel
from rubberquince.document.scene import Scene, SolidValues, changed
from rubberquince.document.values import FeelChoice
from rubberquince.errors import SceneError
from scenes import ball

names = st.sampled_from(["solid", "shell"]).flatmap(
    lambda role: st.tuples(*[st.sampled_from([feel.name for feel in feels_of(role)])] * 2))


@pytest.mark.parametrize("name", sorted(FEELS))
def test_every_feel_is_a_whole_set_of_values(name):
    role = FEELS[name].role
    piece = with_feel(changed(ball(), "role", role), FeelChoice(name=name))
    values = getattr(piece, role)
    material = material_of(piece, Scene(pieces=(piece,)), {})
    assert values.feel.name == name and 0.0 < material.density < 1e4
    assert role == "rigid" or 0.0 < material.poisson <= 0.495
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
        low, high = sorted((FEELS[one].values[key], FEELS[two].values.get(key, FEELS[one].values[key])))
        assert low * (1 - 1e-5) <= value <= high * (1 + 1e-5)


def test_half_way_between_a_soft_and_a_hard_feel_is_their_geometric_mean():
    values = mixed(FeelChoice(name="set jelly", mixed_with="soft rubber", share=0.5))
    assert values["stiffness"] == pytest.approx((4200 * 400e3) ** 0.5, rel=1e-4)


def test_own_values_stay_as_they_are_and_frames_depend_on_values_only():
    stiff = changed(ball(), "solid.stiffness", 9000.0)
    own = with_feel(stiff, FeelChoice(name=""))
    assert own.solid == stiff.solid.model_copy(update={"feel": FeelChoice(name="")})
    assert run_key(Scene(pieces=(own,))) == run_key(Scene(pieces=(stiff,)))


def test_an_own_feel_is_kept_found_again_and_forgotten(tmp_path):
    piece = changed(changed(ball(), "solid.stiffness", 5555.0), "solid.wobble_halves", 0.0)
    feel = feel_of(piece, "village jelly")
    keep(feel)
    assert feel in feels_of("solid") and feel not in feels_of("shell")
    FEELS.pop("village jelly")
    assert find_own() == [] and FEELS["village jelly"] == feel
    half = mixed(FeelChoice(name="village jelly", mixed_with="foam", share=0.5))
    assert half["stiffness"] == pytest.approx((5555.0 * 25e3) ** 0.5, rel=1e-5) and half["wobble_halves"] == 0.03
    write_feel(tmp_path / "a.feel", feel)
    assert read_feel(tmp_path / "a.feel") == feel
    forget("village jelly")
    assert "village jelly" not in FEELS and find_own() == [] and "village jelly" not in FEELS
    assert usual(with_feel(piece, FeelChoice(name="village jelly")))["stiffness"] == SolidValues().stiffness


@pytest.mark.parametrize("name", ["", "   ", "x" * 41, "foam", " foam "])
def test_a_feel_needs_a_name_of_its_own(name):
    with pytest.raises(SceneError, match="feel"):
        feel_of(ball(), name)


@pytest.mark.parametrize("text", ["", "[]", "{}", "nonsense", "[" * 20_000, '{"feel": 1, "name": "a", "role": "shell"}',
                                  '{"feel": 1, "name": "a", "role": "solid", "line": "", "values": {"stiffness": 1}}',
                                  '{"feel": 1, "name": "a", "role": "solid", "line": "", "values": {"stiffness": -1, '
                                  '"keeps_volume": 0, "wobble_halves": 1, "density": 1}}', "0" * 200_000])
def test_what_is_no_feel_is_refused_in_one_sentence(tmp_path, text):
    path = tmp_path / "bad.feel"
    path.write_text(text)
    with pytest.raises(SceneError, match="is not a feel"):
        read_feel(path)
    own_folder().mkdir(parents=True)
    (own_folder() / "bad.feel").write_text(text)
    assert len(find_own()) == 1
    with pytest.raises(SceneError, match="Could not read"):
        read_feel(tmp_path / "none.feel")
