"""What once lost work or showed what is false, as a person meets it: each through the real window."""

import logging
import os
import signal
import sys
import threading
import time

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt, QTimer
from PySide6.QtGui import QDropEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox, QPushButton, QSlider

from handling import LONG, field, play_to_end, sentence, type_into
from rubberquince.app import Faults
from rubberquince.bake.cache import MIXED
from rubberquince.bake.folders import bakes_in, bakes_root
from rubberquince.document.document import Document
from rubberquince.document.scene import Scene, changed
from rubberquince.exchange.frames import write_obj
from rubberquince.exchange.writing import Exported
from rubberquince.jobs.link import LinkState
from rubberquince.logs import log_folder
from rubberquince.shapes import primitives
from rubberquince.ui.bakes import BakesDialog
from rubberquince.ui.faults import watch_for_faults
from scenes import ball, slab, small_scene


def four(last=12):
    pieces = tuple(changed(ball(key), "place.position", (0.3 * k, 0.09, 0.0)) for k, key in enumerate("abcd"))
    return Scene(pieces=pieces, run=small_scene(last=last).run)


def idle(window, qtbot):
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)


# --- the line-up ------------------------------------------------------------------------------------------


class _Drop(QDropEvent):
    """A drop that came from a card, which Qt gives no way to make."""

    def __init__(self, at, data, card):
        super().__init__(at, Qt.DropAction.MoveAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        self._card = card

    def source(self):
        return self._card


def test_a_card_carried_anywhere_keeps_every_piece_once(show):
    window = show(four())
    cards = window.line_up.cards
    left = [card.geometry().left() for card in cards] + [cards[-1].geometry().right() + 10]
    for carried in range(4):
        for to in range(5):
            data = QMimeData()
            data.setText("abcd"[carried])
            before = window.bench.scene
            window.line_up.dropEvent(_Drop(QPointF(left[to] + 3, 30), data, cards[carried]))
            rest = [key for key in "abcd" if key != "abcd"[carried]]
            at = to if to <= carried else to - 1
            assert [p.id for p in window.bench.scene.pieces] == [*rest[:at], "abcd"[carried], *rest[at:]]
            if window.bench.scene is not before:
                window.bench.document.undo()


def test_the_order_of_the_cards_leaves_frames_good(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    scene = window.bench.scene
    window.bench.document.push("order", scene.model_copy(update={"pieces": scene.pieces[::-1]}))
    assert window.runner.good_up_to(12)


def test_the_chosen_card_comes_into_view_and_the_cards_stay_where_they_are(show, qtbot):
    window = show(four())
    before = window.line_up.cards[0].y()
    for _ in range(9):
        window.menus.actions["Add a sphere"].trigger()
    card = window.line_up.cards[-1]

    def is_seen():
        view, bar = window.line_up.viewport(), window.line_up.horizontalScrollBar()
        place = card.mapTo(view, QPoint(0, 0)).x()
        return bar.maximum() > 0 and 0 <= place <= view.width() - card.width()

    qtbot.waitUntil(is_seen, timeout=5000)
    assert window.line_up.cards[0].y() == before


def test_a_piece_taken_out_and_added_again_has_no_frames_of_the_one_before(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    window.menus.actions["Copy"].trigger()
    place = window.bench.chosen.place
    window.menus.actions["Remove the chosen piece"].trigger()
    window.menus.actions["Paste"].trigger()
    again = window.bench.chosen
    window.bench.set_value("move", "place", place, again.id)
    assert again.id != "ball" and not window.runner.good(5)
    assert window.runner.skins(5) is None or again.id not in window.runner.skins(5)
    play_to_end(window, qtbot)
    assert set(window.runner.skins(5)) == {again.id}


def test_several_are_chosen_duplicated_hidden_renamed_and_removed(show):
    window = show(four())
    bench, cards, trigger = window.bench, window.line_up.cards, lambda name: window.menus.actions[name].trigger()
    QTest.mouseClick(cards[0], Qt.MouseButton.LeftButton)
    QTest.mouseClick(cards[2], Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier)
    assert bench.chosen_ids == ["a", "c"] and bench.chosen_id == "c"
    assert [card.property("chosen") for card in cards] == [True, False, True, False]
    trigger("Duplicate")
    assert [p.name for p in bench.scene.pieces[4:]] == ["A 2", "C 2"] and len(bench.chosen_ids) == 2
    trigger("Undo")
    assert len(bench.scene.pieces) == 4                         # in one step
    bench.choose("b")
    trigger("Hide the others, or show all")
    assert [p.visible for p in bench.scene.pieces] == [False, True, False, False]
    trigger("Hide the others, or show all")
    assert all(p.visible for p in bench.scene.pieces)
    trigger("Rename")
    assert not cards[1].editor.isHidden()
    cards[1].editor.setText("Prize pear")
    QTest.keyClick(cards[1].editor, Qt.Key.Key_Return)
    assert bench.scene.pieces[1].name == "Prize pear"
    trigger("Choose all")
    trigger("Remove the chosen piece")
    assert bench.scene.pieces == ()
    trigger("Undo")
    assert len(bench.scene.pieces) == 4


def test_a_right_click_on_a_card_offers_what_can_be_done_with_it(show):
    window = show(four())
    asked = []
    window._piece_menu.aboutToShow.connect(lambda: (asked.append(window.bench.chosen_id), QTimer.singleShot(
        0, window._piece_menu.close)))
    window.line_up.cards[3].asked.emit(QPoint(10, 10))
    assert asked == ["d"]


# --- the sheet --------------------------------------------------------------------------------------------


def test_the_wheel_scrolls_the_sheet_and_changes_nothing_under_the_pointer(show):
    window = show(small_scene())
    for section in window.sheet.sections:
        section.fold.setChecked(True)
    QTest.qWait(20)
    before, bar = window.bench.scene, window.sheet.verticalScrollBar()
    window.view_zone.view.setFocus()
    parts = [w for w in window.sheet.findChildren(QComboBox) + window.sheet.findChildren(QSlider) if w.isVisible()]
    assert len(parts) > 8
    for part in parts:
        bar.setValue(40)
        turn_wheel(part)
        assert window.bench.scene is before, part.accessibleName()
        assert bar.value() != 40, part.accessibleName()
    slider = field(window, "Springs", "Stiffness").slider
    slider.setFocus()
    turn_wheel(slider)
    assert window.bench.chosen.solid.stiffness != 4200.0        # with the focus and the pointer it is meant


def turn_wheel(widget):
    middle = QPointF(widget.rect().center())
    QApplication.sendEvent(widget, QWheelEvent(middle, widget.mapToGlobal(middle), QPoint(0, -120), QPoint(0, -120),
                                               Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
                                               Qt.ScrollPhase.NoScrollPhase, False))


def test_what_a_field_refuses_is_said_in_its_unit_and_goes_when_it_is_over(show):
    window = show(small_scene())
    type_into(field(window, "Springs", "Stiffness").edit, "5 GPa")
    assert sentence(window) == "Stiffness: it should be at most 1 GPa."
    type_into(field(window, "Springs", "Stiffness").edit, "9 kpa")
    assert window.bench.chosen.solid.stiffness == 9000.0 and sentence(window) == ""
    type_into(field(window, "Contact", "Gap").edit, "1 m")
    assert sentence(window) == "Gap: it should be at most 3 cm."
    window.menus.actions["New"].trigger()
    assert sentence(window) == ""


def test_the_zones_can_be_resized_and_keep_their_sizes(window):
    window._across.setSizes([420, 560, 300])
    kept = window._across.sizes()
    window.close()
    window._settings.sync()
    assert window._settings.value("across") is not None
    other = type(window)()
    other.show()
    other.resize(window.size())
    QTest.qWait(20)
    assert np.allclose(other._across.sizes(), kept, atol=3)
    other.close()
    other.deleteLater()


def test_a_profile_is_turned_and_its_points_are_dragged(window):
    window.menus.actions["Add a turned shape"].trigger()
    section = window.sheet.section("Shape")
    section.fold.setChecked(True)
    QTest.qWait(10)
    edit, before = section.profile, window.bench.chosen.shape
    start = edit.place_of(2).toPoint()
    QTest.mousePress(edit, Qt.MouseButton.LeftButton, pos=start)
    for k in range(1, 5):
        QTest.mouseMove(edit, start + QPoint(-5 * k, 0))
    QTest.mouseRelease(edit, Qt.MouseButton.LeftButton, pos=start + QPoint(-20, 0))
    after = window.bench.chosen.shape
    assert after.profile[2][0] < before.profile[2][0] - 0.05 and after.profile[1] == before.profile[1]
    QTest.mouseDClick(edit, Qt.MouseButton.LeftButton, pos=QPoint(int(edit.place_of(2).x() + 25), start.y() - 14))
    assert len(window.bench.chosen.shape.profile) == len(before.profile) + 1
    QTest.mouseClick(edit, Qt.MouseButton.RightButton, pos=edit.place_of(3).toPoint())
    assert len(window.bench.chosen.shape.profile) == len(before.profile)
    for _ in range(3):
        window.menus.actions["Undo"].trigger()
    assert window.bench.chosen.shape == before                  # a drag was one step


# --- the view ---------------------------------------------------------------------------------------------


def test_the_view_comes_to_a_new_piece_and_a_new_scene(window, qtbot):
    window.menus.actions["Add a block"].trigger()
    view = window.view_zone.view
    view.camera = view.camera.moved(900, 300, view.height())
    assert not view.shows(window.bench.chosen_id)
    window.menus.actions["Add a sphere"].trigger()
    assert view.shows(window.bench.chosen_id)
    far = changed(ball("far"), "place.position", (40.0, 3.0, -60.0))
    window.files._show(Document(Scene(pieces=(far,))), None)
    assert view.shows("far")


def test_the_stretch_has_a_legend_and_the_lanes_say_the_value_under_the_pointer(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    assert window.view_zone._legend.isHidden()
    window.view_zone.set_display("stretch")
    assert not window.view_zone._legend.isHidden()
    lanes = window.strip.lanes
    before = lanes.grab().toImage()
    QTest.mouseMove(lanes, QPoint(round(lanes._x(6)), 40))
    assert lanes._under == 6 and lanes.grab().toImage() != before
    assert lanes.lanes[1].show(1.234) == "1.2 m/s"


@pytest.mark.own_processes
def test_cells_are_never_shown_over_frames_of_other_cells(show, qtbot):
    window = show(small_scene())
    play_to_end(window, qtbot)
    window.player.go(9)
    window.view_zone.set_display("cells")
    stage = window.view_zone.view.stage
    qtbot.waitUntil(lambda: "ball" in stage.cells, timeout=LONG)
    at_nine = stage.cells["ball"]
    window.bench.set_value("finer", "solid.cells", 6, "ball")
    window.player.go(9)
    qtbot.waitUntil(lambda: len(window.view_zone.shown_cells._kept) == 2, timeout=LONG)
    assert "ball" not in stage.cells
    window.menus.actions["Undo"].trigger()
    window.player.go(9)
    assert np.array_equal(stage.cells["ball"], at_nine)


# --- runs and bakes ---------------------------------------------------------------------------------------


def test_a_bake_asked_for_while_playing_is_not_forgotten_and_goes_on_through_pause_and_moves(show, qtbot):
    window = show(small_scene(last=80))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.runner._done > 3, timeout=LONG)
    window.strip.bake.click()
    assert window.player.baking
    window.player.pause()
    for k in range(8):
        window.bench.set_value("move", "place.position", (0.01 * k, 0.09, 0.0), "ball")
    idle(window, qtbot)
    for _ in range(8):
        window.menus.actions["Undo"].trigger()
    assert window.runner.good_up_to(80) and window.runner.is_kept
    assert (window.runner.stamps()[1:81] == window.runner.key).all()
    for k in range(8):                                          # nor do tries push it out
        window.bench.set_value("move", "place.position", (0.1 + 0.01 * k, 0.09, 0.0), "ball")
        window.bench.set_value("shorter", "run.last", 2)
        window.player.toggle()
        idle(window, qtbot)
        window.player.halt()
    for _ in range(9):
        window.menus.actions["Undo"].trigger()
    assert window.runner.good_up_to(80)


def test_values_changed_during_a_bake_do_not_spoil_it(show, qtbot):
    window = show(small_scene(last=40))
    window.player.bake()
    qtbot.waitUntil(lambda: window.runner._done > 5, timeout=LONG)
    window.bench.set_value("softer", "solid.stiffness", 900.0, "ball")
    window.player.toggle()
    assert "goes on with the scene that it began with" in sentence(window)
    idle(window, qtbot)
    window.menus.actions["Undo"].trigger()
    assert window.runner.good_up_to(40) and MIXED not in window.runner.stamps()


def test_a_bake_belongs_to_its_file_is_shown_and_can_be_cleared(show, qtbot, tmp_path):
    window = show(small_scene())
    window.player.bake()
    idle(window, qtbot)
    window.files.save_as(tmp_path / "fair.quince")
    root = bakes_root(tmp_path / "fair.quince")
    assert root == tmp_path / "fair.quince.bake" and [b.frames for b in bakes_in(root)] == [12]
    assert window.runner.good_up_to(12) and window.strip.status.text().startswith("baked just now")
    window.files._show(Document(), None)
    window.files.open(tmp_path / "fair.quince")
    assert window.runner.good_up_to(12)                         # it is there again with its scene
    dialog = BakesDialog(window, window.bench, window.runner)
    qtbot.addWidget(dialog)
    dialog.findChild(QPushButton).click()
    assert not root.exists() and not window.runner.known(5)


@pytest.mark.own_processes
def test_two_windows_on_one_scene_do_not_write_one_folder(show, qtbot, window):
    first = show(small_scene(last=3000))
    first.player.toggle()
    qtbot.waitUntil(lambda: first.runner._done > 2, timeout=LONG)
    second = type(window)()
    second.show()
    second.files._show(Document(small_scene(last=8)), None)
    second.player.toggle()
    qtbot.waitUntil(lambda: not second.runner.computing and second.runner.good_up_to(8), timeout=LONG)
    assert second.runner.store.folder != first.runner.store.folder and first.runner.computing
    first.player.halt()
    second.bench.document.mark_saved()
    second.close()
    second.deleteLater()


@pytest.mark.own_processes
def test_another_scene_while_computing_and_play_right_after(show, qtbot):
    window = show(small_scene(last=2000))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.runner._done > 2, timeout=LONG)
    window.files._show(Document(Scene(pieces=(ball("other", 0.2), slab()), run=small_scene().run)), None)
    assert not window.runner.computing and window.runner.skins(3) is None
    window.player.toggle()
    qtbot.waitUntil(lambda: not window.player.playing and not window.runner.computing, timeout=LONG)
    assert window.runner.good_up_to(12) and set(window.runner.skins(3)) == {"other"}


@pytest.mark.own_processes
def test_killed_while_it_wakes_the_window_goes_on(show, qtbot):
    window = show(small_scene(last=8))
    link = window.runner._link
    window.player.toggle()
    for _ in range(2):
        qtbot.waitUntil(lambda: link.pid != 0, timeout=LONG)
        pid = link.pid
        os.kill(pid, signal.SIGKILL)
        qtbot.waitUntil(lambda pid=pid: link.pid != pid, timeout=LONG)
    idle(window, qtbot)
    assert window.runner.good_up_to(8)
    window.bench.set_value("longer", "run.last", 3000)
    window.player.bake()
    qtbot.waitUntil(lambda: window.runner._done > 10, timeout=LONG)
    window.player.halt()
    idle(window, qtbot)
    assert link.state in (LinkState.IDLE, LinkState.WAKING)


def test_so_many_cells_that_it_takes_long_are_asked_about_first(show, qtbot):
    wide = changed(changed(ball(cells=8), "place.size", (0.9, 0.03, 0.9)), "place.position", (0, 1, 0))
    window = show(Scene(pieces=(wide,), run=small_scene().run))
    asked = []
    window.runner.confirm = lambda cells: asked.append(cells)
    window.player.toggle()
    assert len(asked) == 1 and asked[0] > 200_000 and not window.runner.computing and not window.player.playing


# --- what goes wrong inside -------------------------------------------------------------------------------


def test_an_error_nobody_caught_is_logged_said_and_the_scene_is_kept(show, monkeypatch, caplog):
    window = show(small_scene())
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    faults = Faults(window)
    faults.came.connect(window.on_fault, Qt.ConnectionType.QueuedConnection)
    watch_for_faults(faults.came.emit)
    window.bench.set_value("change", "run.last", 33)
    with caplog.at_level(logging.ERROR):
        try:
            raise RuntimeError("the wheel came off")
        except RuntimeError as error:
            sys.excepthook(type(error), error, error.__traceback__)
    QTest.qWait(20)
    assert "the wheel came off" in sentence(window) and "\n" not in sentence(window)
    assert "Traceback" in caplog.text and list(window.files._copies.glob("*.quince"))
    thread = threading.Thread(target=lambda: 1 / 0)
    thread.start()
    thread.join()
    QTest.qWait(20)
    assert "division by zero" in sentence(window)
    window.menus.actions["Where the logs are"].trigger()
    assert str(log_folder()) in sentence(window)


@pytest.mark.own_processes
def test_the_window_answers_while_it_plays_types_and_imports_a_large_mesh(show, qtbot, tmp_path):
    mesh = primitives.sphere(400, 200)
    write_obj(tmp_path / "large.obj", [Exported("ball", mesh, mesh.points)])
    window = show(small_scene(last=400, quality="sure", cells=6))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.player.frame > 3, timeout=LONG)
    gaps, last = [], [time.monotonic()]

    def beat():
        now = time.monotonic()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer(window, interval=5)
    timer.timeout.connect(beat)
    timer.start()
    begun = window.player.frame
    edit = field(window, "Springs", "Stiffness").edit
    for text in ("900 Pa", "2 kPa", "7 kPa"):
        type_into(edit, text)
        QTest.qWait(150)
    qtbot.waitUntil(lambda: window.player.frame > begun, timeout=LONG)
    assert len(gaps) > 3
    assert sorted(gaps)[-2] < 0.4, sorted(gaps)[-5:]            # a tenth of a second, were the machine ours alone
    window.player.halt()
    idle(window, qtbot)
    gaps.clear()
    last[0] = time.monotonic()
    window.pieces.import_mesh(tmp_path / "large.obj")
    assert window.bench.chosen.name == "large" and len(gaps) > 50
    assert sorted(gaps)[-4] < 0.4, sorted(gaps)[-6:]
    timer.stop()


@pytest.mark.own_processes
def test_a_remesh_is_stopped_by_its_button(show, monkeypatch):
    window = show(small_scene())
    before = window.bench.scene
    monkeypatch.setattr("rubberquince.ui.chores.QUIET", 0)

    def press_stop():
        for box in QApplication.topLevelWidgets():
            if box.isVisible() and box.metaObject().className() == "QProgressDialog":
                box.findChild(QPushButton).click()

    timer = QTimer(window, interval=30)
    timer.timeout.connect(press_stop)
    timer.start()
    began = time.monotonic()
    window.pieces.remesh(0.0004)
    timer.stop()
    assert window.bench.scene is before and "was stopped" in sentence(window) and time.monotonic() - began < 8.0
