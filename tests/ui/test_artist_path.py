"""What an artist does, through the real window: mouse, keys, fields, menus."""

import os
import signal

import numpy as np
import pytest
from pxr import Usd, UsdGeom
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QLabel, QMessageBox, QPushButton

from handling import LEFT, LONG, checked, drag, field, pick, pixel_of, play_to_end, sentence, type_into
from rubberquince.document.document import Document
from rubberquince.document.scene import Scene, changed
from rubberquince.document.storage import load_scene
from rubberquince.exchange.frames import write_obj
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives
from rubberquince.ui import files as files_module
from rubberquince.ui.strip.lanes import GOOD, KNOWN
from rubberquince.view.handles import handles_of
from scenes import ball, slab, small_scene

# --- the demo ---------------------------------------------------------------------------------------------


def test_the_demo_plays_while_it_computes_and_a_softer_pudding_sags_more(window, qtbot):
    window.open_first(None, demo=True)
    window.bench.set_value("shorter", "run.last", 9)
    window.bench.set_value("quick", "run.quality", "draft")
    assert [c.piece.name for c in window.line_up.cards] == ["Pudding", "Plate", "Stall table"]
    seen = []
    window.player.shown.connect(lambda frame: seen.append((frame, window.runner.computing)))
    window.setFocus()
    QTest.keyClick(window, Qt.Key.Key_Space)
    qtbot.waitUntil(lambda: not window.player.playing and not window.runner.computing, timeout=LONG)
    assert any(computing for _, computing in seen)                  # frames were shown before the last was there
    assert window.player.frame == 9 and window.runner.good_up_to(9)
    firm = window.runner.readings("pudding")[9].copy()
    type_into(field(window, "Springs", "Stiffness").edit, "900 Pa")
    assert window.bench.chosen.solid.stiffness == 900.0
    assert not window.runner.good(9) and window.runner.known(9)
    assert (window.strip.lanes.states[1:10] == KNOWN).all()         # out of date, and hatched
    window.player.go(1)
    play_to_end(window, qtbot)
    soft = window.runner.readings("pudding")[9]
    assert soft[4] < firm[4] - 0.002 and (window.strip.lanes.states[1:10] == GOOD).all()


def test_the_picture_moves_with_the_frames(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    pictures = []
    for frame in (1, 5, 12):
        window.player.go(frame)
        QTest.qWait(30)
        image = window.view_zone.view.grab().toImage().convertToFormat(QImage.Format.Format_RGB888)
        pictures.append(np.frombuffer(image.constBits(), np.uint8).copy())
    assert (pictures[0] != pictures[1]).mean() > 0.005 and (pictures[1] != pictures[2]).mean() > 0.001


# --- places and shapes ------------------------------------------------------------------------------------


def test_an_arrow_is_dragged_in_one_step_and_undone(show):
    window = show(small_scene())
    view, place = window.view_zone.view, window.bench.chosen.place
    handle = next(h for h in handles_of(place) if h.name == "move y")
    tip = pixel_of(view, handle.line[-1])
    drag(view, tip, tip - QPoint(0, 40))
    moved = window.bench.chosen.place
    assert moved.position[1] > place.position[1] + 0.01
    assert (moved.position[0], moved.position[2]) == (place.position[0], place.position[2])
    window.menus.actions["Undo"].trigger()
    assert window.bench.chosen.place == place
    window.menus.actions["Redo"].trigger()
    assert window.bench.chosen.place == moved


def test_a_piece_is_clicked_chosen_and_slid(show):
    window = show(small_scene())
    view = window.view_zone.view
    QTest.mouseClick(view, LEFT, pos=pixel_of(view, (0.085, 0.02, 0.085)))
    assert window.bench.chosen_id == "slab"
    assert window.sheet.section("Springs").isHidden()               # a Collider has none
    before = window.bench.chosen.place.position
    at = pixel_of(view, (-0.085, 0.02, 0.085))
    drag(view, at, at + QPoint(30, 0))
    after = window.bench.chosen.place.position
    assert after[1] == before[1] and (after[0], after[2]) != (before[0], before[2])
    QTest.mouseClick(view, LEFT, pos=QPoint(5, view.height() - 5))
    assert window.bench.chosen is None


def test_dragging_on_nothing_turns_the_camera_and_changes_no_scene(show):
    window = show(small_scene())
    view, scene, camera = window.view_zone.view, window.bench.scene, window.view_zone.view.camera
    drag(view, QPoint(8, 300), QPoint(90, 340))
    assert view.camera.turn != camera.turn and window.bench.scene is scene
    QTest.keyClick(view, Qt.Key.Key_Plus)
    assert view.camera.distance < camera.distance
    window.menus.actions["Frame all"].trigger()
    low, high = view.stage.bounds()
    assert np.allclose(view.camera.target, (low + high) / 2)


def test_sizes_are_typed_in_any_unit(show):
    window = show(small_scene())
    type_into(field(window, "Shape", "Width").edit, "18 cm")
    type_into(field(window, "Shape", "Height").edit, "2 in")
    assert window.bench.chosen.place.size == pytest.approx((0.18, 0.0508, 0.08))
    type_into(field(window, "Place", "Turn y").edit, "30")
    assert window.bench.chosen.place.turn[1] == 30.0
    window.menus.actions["in"].trigger()
    assert field(window, "Shape", "Width").edit.text() == "7.09 in"
    type_into(field(window, "Shape", "Width").edit, "7")
    assert window.bench.chosen.place.size[0] == pytest.approx(0.1778)


@pytest.mark.parametrize("text", ["abc", "-3 cm", "1e99", "", "5 parsnips"])
def test_nonsense_in_a_field_is_one_sentence_and_changes_nothing(show, text):
    window = show(small_scene())
    before, width = window.bench.scene, field(window, "Shape", "Width").edit
    type_into(width, text or "x")
    assert window.bench.scene is before and width.text() == "8 cm"
    assert sentence(window).endswith(".") and "\n" not in sentence(window)


def test_a_slider_sweep_is_one_step_and_reset_brings_back(show):
    window = show(small_scene())
    stiffness = field(window, "Springs", "Stiffness")
    stiffness.slider.sliderPressed.emit()
    for step in (100, 300, 500, 700):
        stiffness.slider.setValue(step)
    stiffness.slider.sliderReleased.emit()
    assert window.bench.chosen.solid.stiffness > 50_000
    assert stiffness.edit.property("differs") is True
    stiffness.reset.click()
    assert window.bench.chosen.solid.stiffness == 4200.0
    window.menus.actions["Undo"].trigger()
    window.menus.actions["Undo"].trigger()
    assert window.bench.chosen.solid.stiffness == 4200.0 and window.bench.document.undo_label is None


# --- adding, importing, roles -----------------------------------------------------------------------------


def test_shapes_are_added_beside_each_other_and_dropped(window, qtbot):
    assert checked(window, qtbot) == [] and not window.view_zone._hint.isHidden()
    window.menus.actions["Add a block"].trigger()
    window.menus.actions["Add a sphere"].trigger()
    names = [p.name for p in window.bench.scene.pieces]
    assert names == ["Block", "Sphere"] and window.bench.chosen.name == "Sphere"
    block, sphere = window.bench.scene.pieces
    apart = np.abs(np.subtract(sphere.place.position, block.place.position))
    assert (apart[[0, 2]] > 0.12).any() and sphere.place.position[1] == pytest.approx(0.09)
    window.bench.choose(block.id)
    role = window.sheet.section("Role and feel").role
    role.setCurrentIndex(role.findText("Collider"))
    role.activated.emit(role.currentIndex())
    assert window.bench.scene.pieces[0].role == "collider"
    window.bench.set_value("shorter", "run.last", 8)
    window.bench.set_value("quick", "run.quality", "draft")
    play_to_end(window, qtbot)
    heights = window.runner.readings(sphere.id)[1:9, 4]
    assert heights[0] > heights[-1] and np.isfinite(heights).all()


@pytest.mark.parametrize("name", ["capsule", "disc", "torus", "cushion"])
def test_every_shape_can_be_added_divided_and_dropped(window, qtbot, name):
    window.menus.actions[f"Add a {name}"].trigger()
    window.bench.set_value("shorter", "run.last", 10)
    window.bench.set_value("quick", "run.quality", "draft")
    count = len(window.view_zone.view.stage.bodies[window.bench.chosen_id].rest)
    section = window.sheet.section("Shape")
    section.fold.setChecked(True)
    if not section.divisions[0].isHidden():
        type_into(section.divisions[0], "12")
        assert len(window.view_zone.view.stage.bodies[window.bench.chosen_id].rest) < count
    play_to_end(window, qtbot)
    readings = window.runner.readings(window.bench.chosen_id)[1:11]
    assert np.isfinite(readings).all() and readings[-1, 4] < readings[0, 4]
    assert not any(c.trouble for c in checked(window, qtbot))


def test_a_mesh_is_imported_made_a_collider_and_kept_through_saving(window, tmp_path, monkeypatch):
    mesh = primitives.block((2, 1, 2))
    write_obj(tmp_path / "crate.obj", [Exported("crate", mesh, mesh.points * [0.3, 0.1, 0.2])])
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "crate.obj"), ""))
    window.menus.actions["Import a mesh"].trigger()
    piece = window.bench.chosen
    assert piece.name == "crate" and np.allclose(piece.place.size, (0.3, 0.1, 0.2))
    window.bench.set_value("role", "role", "collider", piece.id)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "fair"), ""))
    window.menus.actions["Save"].trigger()
    scene, meshes = load_scene(tmp_path / "fair.quince")
    assert scene == window.bench.scene and len(meshes) == 1
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "fair.quince"), ""))
    window.menus.actions["New"].trigger()
    assert window.bench.scene == Scene()
    window.menus.actions["Open"].trigger()
    assert window.bench.scene == scene and window.bench.title == "fair.quince"


def test_a_bad_mesh_and_a_cut_scene_leave_everything_as_it_was(show, tmp_path):
    window = show(small_scene())
    before = window.bench.scene
    (tmp_path / "bad.obj").write_text("f 1 2 3\n")
    window.pieces.import_mesh(tmp_path / "bad.obj")
    assert window.bench.scene is before and "The mesh is damaged" in sentence(window)
    window.files.save_as(tmp_path / "whole.quince")
    data = (tmp_path / "whole.quince").read_bytes()
    (tmp_path / "cut.quince").write_bytes(data[: len(data) // 2])
    assert not window.files.open(tmp_path / "cut.quince")
    assert window.bench.scene is before and "cut short or damaged" in sentence(window)
    window.view_zone.notice.close_button.click()
    assert sentence(window) == ""


def test_an_unsaved_scene_is_asked_about(show, answers):
    window = show(small_scene())
    window.bench.set_value("change", "run.last", 30)
    answers.button = QMessageBox.StandardButton.Cancel
    window.menus.actions["New"].trigger()
    assert answers.asked == 1 and window.bench.scene.run.last == 30
    assert not window.close() and window.isVisible()
    answers.button = QMessageBox.StandardButton.Discard
    window.menus.actions["New"].trigger()
    assert window.bench.scene == Scene()


def test_pieces_are_hidden_renamed_and_removed(show):
    window = show(small_scene())
    window.line_up.cards[0].eye.click()
    assert not window.bench.scene.piece("ball").visible and "ball" not in window.view_zone.view.stage.bodies
    window.line_up.cards[0].eye.click()
    name = window.sheet.section("Shape").name
    window.sheet.section("Shape").fold.setChecked(True)
    name.setText("Prize frog")
    name.editingFinished.emit()
    assert window.bench.chosen.name == "Prize frog"
    window.menus.actions["Remove the chosen piece"].trigger()
    assert [p.id for p in window.bench.scene.pieces] == ["slab"] and window.bench.chosen_id == "slab"
    QTest.mouseClick(window.line_up.cards[0], LEFT)
    assert len(window.line_up.cards) == 1


# --- checks, readings, strip ------------------------------------------------------------------------------


def test_an_overlap_is_said_and_mended_by_its_button(show, qtbot):
    scene = small_scene()
    window = show(scene.with_piece(changed(scene.piece("ball"), "place.position", (0, 0.04, 0))))
    assert any(c.trouble for c in window.checks.shown)
    while any(c.trouble for c in checked(window, qtbot)):
        next(b for b in window.checks.findChildren(QPushButton, "mend") if b.isEnabled()).click()
    assert window.checks.shown[0].sentence == "Nothing overlaps at the start."
    window.bench.set_value("off", "run.gravity", 0.0)
    assert "gravity is off" in checked(window, qtbot)[0].sentence


def test_a_range_is_baked_stopped_and_scrubbed(show, qtbot):
    window = show(small_scene(last=2000))
    window.strip.bake.click()
    qtbot.waitUntil(lambda: window.runner.left() is not None and window.runner.share() > 0.005, timeout=LONG)
    assert window.strip.bake.text() == "Stop" and "left" in window.strip.status.text()
    assert not window.strip.progress.isHidden()
    pid = window.runner.solver_pid
    window.strip.bake.click()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=5000)
    assert window.runner.solver_pid == pid          # it stopped by itself, before patience ended
    window.bench.set_value("shorter", "run.last", 12)
    window.strip.bake.click()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)
    assert window.strip.status.text().startswith("baked just now · ") and not window.strip.bake.isEnabled()
    lanes = window.strip.lanes
    taken = lanes.lanes[-1]
    assert taken.name == "time" and (taken.values[2:5] > 0).all() and taken.show(0.25) == "250 ms"
    QTest.mouseClick(lanes, LEFT, pos=QPoint(round(lanes._x(7)), 8))
    assert window.player.frame == 7
    assert window.readings.texts()["Volume"].endswith("%")
    QTest.keyClick(lanes, Qt.Key.Key_Right)
    assert window.player.frame == 8
    type_into(window.strip.frame, "3")
    assert window.player.frame == 3
    type_into(window.strip.range_first, "500")
    assert window.bench.scene.run.first == 1 and "must not come after" in sentence(window)


def test_undoing_a_move_brings_its_frames_back(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    window.bench.set_value("move", "place.position", (0.0, 0.2, 0.0), "ball")
    assert not window.runner.good(5) and window.player.frame == 1
    play_to_end(window, qtbot)
    window.menus.actions["Undo"].trigger()
    assert window.runner.good_up_to(12)


def test_a_value_changes_while_it_plays(show, qtbot):
    window = show(small_scene(last=300))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.player.frame > 3, timeout=LONG)
    window.bench.set_value("softer", "solid.stiffness", 800.0, "ball")
    at = window.runner._done
    qtbot.waitUntil(lambda: window.runner._done > at + 12, timeout=LONG)
    assert window.player.playing and window.runner.computing
    window.player.halt()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=5000)
    assert not window.runner.good(window.runner._done) and window.runner.known(window.runner._done)


def test_the_solver_killed_by_its_pid_is_started_again_and_goes_on(show, qtbot):
    window = show(small_scene(last=150))
    window.player.bake()
    qtbot.waitUntil(lambda: window.runner.share() > 0.1, timeout=LONG)
    os.kill(window.runner.solver_pid, signal.SIGKILL)
    qtbot.waitUntil(lambda: "was restarted; the bake continues" in sentence(window), timeout=10_000)
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)
    assert window.runner.good_up_to(150) and window.isVisible()


def test_frame_and_run_are_handed_over(show, qtbot, tmp_path):
    window = show(small_scene())
    window.handing.export_run(tmp_path / "early.usdc")
    assert "press Bake first" in sentence(window) and not (tmp_path / "early.usdc").exists()
    window.player.bake()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)
    window.player.go(9)
    window.handing.export_frame(9, tmp_path / "nine.obj")
    skin = window.runner.skins(9)["ball"]
    assert np.allclose(read_obj(tmp_path / "nine.obj").points[: len(skin)], skin, atol=1e-6)
    window.handing.export_run(tmp_path / "run.usdc")
    stage = Usd.Stage.Open(str(tmp_path / "run.usdc"))
    points = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Ball")).GetPointsAttr()
    assert np.array_equal(np.array(points.Get(9)), skin) and len(points.GetTimeSamples()) == 12


# --- looks ------------------------------------------------------------------------------------------------


def test_displays_are_switched(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    for name, button in window.view_zone.displays.items():
        button.click()
        assert window.view_zone.view.stage.display == name
        QTest.qWait(20)
    window.menus.actions["Show stretch"].trigger()
    assert window.view_zone.view.stage.bodies["ball"].level(False).vertices[:, 6].any()
    window.menus.actions["Show cells"].trigger()
    qtbot.waitUntil(lambda: "ball" in window.view_zone.view.stage.cells, timeout=LONG)


def test_every_control_has_a_name_and_no_text_is_cut(window):
    window.open_first(None, demo=True)
    for section in window.sheet.sections:
        section.fold.setChecked(True)
    pick(window.sheet.section("Role and feel").second, "marshmallow")
    QTest.qWait(50)
    assert window.sheet.widget().width() <= window.sheet.viewport().width()
    for button in window.findChildren(QPushButton):
        if button.isVisible():
            assert button.accessibleName() or button.text(), button
    for label in window.findChildren(QLabel):
        if label.isVisible() and label.text() and not label.wordWrap() and label.objectName() != "soft":
            assert label.sizeHint().width() <= label.width() + 1, label.text()


def test_the_still_picture_is_refined(monkeypatch, show, qtbot):
    monkeypatch.setattr("rubberquince.view.widget.SAMPLES", 8)
    window = show(small_scene())
    view = window.view_zone.view
    qtbot.waitUntil(lambda: view._samples >= 8, timeout=20_000)
    assert view._image.size().width() >= view.width()


def test_two_scenes_do_not_mix_their_frames(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    other = Scene(pieces=(ball("ball", 0.3), slab()), run=small_scene().run)
    window.files._show(Document(other), None)
    assert window.runner.skins(5) is None and not window.runner.known(5)


def test_feels_are_chosen_mixed_and_marked_when_changed(show):
    window = show(small_scene())
    section = window.sheet.section("Role and feel")
    pick(section.feel, "soft rubber")
    assert window.bench.chosen.solid.stiffness == 400e3 and "soft rubber" in section.summary(window.bench.chosen)
    pick(section.second, "foam")
    assert section.share.text() == "50 %" and window.bench.chosen.solid.stiffness == pytest.approx(100e3)
    type_into(section.share, "0 %")
    assert window.bench.chosen.solid.stiffness == 400e3
    type_into(section.share, "250")
    assert "between 0 and 100 %" in sentence(window)
    type_into(field(window, "Springs", "Stiffness").edit, "90 kPa")
    assert section.summary(window.bench.chosen).endswith("*")
    field(window, "Springs", "Stiffness").reset.click()
    assert window.bench.chosen.solid.stiffness == 400e3
    pick(section.feel, "own values")
    assert window.bench.chosen.solid.feel.name == "" and section.second.isEnabled() is False
    for _ in range(7):
        window.menus.actions["Undo"].trigger()
    assert window.bench.scene == small_scene()


def test_what_was_not_saved_when_the_power_failed_is_offered_again(show, monkeypatch, tmp_path):
    window = show(small_scene())
    window.files.save_as(tmp_path / "fair.quince")
    window.bench.set_value("change", "run.last", 33)
    window.files.keep_copy()
    os.close(window.files._keeper._lock)                            # as if its process were gone
    window.files._keeper._lock = None
    window.bench.document.mark_saved()
    asked = []
    monkeypatch.setattr(files_module, "ask_about_recovery", lambda _, name: asked.append(name) or True)
    window.open_first(None, demo=True)
    assert asked == ["fair.quince"] and window.bench.scene.run.last == 33
    assert window.bench.document.unsaved and window.bench.path == tmp_path / "fair.quince"
    assert not window.files.offer_recovery()                        # it is offered once
    window.files.keep_copy()
    window.files.save()
    assert not list(window.files._copies.iterdir())


def test_scenes_are_opened_again_from_the_menu(show, tmp_path):
    window = show(small_scene())
    for name in ("one", "two"):
        window.files.save_as(tmp_path / f"{name}.quince")
    window._list_recent()
    assert [a.text() for a in window._again.actions()] == ["two.quince", "one.quince"]
    (tmp_path / "two.quince").unlink()
    window._list_recent()
    window._again.actions()[0].trigger()
    assert window.bench.path.name == "one.quince"
