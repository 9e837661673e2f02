"""Keys and forces by hand in the real window: beads at fields, lanes of keys, force cards, riding."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest

from handling import LEFT, LONG, checked, field, pick, pixel_of, play_to_end, sentence, type_into
from rubberquince.document.scene import BlockShape, Curve, Piece, Place, RunSettings, Scene, SheetShape, SphereShape
from rubberquince.document.tracks import Key
from rubberquince.document.values import HoldValues, SolidValues
from rubberquince.ui.sheet.bead import HERE, NONE, THREAD

BALL = Piece(id="ball", name="Ball", shape=SphereShape(around=12, rings=6), solid=SolidValues(cells=3),
             place=Place(position=(0.0, 0.18, 0.0), size=(0.1, 0.1, 0.1)))
TRAY = Piece(id="tray", name="Tray", shape=BlockShape(divisions=(4, 1, 4)), role="collider",
             place=Place(position=(0.0, 0.1, 0.0), size=(0.4, 0.02, 0.4)))


@pytest.fixture
def window(show):
    made = show(Scene(pieces=(BALL, TRAY), run=RunSettings(last=20, quality="draft")))
    made.bench.choose("tray")
    return made


def bead(window, section, path):
    window.sheet.section(section).fold.setChecked(True)
    return window.sheet.section(section).beads[path]


def track(window, path="place.position.0", piece="tray"):
    return window.bench.scene.piece(piece).track_of(path)


def slide(window):
    """Key the tray aside over the run, by its bead and its field."""
    QTest.mouseClick(bead(window, "Place", "place.position.0"), LEFT)
    window.player.go(20)
    type_into(field(window, "Place", "Position x").edit, "10 cm")


def lane_point(window, path, frame):
    """Where the key of a lane at a frame is, px."""
    lanes = window.strip.lanes
    k = next(k for k, lane in enumerate(lanes.lanes) if lane.track is not None and lane.track.of == path)
    return lanes, lanes._plot(k), lanes._plot(k).bead(lanes.lanes[k].track.key_at(frame))


def at(point):
    return QPoint(round(point.x()), round(point.y()))


def test_a_bead_sets_a_key_and_typing_at_another_frame_sets_one_there(window):
    mark = bead(window, "Place", "place.position.0")
    assert mark.shows == NONE
    slide(window)
    assert [(key.frame, key.value) for key in track(window).keys] == [(1, 0.0), (20, pytest.approx(0.1))]
    assert mark.shows == HERE and window.bench.scene.piece("tray").place.position[0] == 0.0
    window.player.go(10)
    assert mark.shows == THREAD
    shown = field(window, "Place", "Position x").edit.value
    assert shown == pytest.approx(track(window).at(10)) and 0.0 < shown < 0.1
    window.bench.document.undo()
    assert len(track(window).keys) == 1
    window.bench.document.redo()
    window.player.go(20)
    QTest.mouseClick(mark, LEFT)
    assert [key.frame for key in track(window).keys] == [1]
    window.player.go(1)
    QTest.mouseClick(mark, LEFT)
    assert track(window) is None and mark.shows == NONE


def test_what_is_keyed_plays_as_it_is_keyed_and_takes_things_along(window, qtbot):
    slide(window)
    window.player.go(1)
    play_to_end(window, qtbot)
    skins = window.runner.skins(20)
    assert skins["tray"][:, 0].mean() == pytest.approx(0.1, abs=1e-5)
    assert skins["ball"][:, 0].mean() > 0.03
    window.player.go(10)
    body = window.view_zone.view.stage.bodies["tray"]
    assert body.points[:, 0].mean() == pytest.approx(track(window).at(10), abs=1e-5)


def test_a_cloth_grows_by_keys_of_its_lengths_and_buckles(window, qtbot):
    sheet = Piece(id="cloth", name="Cloth", role="shell", shape=SheetShape(across=8, along=8), hold=HoldValues(
        what="outline"), place=Place(position=(0.0, 0.2, 0.0), size=(0.2, 0.01, 0.2)))
    window.bench.document.push("a cloth", Scene(pieces=(sheet,), run=RunSettings(last=16, quality="draft")))
    window.bench.choose("cloth")
    for name in ("along", "across"):
        window.player.go(1)
        QTest.mouseClick(bead(window, "Springs", f"shell.{name}"), LEFT)
        window.player.go(12)
        type_into(field(window, "Springs", f"Length {name}").edit, "140 %")
        assert [key.value for key in track(window, f"shell.{name}", "cloth").keys] == [1.0, pytest.approx(1.4)]
    play_to_end(window, qtbot)
    early, late = (np.ptp(window.runner.skins(frame)["cloth"][:, 1]) for frame in (2, 16))
    assert late > 0.03 and late > 3.0 * early


def test_a_tray_goes_along_its_keys_in_the_view_before_anything_is_computed(window):
    slide(window)
    for frame in (1, 8, 20):
        window.player.go(frame)
        body = window.view_zone.view.stage.bodies["tray"]
        assert body.points[:, 0].mean() == pytest.approx(track(window).at(frame), abs=1e-6)
    assert len(window.view_zone.view.threads) > 20          # its path, a tick a frame


def test_gravity_is_keyed_where_nothing_is_chosen_and_swings(window, qtbot):
    window.bench.choose("")
    around = window.sheet.surroundings
    assert around.fields["run.toward"].isHidden()
    QTest.mouseClick(around.beads["run.lean"], LEFT)
    window.player.go(20)
    type_into(around.fields["run.lean"].edit, "90")
    track = window.bench.scene.track_of("run.lean")
    assert [(key.frame, key.value) for key in track.keys] == [(1, 0.0), (20, 90.0)]
    assert not around.fields["run.toward"].isHidden()
    assert [lane.name for lane in window.strip.lanes.lanes if lane.track is not None] == ["Leans by"]
    window.player.go(1)
    assert around.fields["run.lean"].edit.value == 0.0
    play_to_end(window, qtbot)
    skins = window.runner.skins(20)
    assert skins["ball"][:, 0].mean() > 0.02 and skins["ball"][:, 2].mean() == pytest.approx(0.0, abs=5e-3)
    window.player.go(20)
    QTest.mouseClick(around.beads["run.lean"], LEFT)
    window.bench.document.undo()
    assert window.bench.scene.track_of("run.lean") == track


def test_a_piece_is_reshaped_by_keys_and_is_carried_by_them(window, qtbot):
    window.bench.choose("ball")
    QTest.mouseClick(bead(window, "Reshape", "reshape.squash"), LEFT)
    window.player.go(12)
    type_into(field(window, "Reshape", "Length").edit, "170 %")
    section = window.sheet.section("Reshape")
    assert "length" in section.summary(window.bench.seen)
    type_into(field(window, "Reshape", "Twist").edit, "a lot")
    assert sentence(window) and window.bench.scene.piece("ball").reshape.twist == 0.0
    window.player.go(1)
    play_to_end(window, qtbot)
    tall = [np.ptp(window.runner.skins(frame)["ball"][:, 1]) for frame in (1, 20)]
    assert tall[1] > 1.25 * tall[0]
    window.bench.set_value("keep dents", "solid.yields", 0.1, "ball")
    assert any("Reshape" in check.sentence for check in checked(window, qtbot))


def test_a_collider_is_reshaped_in_the_view_and_lifts_what_lies_on_it(window, qtbot):
    QTest.mouseClick(bead(window, "Reshape", "reshape.squash"), LEFT)
    window.player.go(20)
    type_into(field(window, "Reshape", "Length").edit, "300 %")
    body = window.view_zone.view.stage.bodies["tray"]
    assert np.ptp(body.points[:, 1]) == pytest.approx(0.06, rel=1e-3)
    play_to_end(window, qtbot)
    skins = window.runner.skins(20)
    assert skins["tray"][:, 1].max() == pytest.approx(0.15, abs=1e-4)
    assert skins["ball"][:, 1].min() > 0.145


def test_keys_are_dragged_copied_typed_and_taken_away_on_their_lane(window):
    slide(window)
    window.strip.refresh()
    lanes, plot, point = lane_point(window, "place.position.0", 20)
    end = QPointF(lanes._x(15), point.y())
    QTest.mousePress(lanes, LEFT, pos=at(point))
    QTest.mouseMove(lanes, at(end))
    QTest.mouseRelease(lanes, LEFT, pos=at(end))
    assert [(key.frame, key.value) for key in track(window).keys] == [(1, 0.0), (15, pytest.approx(0.1))]
    window.bench.document.undo()
    assert [key.frame for key in track(window).keys] == [1, 20]         # the whole drag is one step
    window.strip.refresh()
    lanes, plot, point = lane_point(window, "place.position.0", 1)
    QTest.mouseDClick(lanes, LEFT, pos=at(QPointF(lanes._x(9), plot.y(0.05))))
    assert [key.frame for key in track(window).keys] == [1, 9, 20]
    window.strip.refresh()
    lanes, plot, point = lane_point(window, "place.position.0", 9)
    QTest.mouseDClick(lanes, LEFT, pos=at(point))
    type_into(window.strip.keys.edit, "-1e40")
    assert "at least" in sentence(window) and track(window).key_at(9).value == pytest.approx(0.05, abs=0.02)
    QTest.mouseDClick(lanes, LEFT, pos=at(point))
    type_into(window.strip.keys.edit, "-3 cm")
    assert track(window).key_at(9).value == pytest.approx(-0.03)
    window.strip.refresh()
    lanes, plot, point = lane_point(window, "place.position.0", 9)
    QTest.mouseClick(lanes, LEFT, pos=at(point))
    QTest.keyClick(lanes, Qt.Key.Key_Delete)
    assert [key.frame for key in track(window).keys] == [1, 20]


def test_a_tall_lane_has_arms_that_turn_the_course(window):
    slide(window)
    window.strip.lanes.resize(800, 400)
    window.strip.refresh()
    lanes, plot, _ = lane_point(window, "place.position.0", 1)
    assert plot.tall and not plot.shows(Key(frame=21, value=0.0)) and plot.shows(Key(frame=20, value=0.0))
    arm = plot.arm(track(window), 0)
    QTest.mousePress(lanes, LEFT, pos=at(arm))
    QTest.mouseMove(lanes, at(arm + QPointF(10, -60)))
    QTest.mouseRelease(lanes, LEFT, pos=at(arm + QPointF(10, -60)))
    assert track(window).keys[0].slope > 0 and track(window).at(3) > 0.01


def test_the_menu_of_a_bead_makes_ramps_ways_and_an_end_of_keys(window):
    window.bench.choose("ball")
    mark = bead(window, "Springs", "solid.stiffness")
    before = window.bench.chosen.solid.stiffness
    mark.ramp()
    keys = track(window, "solid.stiffness", "ball").keys
    assert [(key.frame, key.value, key.way) for key in keys] == [(1, 1.0, "even"), (31, before, "smooth")]
    mark.lead_on("by ratio")
    window.player.go(16)
    assert window.bench.seen.solid.stiffness == pytest.approx(np.sqrt(before), rel=1e-6)
    assert {action.text() for action in mark.menu().actions()} >= {"Set a key here", "No keys any more"}
    mark.forget()
    assert track(window, "solid.stiffness", "ball") is None
    assert window.bench.chosen.solid.stiffness == pytest.approx(np.sqrt(before), rel=1e-6)


def test_a_key_out_of_range_is_one_sentence(window):
    window.bench.choose("ball")
    QTest.mouseClick(bead(window, "Springs", "solid.stiffness"), LEFT)
    window.player.go(10)
    type_into(field(window, "Springs", "Stiffness").edit, "-5 kPa")
    assert "Stiffness" in sentence(window) and len(track(window, "solid.stiffness", "ball").keys) == 1
    type_into(field(window, "Springs", "Stiffness").edit, "soft")
    assert "is not a number" in sentence(window)


def test_a_wind_is_added_turned_and_blows_the_ball_away(window, qtbot):
    window.menus.actions["Add a wind"].trigger()
    wind = window.bench.chosen
    assert wind.role == "force" and wind.force.kind == "wind"
    assert "Force" in {s.title for s in window.sheet.sections if not s.isHidden()}
    assert {s.title for s in window.sheet.sections if not s.isHidden()}.isdisjoint({"Shape", "Role and feel", "Hold"})
    type_into(field(window, "Force", "Air speed").edit, "25 m/s")
    window.bench.choose("ball")
    window.bench.set_value("lighter", "solid.density", 20.0, "ball")
    window.bench.choose("tray")
    window.pieces.remove()
    play_to_end(window, qtbot)
    assert window.runner.skins(20)["ball"][:, 0].mean() > 0.1
    assert wind.id not in window.runner.skins(20)


@pytest.mark.parametrize("kind", ["turbulence", "vortex", "puller"])
def test_every_force_can_be_added_shown_with_arrows_and_ended(window, kind):
    window.pieces.add_force(kind)
    assert window.bench.chosen.force.kind == kind
    window.bench.show_threads("force", True)
    assert len(window.view_zone.view.threads) > 100
    type_into(field(window, "Reach", "Reach").edit, "40 cm")
    assert window.bench.chosen.force.reach == pytest.approx(0.4)
    assert len(window.view_zone.view.threads) > 144                 # three rings, too
    pick(window.sheet.section("Force").kind, "wind")
    assert window.bench.chosen.force.kind == "wind"


def test_a_force_rides_on_what_falls_and_its_sign_and_reach_go_along(window, qtbot):
    window.pieces.add_force("vortex")
    force = window.bench.chosen_id
    type_into(field(window, "Reach", "Reach").edit, "40 cm")
    place = window.sheet.section("Place")
    place.fold.setChecked(True)
    pick(place.mount, "Ball")
    assert window.bench.chosen.rides_on == "ball"
    bodies, ways = window.view_zone.view.stage.bodies, []
    play_to_end(window, qtbot)
    for frame in (1, 8):
        window.player.go(frame)
        ways.append([bodies["ball"].points.mean(axis=0), bodies[force].points.mean(axis=0),
                     window.view_zone.view.threads.mean(axis=(0, 1))])
    ball, sign, reach = np.array(ways[1]) - np.array(ways[0])
    assert ball[1] < -0.02 and sign == pytest.approx(ball, abs=3e-3) and reach == pytest.approx(ball, abs=3e-3)


def test_a_force_acts_on_what_is_ticked(window):
    window.pieces.add_force("puller")
    window.bench.document.add_piece(BALL.model_copy(update={"id": "two", "name": "Two"}))
    window.bench.choose(next(p.id for p in window.bench.scene.pieces if p.role == "force"))
    acts = window.sheet.section("Acts on")
    acts.fold.setChecked(True)
    acts.boxes["two"].click()
    assert window.bench.chosen.force.acts_on == ("ball",)
    acts.boxes["ball"].click()
    assert "has to act on something" in sentence(window) and window.bench.chosen.force.acts_on == ("ball",)
    acts.everything.click()
    assert window.bench.chosen.force.acts_on == ()


@pytest.mark.parametrize(("change", "says", "button"), [
    ({"acts_on": ("gone",)}, "acts on no piece", "Let it act on all"),
    ({"reach": 0.05}, "ends", "Let it reach that far"),
    ({"first": 50, "last": 60}, "none of the frames", "Let it be there always"),
    ({"kind": "puller", "draws_to": "a piece", "piece": "gone"}, "draws to a piece that is gone", "Let it draw"),
    ({"reach": 2.0, "speed": -3.0}, "blows away", "Turn it round")])
def test_a_force_that_does_nothing_is_said_and_mended(window, qtbot, change, says, button):
    window.pieces.add_force("wind")
    force = window.bench.chosen.force.model_copy(update=change)
    window.bench.set_value("change", "force", force, window.bench.chosen_id)
    found = [check for check in checked(window, qtbot) if says in check.sentence]
    assert len(found) == 1 and found[0].button.startswith(button)
    mended = found[0].mend(window.bench.scene)
    window.bench.document.push("mend", mended)
    assert not [check for check in checked(window, qtbot) if says in check.sentence]


def test_what_rides_is_chosen_on_the_sheet_and_keys_of_a_free_body_are_told_about(window, qtbot):
    slide(window)
    window.bench.document.add_piece(TRAY.model_copy(update={"id": "peg", "name": "Peg", "tracks": (), "place": Place(
        position=(0.0, 0.3, 0.3), size=(0.02, 0.02, 0.02))}))
    window.bench.choose("peg")
    place = window.sheet.section("Place")
    place.fold.setChecked(True)
    pick(place.mount, "Tray")
    window.player.go(20)
    assert window.view_zone.view.stage.bodies["peg"].points[:, 0].mean() == pytest.approx(0.1, abs=1e-5)
    window.player.go(1)
    window.bench.choose("ball")
    QTest.mouseClick(bead(window, "Place", "place.position.1"), LEFT)
    found = [check for check in checked(window, qtbot) if "nothing holds or draws it" in check.sentence]
    assert len(found) == 1
    window.bench.document.push("mend", found[0].mend(window.bench.scene))
    assert window.bench.scene.piece("ball").goal.to == "its own shape"


def test_a_rigid_piece_is_weighed_and_falls(window, qtbot):
    window.bench.choose("ball")
    section = window.sheet.section("Role and feel")
    section.fold.setChecked(True)
    pick(section.role, "Rigid")
    pick(section.feel, "stone")
    assert window.bench.chosen.rigid.density == 2500.0
    springs = window.sheet.section("Springs")
    springs.fold.setChecked(True)
    springs.weighed.click()
    assert window.bench.chosen.rigid.mass == pytest.approx(2500 * np.pi / 6 * 1e-3, rel=0.15)
    type_into(field(window, "Springs", "Mass").edit, "2 kg")
    assert window.bench.chosen.rigid.mass == 2.0
    play_to_end(window, qtbot)
    skin, rest = window.runner.skins(20)["ball"], window.runner.skins(1)["ball"]
    assert skin[:, 1].min() == pytest.approx(0.111, abs=0.002)
    assert np.ptp(skin, axis=0) == pytest.approx(np.ptp(rest, axis=0), abs=0.002)


def test_a_tug_pulls_what_plays_marks_the_frames_and_becomes_a_puller(window, qtbot):
    window.bench.set_value("longer", "run.last", 80)
    window.bench.choose("ball")
    view, tool = window.view_zone.view, window.view_zone.tools["tug"]
    window.view_zone.take_up("tug", True)
    start = pixel_of(view, view.stage.bodies["ball"].points.mean(axis=0))
    QTest.mousePress(view, LEFT, pos=start)
    end = pixel_of(view, view.stage.bodies["ball"].points.mean(axis=0) + np.array([0.0, 0.16, 0.0]))
    for k in range(1, 6):
        QTest.mouseMove(view, start + (end - start) * k / 5)
    qtbot.waitUntil(lambda: len(tool.kept) > 24 and tool.force > 0.0, timeout=LONG)
    assert view.pull is not None and view.pull.text.endswith("N")
    QTest.mouseRelease(view, LEFT, pos=end)
    window.player.halt()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)
    frame = tool.kept[-3][0]
    assert window.runner.known(frame) and not window.runner.good(frame)
    assert window.runner.skins(frame)["ball"][:, 1].mean() > 0.19         # lifted against its weight
    assert view.pull is None
    tool.keep.click()
    puller = window.bench.chosen
    assert puller.role == "force" and puller.force.kind == "puller" and puller.force.acts_on == ("ball",)
    assert puller.force.first == tool.kept[0][0] and puller.track_of("place.position.1") is not None
    window.view_zone.take_up("tug", False)
    last = tool.kept[-1][0]
    window.bench.set_value("shorter", "run.last", last)
    window.player.go(1)
    play_to_end(window, qtbot)
    heights = [window.runner.skins(k)["ball"][:, 1].mean() for k in range(1, last + 1)]
    assert window.runner.good(last) and max(heights[15:]) > 0.17            # where it rests by itself it is .15


def test_a_line_is_chosen_to_move_along_and_seen_as_a_path(window):
    line = Curve(id="c", name="rail", beads=((-0.5, 0.5, 0.0), (0.5, 0.5, 0.0)))
    ball = window.bench.scene.piece("ball")
    window.bench.document.push("draw", window.bench.scene.with_piece(ball.model_copy(update={"curves": (line,)})))
    window.bench.choose("tray")
    place = window.sheet.section("Place")
    assert field(window, "Place", "Gone so far").isHidden()
    pick(place.line, "rail of " + ball.name)
    assert window.bench.chosen.moves_along == "ball c" and not field(window, "Place", "Gone so far").isHidden()
    place.turns.click()
    assert window.bench.chosen.turns_along
    place.beads["place.along"].click()
    window.player.go(11)
    type_into(field(window, "Place", "Gone so far").edit, "100 %")
    window.player.go(11)
    moved = window.view_zone.view.stage.bodies["tray"].points.mean(axis=0)
    window.player.go(1)
    wide = ball.place.size[0]
    assert moved[0] - window.view_zone.view.stage.bodies["tray"].points.mean(axis=0)[0] == pytest.approx(wide, rel=1e-3)
