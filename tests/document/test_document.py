"""Commands, undo, gestures, and values that are out of range."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.document.document import MOST_STEPS, Document
from rubberquince.document.scene import Scene, changed
from rubberquince.errors import SceneError
from scenes import ball, small_scene


@pytest.fixture
def document():
    return Document(small_scene())


def test_undo_and_redo_bring_back_the_very_scenes(document):
    scenes = [document.scene]
    document.set_value("change stiffness", "solid.stiffness", 900.0, "ball")
    scenes.append(document.scene)
    document.remove_pieces(["slab"])
    scenes.append(document.scene)
    assert document.undo_label == "remove Slab"
    document.undo()
    document.undo()
    assert document.scene is scenes[0] and document.undo_label is None
    document.redo()
    document.redo()
    assert document.scene is scenes[2] and document.redo_label is None


def test_a_gesture_is_one_step(document):
    document.begin_gesture()
    for k in range(50):
        document.set_value("change stiffness", "solid.stiffness", 1000.0 + k, "ball")
    document.end_gesture()
    document.begin_gesture()
    document.set_value("change stiffness", "solid.stiffness", 5000.0, "ball")
    document.end_gesture()
    document.undo()
    assert document.scene.piece("ball").solid.stiffness == 1049.0
    document.undo()
    assert document.scene.piece("ball").solid.stiffness == 4200.0


def test_a_change_that_changes_nothing_is_no_step(document):
    document.set_value("change friction", "contact.friction", 0.4, "ball")
    assert document.undo_label is None and not document.unsaved


def test_a_new_change_drops_what_was_undone(document):
    document.set_value("a", "solid.stiffness", 1.0, "ball")
    document.undo()
    document.set_value("b", "solid.density", 900.0, "ball")
    document.redo()
    assert document.undo_label == "b"


def test_listeners_hear_before_and_after(document):
    heard = []
    document.listeners.append(lambda before, after: heard.append((before, after)))
    first = document.scene
    document.set_value("change density", "solid.density", 900.0, "ball")
    document.undo()
    assert heard[0][0] is first and heard[1][1] is first


def test_unsaved_knows_the_saved_scene_again(document):
    document.set_value("a", "run.last", 40)
    assert document.unsaved
    document.undo()
    assert not document.unsaved
    document.redo()
    document.mark_saved()
    assert not document.unsaved


def test_history_is_bounded(document):
    for k in range(MOST_STEPS + 20):
        document.set_value("change density", "solid.density", 500.0 + k, "ball")
    steps = 0
    while document.undo_label:
        document.undo()
        steps += 1
    assert steps == MOST_STEPS


@pytest.mark.parametrize("path, value", [
    ("solid.stiffness", -1.0), ("solid.stiffness", float("nan")), ("solid.stiffness", float("inf")),
    ("solid.stiffness", "soft"), ("place.size", (0.0, 1.0, 1.0)), ("place.position", (1e9, 0.0, 0.0)),
    ("contact.gap", 0.0), ("role", "ghost"), ("solid.cells", 1), ("name", "")])
def test_silly_values_get_one_sentence_and_change_nothing(document, path, value):
    before = document.scene
    with pytest.raises(SceneError) as caught:
        document.set_value("x", path, value, "ball")
    assert str(caught.value).endswith(".") and "\n" not in str(caught.value)
    assert document.scene is before and document.undo_label is None


def test_the_range_may_not_run_backwards(document):
    with pytest.raises(SceneError, match="must not come after"):
        document.set_value("x", "run.first", 500)


def test_names_and_ids_are_new(document):
    assert document.new_name("Ball") == "Ball 2" and document.new_name("Cone") == "Cone"
    assert len({document.new_id() for _ in range(200)}) == 200


def test_pieces_share_what_did_not_change(document):
    slab = document.scene.piece("slab")
    document.add_piece(ball("other"))
    assert document.scene.piece("slab") is slab


@settings(max_examples=30, deadline=None)
@given(st.lists(st.sampled_from(["change", "undo", "redo", "remove", "add"]), max_size=25))
def test_any_order_of_steps_can_be_undone_to_the_start(steps):
    start = small_scene()
    document = Document(start)
    for k, step in enumerate(steps):
        if step == "change" and any(p.id == "ball" for p in document.scene.pieces):
            document.set_value("change", "solid.density", 100.0 + k, "ball")
        elif step == "remove" and document.scene.pieces:
            document.remove_pieces([document.scene.pieces[-1].id])
        elif step == "add":
            document.add_piece(ball(f"p{k}"))
        elif step in ("undo", "redo"):
            getattr(document, step)()
    while document.undo_label:
        document.undo()
    assert document.scene == start


def test_changed_reaches_deep_and_leaves_the_old_alone():
    scene = Scene()
    assert changed(scene, "run.fps", 30.0).run.fps == 30.0
    assert scene.run.fps == 24.0
