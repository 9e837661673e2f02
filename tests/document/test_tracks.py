"""Keyed values: their courses between keys, where they may go, and how scenes keep them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from rubberquince.document.document import Document
from rubberquince.document.scene import Piece, Scene, SphereShape
from rubberquince.document.storage import load_scene, migrated, save_scene
from rubberquince.document.tracks import Key, Track, at_frame, bounds_at, get_at, put_at, scene_at, with_track

STIFFNESS = "solid.stiffness"


def track(*keys, of=STIFFNESS):
    return Track(of=of, keys=tuple(Key(frame=f, value=v, way=way) for f, v, way in keys))


def test_each_way_has_its_course():
    assert [track((1, 10.0, "even"), (5, 30.0, "even")).at(f) for f in (0, 1, 2, 5, 9)] == [10, 10, 15, 30, 30]
    assert [track((1, 10.0, "stepped"), (5, 30.0, "even")).at(f) for f in (1, 4.99, 5)] == [10, 10, 30]
    frames = np.linspace(0, 30, 31)
    ratio = track((0, 100.0, "by ratio"), (30, 8100.0, "even"))
    assert np.allclose([ratio.at(f) for f in frames], 100.0 * np.exp(np.log(81.0) * frames / 30), rtol=1e-12)
    assert track((0, -2.0, "by ratio"), (2, -8.0, "even")).at(1) == pytest.approx(-4.0)
    assert track((0, 0.0, "by ratio"), (2, 8.0, "even")).at(1) == 4.0         # no ratio leads from nothing
    smooth = track((0, 0.0, "smooth"), (10, 1.0, "smooth"))
    assert [smooth.at(f) for f in (0, 5, 10)] == [0.0, 0.5, 1.0]
    assert smooth.at(1) == pytest.approx(0.028)


@given(st.lists(st.floats(-100, 100), min_size=2, max_size=8), st.floats(0, 1))
def test_a_smooth_course_never_swings_beyond_its_keys(values, share):
    one = Track(of=STIFFNESS, keys=tuple(Key(frame=3.0 * k, value=v) for k, v in enumerate(values)))
    k = min(int(share * (len(values) - 1)), len(values) - 2)
    at = one.at(3.0 * (k + share))
    k = min(int(k + share), len(values) - 2)
    low, high = sorted(values[k:k + 2])
    assert low - 1e-9 <= at <= high + 1e-9


def test_a_slope_of_its_own_leads_through_a_key_and_bounds_end_it():
    steep = Track(of="solid.keeps_volume", keys=(Key(frame=0, value=0.9, slope=0.5), Key(frame=10, value=0.9)))
    assert steep.at(2) > 1.2
    piece = Piece(id="a", name="ball", shape=SphereShape(), tracks=(steep,))
    assert at_frame(piece, 2).solid.keeps_volume == 1.0
    assert bounds_at(piece, "place.size.1")[0] > 0 and bounds_at(piece, "contact.bounce") == (0.0, 0.95)
    assert bounds_at(piece, STIFFNESS) == (1.0, 1e9)


def test_keys_are_in_order_and_one_a_frame():
    one = track((1, 1.0, "even"), (5, 2.0, "even"))
    more = one.with_key(Key(frame=3, value=9.0)).with_key(Key(frame=1, value=7.0))
    assert [(key.frame, key.value, key.way) for key in more.keys] == [(1, 7.0, "even"), (3, 9.0, "smooth"),
                                                                      (5, 2.0, "even")]
    with pytest.raises(ValidationError):
        track((5, 1.0, "even"), (1, 2.0, "even"))
    with pytest.raises(ValidationError):
        Key(frame=1e9, value=1.0)
    with pytest.raises(ValidationError):
        Key(frame=1, value=float("nan"))


def test_values_are_read_and_put_by_their_paths():
    piece = Piece(id="a", name="ball", shape=SphereShape())
    moved = put_at(piece, "place.position.2", 3.0)
    assert moved.place.position == (0.0, 0.0, 3.0) and get_at(moved, "place.position.2") == 3.0
    scene = Scene(pieces=(with_track(piece, track((0, 0.0, "even"), (10, 20.0, "even"), of="place.turn.1")),))
    scene = with_track(scene, track((0, 9.81, "even"), (10, 0.0, "even"), of="run.gravity"))
    now = scene_at(scene, 5)
    assert now.pieces[0].place.turn == (0.0, 10.0, 0.0) and now.run.gravity == pytest.approx(4.905)
    assert scene_at(Scene(pieces=(piece,)), 3) == Scene(pieces=(piece,))


def test_a_scene_keeps_its_keys_and_an_older_one_has_none(tmp_path):
    piece = with_track(Piece(id="a", name="ball", shape=SphereShape()), track((2, 5.0, "by ratio"), (9, 50.0, "even")))
    document = Document(Scene(pieces=(piece,)))
    save_scene(tmp_path / "a.quince", document.scene, {})
    assert load_scene(tmp_path / "a.quince")[0] == document.scene
    old = Scene(pieces=(piece.model_copy(update={"tracks": ()}),)).model_dump()
    old["version"] = 5
    for name in ("tracks", "rides_on"):
        del old["pieces"][0][name]
    del old["tracks"]
    assert Scene.model_validate(migrated(old, "a")).pieces[0].tracks == ()
