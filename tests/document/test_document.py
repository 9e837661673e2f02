"""Commands, undo, gestures, and values that are out of range."""

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from rubberquince.document import remaking
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.document import MOST_STEPS, Document
from rubberquince.document.maps import EdgesRule, HeightRule, Layer, Map, StrokesRule
from rubberquince.document.scene import Curve, Scene, changed
from rubberquince.document.tracks import Key, Track
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


class Walk(RuleBasedStateMachine):
    """Steps of any kind in any order; what each scene said is written down beside the document's own history."""

    def __init__(self):
        super().__init__()
        self.document = Document(small_scene())
        self.said, self.at = [self.document.scene.model_dump_json()], 0

    def step(self):
        """A step was done: what was undone before it is gone, and of a step that changed nothing there is none."""
        said = self.document.scene.model_dump_json()
        if said != self.said[self.at]:
            self.said, self.at = [*self.said[:self.at + 1], said], self.at + 1

    def piece(self, number):
        return self.document.scene.pieces[number % len(self.document.scene.pieces)]

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9), path=st.sampled_from(["solid.density", "solid.stiffness", "contact.friction"]),
          value=st.floats(0.1, 1.0), frame=st.integers(1, 12))
    def change(self, number, path, value, frame):
        self.document.set_value("change", path, value * (1.0 if "friction" in path else 1000.0),
                                self.piece(number).id, frame)
        self.step()

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9), kind=st.sampled_from([HeightRule, EdgesRule, StrokesRule]), low=st.floats(0.0, 0.5))
    def lay(self, number, kind, low):
        layers = tuple(layer for a_map in self.piece(number).maps for layer in a_map.layers)
        a_map = Map(of="solid.stiffness", low=low, layers=(*layers, Layer(rule=kind()))[-4:])
        self.document.set_value("lay", "maps", (a_map,), self.piece(number).id)
        self.step()

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9), beads=st.lists(st.floats(-0.5, 0.5), min_size=2, max_size=6))
    def draw(self, number, beads):
        self.document.begin_gesture(hasty=True)
        for end in range(1, len(beads) + 1):
            curve = Curve(id="c", name="c", beads=tuple((x, 0.5, 0.0) for x in beads[:end]))
            self.document.set_value("draw", "curves", (curve,), self.piece(number).id)
        self.document.end_gesture()
        self.step()

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9), frame=st.integers(1, 100), value=st.floats(100.0, 9000.0))
    def key(self, number, frame, value):
        track = Track(of="solid.stiffness", keys=(Key(frame=1, value=500.0), Key(frame=1 + frame, value=value)))
        self.document.set_value("key", "tracks", (track,), self.piece(number).id)
        self.step()

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9))
    def refine(self, number):
        piece = self.piece(number)
        mesh = unit_mesh(piece.shape, self.document.meshes)
        if len(mesh.points) < 1000:
            self.document.replace_piece("refine", *remaking.refined_there(piece, self.document.meshes,
                                                                          mesh.points[:, 1] > 0.0))
            self.step()

    @precondition(lambda self: len(self.document.scene.pieces) < 4)
    @rule()
    def add(self):
        self.document.add_piece(ball(self.document.new_id()))
        self.step()

    @precondition(lambda self: self.document.scene.pieces)
    @rule(number=st.integers(0, 9))
    def remove(self, number):
        self.document.remove_pieces([self.piece(number).id])
        self.step()

    @rule(times=st.integers(1, 9))
    def undo(self, times):
        for _ in range(times):
            self.document.undo()
        self.at = max(self.at - times, 0)

    @rule(times=st.integers(1, 9))
    def redo(self, times):
        for _ in range(times):
            self.document.redo()
        self.at = min(self.at + times, len(self.said) - 1)

    @invariant()
    def is_what_it_was(self):
        assert self.document.scene.model_dump_json() == self.said[self.at]

    def teardown(self):
        while self.document.undo_label:
            self.document.undo()
        assert self.document.scene.model_dump_json() == self.said[0]
        for said in self.said[1:]:
            self.document.redo()
            assert self.document.scene.model_dump_json() == said
        assert self.document.redo_label is None


TestWalk = Walk.TestCase
TestWalk.settings = settings(max_examples=6, stateful_step_count=500, deadline=None,
                             suppress_health_check=list(HealthCheck))


def test_changed_reaches_deep_and_leaves_the_old_alone():
    scene = Scene()
    assert changed(scene, "run.fps", 30.0).run.fps == 30.0
    assert scene.run.fps == 24.0
