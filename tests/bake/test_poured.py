"""Pellets in scenes: whatever mesh is made that, whatever values it has, each part of it is a ball and none is lost."""

import numpy as np
import pytest

from rubberquince.bake.balls import balls_of, width_of
from rubberquince.bake.checks import checks_of
from rubberquince.bake.run import SceneRun
from rubberquince.document.bodies import piece_points
from rubberquince.document.maps import HeightRule, Layer, Map
from rubberquince.document.scene import PelletsShape, Piece, Place, RunSettings, Scene, SheetShape, SphereShape
from rubberquince.document.tracks import Key, Track
from rubberquince.document.values import ContactValues, GoalValues, HoldValues, PressureValues, ReleaseValues

HEAP = Piece(id="p", name="peas", role="pellets", shape=PelletsShape(count=30, around=6),
             place=Place(position=(0.0, 0.12, 0.0), size=(0.1, 0.1, 0.1)))
ON_HEIGHT = (Layer(rule=HeightRule()),)


def last_skins(tmp_path, *pieces, last=8, **run):
    scene = Scene(pieces=pieces, run=RunSettings(last=last, quality="draft", **run))
    made = SceneRun(scene, {}, tmp_path / "run", lambda: False)
    frames = list(made.frames(last))
    assert np.isfinite(frames[-1].readings).all()
    return made.layout.skins(frames[-1].skin)


@pytest.mark.parametrize("change", [
    {"shape": SphereShape(around=8, rings=5)},
    {"maps": (Map(of="contact.friction", low=0.0, high=1.0, layers=ON_HEIGHT),)},
    {"maps": (Map(of="contact.gap", low=1e-3, high=1e-2, layers=ON_HEIGHT),)},
    {"tracks": (Track(of="contact.friction", keys=(Key(frame=1, value=0.0), Key(frame=8, value=1.0))),)},
    {"goal": GoalValues(to="its own shape", strength=0.9)}, {"pressure": PressureValues(pressure=1e3)},
    {"contact": ContactValues(bounce=0.9)}], ids=str)
def test_whatever_is_made_pellets_falls_on_the_ground_and_stays_above(change, tmp_path):
    piece = HEAP.model_copy(update=change)
    assert not [check for check in checks_of(Scene(pieces=(piece,)), {}) if check.trouble]
    skin = last_skins(tmp_path, piece, last=10)["p"]
    assert -1e-3 < skin[:, 1].min() < 0.02 and np.abs(skin).max() < 0.5


def test_each_part_stays_round_and_as_large_as_it_was(tmp_path):
    before = balls_of(HEAP, {})
    count, width = width_of(HEAP, {})
    after = last_skins(tmp_path, HEAP)["p"].astype(float)
    assert count == 30 and 2.0 * np.median(before.radii(after)) == pytest.approx(width, rel=1e-4)
    apart = np.linalg.norm(before.middles(after)[:, None] - before.middles(after)[None], axis=2)
    apart[np.diag_indices(30)] = np.inf
    assert (apart > 0.9 * (before.radii(after)[:, None] + before.radii(after)[None])).all()


def test_what_is_held_or_waits_stays_and_two_heaps_in_each_other_part_slowly(tmp_path):
    held = HEAP.model_copy(update={"hold": HoldValues(what="everything")})
    late = HEAP.model_copy(update={"release": ReleaseValues(first=1000)})
    for k, piece in enumerate((held, late)):
        skin = last_skins(tmp_path / str(k), piece)["p"]
        assert skin == pytest.approx(piece_points(HEAP, {}), abs=1e-6)
    place = HEAP.place.model_copy(update={"position": (0.003, 0.124, 0.0)})
    other = HEAP.model_copy(update={"id": "q", "place": place})
    skins = last_skins(tmp_path / "two", HEAP, other)
    assert max(np.abs(skin).max() for skin in skins.values()) < 0.4


def test_with_a_life_they_come_again_and_as_many_are_always_under_way(tmp_path):
    """Twenty let go over eight frames that live for eight: from then on some wait, some fall, and none is lost."""
    fountain = HEAP.model_copy(update={"release": ReleaseValues(frames=8.0, life=8.0, again=True),
                                       "place": HEAP.place.model_copy(update={"position": (0.0, 0.6, 0.0)})})
    run = SceneRun(Scene(pieces=(fountain,), run=RunSettings(last=30, quality="draft")), {}, tmp_path, lambda: False)
    balls, start = balls_of(fountain, {}), balls_of(fountain, {}).middles(piece_points(fountain, {}))
    skins = [run.layout.skins(frame.skin)["p"].astype(float) for frame in run.frames(30)]
    under_way = [int((np.abs(balls.middles(skin) - start).max(axis=1) > 1e-5).sum()) for skin in skins]
    assert under_way[0] == 0 and max(under_way) <= len(start) and min(under_way[8:]) > 0.6 * len(start)


def test_without_ground_they_fall_as_stones_do(tmp_path):
    skin = last_skins(tmp_path, HEAP, ground=False)["p"]
    assert skin[:, 1].max() < 0.12 - 0.5 * 9.81 * (7 / 24) ** 2 + 0.06


def test_parts_that_are_not_round_are_taken_as_balls_and_that_is_said():
    sheet = HEAP.model_copy(update={"shape": SheetShape(across=2, along=2)})
    (check,) = [check for check in checks_of(Scene(pieces=(sheet,)), {}) if check.trouble]
    assert check.sentence == "The parts of peas are not round: each meets others as a ball of its mean width."
