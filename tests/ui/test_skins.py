"""What an artist does with skins: cloth, balloons, film, in the real window."""

import numpy as np
import pytest
from PySide6.QtWidgets import QPushButton

from handling import checked, field, pick, play_to_end, sentence, type_into
from rubberquince.document.bodies import piece_points, piece_triangles
from rubberquince.document.scene import CushionShape, Piece, Place, RunSettings, Scene, SheetShape, changed
from rubberquince.document.values import ContactValues, HoldValues, PressureValues
from rubberquince.exchange.obj_in import read_obj
from rubberquince.solver.terms.pressing import rims
from rubberquince.ui.files import DEMOS
from scenes import ball, slab, small_scene


def skin_scene(piece, last=10):
    return Scene(pieces=(piece,), run=RunSettings(last=last, quality="draft"))


def sheet_piece(height=0.1, **more):
    return Piece(id="sheet", name="Sheet", role="shell", shape=SheetShape(across=10, along=10),
                 place=Place(position=(0.0, height, 0.0), size=(0.2, 0.01, 0.2)), **more)


def blank(**more):
    return Piece(id="blank", name="Blank", role="shell", shape=CushionShape(divisions=10, pinch=0.0),
                 place=Place(position=(0.0, 0.03, 0.0), size=(0.2, 0.012, 0.2)), **more)


def test_a_solid_becomes_a_balloon_and_a_solid_again(show, qtbot):
    window = show(small_scene(last=10))
    assert not window.sheet.section("Pressure").isHidden()
    role = window.sheet.section("Role and feel")
    pick(role.role, "Shell")
    assert [role.feel.itemText(k) for k in range(role.feel.count())][1:3] == ["canvas", "silk"]
    assert role.cells.isHidden() and not window.sheet.section("Springs").flat.isHidden()
    pick(role.feel, "latex")
    type_into(field(window, "Pressure", "Pressure").edit, "0.2 kPa")
    type_into(field(window, "Pressure", "Grows over").edit, "4")
    assert window.bench.chosen.pressure.pressure == 200.0 and window.bench.chosen.pressure.frames == 4.0
    assert "200 Pa, grows over 4 frames" in window.sheet.section("Pressure").summary(window.bench.chosen)
    play_to_end(window, qtbot)
    window.player.go(10)
    shown = window.readings.texts()
    assert shown["Pressure"] == "200 Pa" and float(shown["Volume"].split()[0]) > 103.0
    assert float(shown["Area"].split()[0]) > 102.0 and shown["Sharpest fold"].endswith("°")
    pick(role.role, "Solid")
    assert window.bench.chosen.solid == small_scene().piece("ball").solid and "Area" not in window.readings.texts()
    pick(role.role, "Shell")
    assert window.bench.chosen.shell.feel.name == "latex"


def test_a_sheet_hangs_by_its_corners(show, qtbot):
    window = show(skin_scene(sheet_piece(0.3)))
    hold = window.sheet.section("Hold")
    assert hold.summary(window.bench.chosen) == "nothing" and hold._fields[0][0].isHidden()
    pick(hold.what, "the corners")
    play_to_end(window, qtbot)
    skin = window.runner.skins(10)["sheet"]
    held = np.abs(np.abs(skin[:, [0, 2]]) - 0.1).max(axis=1) < 1e-6
    assert held.sum() == 4 and np.allclose(skin[held, 1], 0.3) and skin[:, 1].min() < 0.295
    type_into(field(window, "Hold", "Only above").edit, "150 %")
    assert "at most 100 %" in sentence(window)


def test_values_change_while_it_is_blown_up(show, qtbot):
    window = show(skin_scene(blank(pressure=PressureValues(pressure=100.0, frames=4.0)), last=60))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.runner.known(6), timeout=60_000)
    window.bench.set_value("more pressure", "pressure.pressure", 300.0, "blank")
    window.bench.set_value("stiffer", "shell.stretch", 6000.0, "blank")
    assert window.runner.computing
    qtbot.waitUntil(lambda: window.runner.known(16), timeout=60_000)
    window.player.halt()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=60_000)
    pressures = window.runner.readings("blank")[:, 8]
    assert 300.0 in pressures and 100.0 in pressures


def test_a_frame_of_a_skin_is_handed_over(show, qtbot, tmp_path):
    window = show(skin_scene(blank(pressure=PressureValues(pressure=200.0, frames=2.0))))
    play_to_end(window, qtbot)
    window.player.go(8)
    window.handing.export_frame(8, tmp_path / "pad.obj")
    assert np.ptp(read_obj(tmp_path / "pad.obj").points[:, 1]) > 0.03


@pytest.mark.parametrize("name", ["bench pads", "balloon", "pears under film", "table cloth", "quilt"])
def test_skins_of_the_fair_open_and_play(window, qtbot, name):
    window.files.demo(name)
    assert name in DEMOS and window.bench.chosen.role == "shell"
    window.bench.set_value("draft", "run.quality", "draft")
    window.bench.set_value("shorter", "run.last", 3)
    play_to_end(window, qtbot)
    qtbot.waitUntil(lambda: window.checks.settled, timeout=60_000)
    assert window.runner.good_up_to(3) and not [check for check in window.checks.shown if check.trouble]


WIDE = Place(position=(0.0, 0.5, 0.0), size=(0.9, 0.01, 0.9))


@pytest.mark.parametrize("piece, said, button", [
    (sheet_piece(hold=HoldValues(what="everything")), "held everywhere", "Hold nothing"),
    (ball().model_copy(update={"role": "shell", "hold": HoldValues(what="outline")}), "no outline", "Hold nothing"),
    (sheet_piece().model_copy(update={"place": WIDE}), "too coarse to fold", "Refine it"),
    (sheet_piece(contact=ContactValues(gap=0.02)), "too wide for its edges", "Make the gap 4 mm")])
def test_what_will_not_work_is_said_and_mended(show, qtbot, piece, said, button):
    window = show(skin_scene(piece))
    check = next(check for check in window.checks.shown if said in check.sentence)
    assert check.button == button
    next(b for b in window.checks.findChildren(QPushButton, "mend") if b.text() == button).click()
    mended = checked(window, qtbot)
    assert window.bench.scene != skin_scene(piece)
    assert not [c for c in mended if c.sentence == check.sentence]


def test_pressure_in_what_is_open_is_explained(show):
    window = show(skin_scene(sheet_piece(pressure=PressureValues(pressure=50.0))))
    check = next(check for check in window.checks.shown if "as if a flat lid closed" in check.sentence)
    assert not check.trouble
    window = show(skin_scene(sheet_piece(pressure=PressureValues(pressure=-50.0))))
    (check,) = [check for check in window.checks.shown if " is open" in check.sentence]
    assert "sucked onto what it touches" in check.sentence and not check.trouble


def test_a_shell_round_a_solid_overlaps_nothing_and_through_it_does(show, qtbot):
    inside = ball("ball", 0.2, cells=3)
    around = ball("sack", 0.2).model_copy(update={"role": "shell", "place": Place(
        position=(0.0, 0.2, 0.0), size=(0.2, 0.2, 0.2))})
    window = show(Scene(pieces=(inside, around, slab()), run=small_scene().run))
    assert not [check for check in window.checks.shown if "overlap" in check.sentence and check.trouble]
    window.bench.set_value("move", "place.position", (0.1, 0.2, 0.0), "ball")
    assert any("overlap at the start" in check.sentence for check in checked(window, qtbot))


def test_a_frame_is_kept_as_the_shape_and_values_are_put_on_others(show, qtbot):
    others = [sheet_piece(0.2 + 0.1 * k).model_copy(update={"id": f"other{k}", "name": f"Other {k}"}) for k in range(2)]
    piece = blank(pressure=PressureValues(pressure=200.0, frames=2.0))
    window = show(Scene(pieces=(piece, *others), run=RunSettings(last=8, quality="draft")))
    window.bench.choose("other0")
    window.menus.actions["Its pressure"].trigger()
    assert "hold Ctrl" in sentence(window)
    for key in ("other1", "blank"):
        window.bench.choose(key, also=True)                     # the last one is the one whose sheet is shown
    window.menus.actions["Its pressure"].trigger()
    assert [p.pressure.pressure for p in window.bench.scene.pieces] == [200.0] * 3
    window.menus.actions["Undo"].trigger()
    assert [p.pressure.pressure for p in window.bench.scene.pieces] == [200.0, 0.0, 0.0]
    window.bench.choose("blank")
    window.menus.actions["Keep this frame as its shape"].trigger()
    assert "computed" in sentence(window)
    play_to_end(window, qtbot)
    window.player.go(8)
    skin = window.runner.skins(8)["blank"]
    window.menus.actions["Keep this frame as its shape"].trigger()
    kept = window.bench.scene.piece("blank")
    assert np.allclose(piece_points(kept, window.bench.document.meshes), skin, atol=1e-5)
    assert kept.shape.kind == "imported" and kept.place.size[1] > 0.03


def test_a_quilt_has_its_panels_and_no_rim_but_its_own(show, qtbot):
    window = show(skin_scene(blank(pressure=PressureValues(pressure=300.0, frames=2.0)), last=12))
    window.bench.set_value("stitch", "shape.panels", 2, "blank")
    assert not [c for c in checked(window, qtbot) if c.trouble and "open" in c.sentence]
    play_to_end(window, qtbot)
    skin, rest = window.runner.skins(12)["blank"], piece_points(window.bench.chosen, window.bench.document.meshes)
    middle, panel = (np.linalg.norm(rest[:, [0, 2]] - at, axis=1) < 0.015 for at in (0.0, 0.06))
    assert np.ptp(skin[panel, 1]) > np.ptp(skin[middle, 1]) + 0.004


def test_displays_show_what_is_held_and_how_far_a_gap_reaches(show):
    window = show(skin_scene(sheet_piece(0.3, hold=HoldValues(what="outline"), contact=ContactValues(gap=0.02))))
    view = window.view_zone
    pictures = {}
    for name in ("smooth", "holds", "gap"):
        view.set_display(name)
        assert view._legend.isVisible() is (name != "smooth")
        pictures[name] = view.view._renderer.draw(view.view.stage, view.view.camera, 320, 240).astype(float)
    assert view.view.stage.bodies["sheet"].held.sum() == 40
    held = np.abs(pictures["holds"] - pictures["smooth"])
    assert held.max() > 60 and (np.abs(pictures["gap"] - pictures["smooth"]).max(axis=2) > 4).sum() > 100


def test_two_sheets_are_sewn_along_their_outlines_and_taken_apart(show, qtbot):
    pair = [sheet_piece(0.1 + 0.06 * k).model_copy(update={"id": f"sheet{k}", "name": f"Sheet {k}"}) for k in range(2)]
    window = show(Scene(pieces=tuple(pair), run=RunSettings(last=16, quality="draft", ground=False, gravity=1.0)))
    window.bench.choose("sheet0")
    sew = window.menus.actions["Sew together"]
    sew.trigger()
    assert "two Shells" in sentence(window) and window.sheet.section("Seams").isHidden()
    window.bench.choose("sheet1", also=True)
    sew.trigger()
    section = window.sheet.section("Seams")
    assert section.summary(window.bench.chosen) in ("sewn to Sheet 0", "sewn to Sheet 1")
    frames = next(f for f in section.fields if f.value.name == "Closes over")
    type_into(frames.edit, "6")
    type_into(section.fields[0].edit, "nonsense")
    assert window.bench.scene.seams[0].values.frames == 6.0 and "not a number" in sentence(window)
    play_to_end(window, qtbot)
    skins = window.runner.skins(16)
    rim = np.unique(np.concatenate(rims(window.view_zone.view.stage.bodies["sheet0"].plain_triangles)))
    assert np.linalg.norm(skins["sheet0"][rim] - skins["sheet1"][rim], axis=1).max() < 1e-4
    next(b for b in section.findChildren(QPushButton) if b.text() == "Take apart").click()
    assert not window.bench.scene.seams and section.isHidden()
    window.menus.actions["Undo"].trigger()
    window.pieces.remove()
    assert window.bench.scene.sewn() == ()


def test_own_feels_are_kept_exported_imported_and_forgotten(show, tmp_path, monkeypatch):
    window = show(small_scene(last=10))
    section = window.sheet.section("Role and feel")
    type_into(field(window, "Springs", "Stiffness").edit, "7 kPa")

    def choose(text, name="fair jelly"):
        monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_, **__: (name, True))
        section._list_own()
        next(a for a in section._own_menu.actions() if text in a.text()).trigger()

    choose("Keep", "foam")
    assert "choose another name" in sentence(window)
    choose("Keep")
    assert section.feel.currentText() == "fair jelly" and window.bench.chosen.solid.stiffness == 7000.0
    monkeypatch.setattr(section._dialogs, "to_save", lambda *_: tmp_path / "fair.feel")
    choose("Export")
    choose("Forget")
    assert section.feel.findText("fair jelly") == -1 and window.bench.chosen.solid.stiffness == 7000.0
    pick(section.feel, "foam")
    monkeypatch.setattr(section._dialogs, "to_open", lambda *_: tmp_path / "fair.feel")
    choose("Import")
    assert section.feel.currentText() == "fair jelly" and window.bench.chosen.solid.stiffness == 7000.0
    (tmp_path / "fair.feel").write_text("spoilt")
    choose("Import")
    assert "is not a feel" in sentence(window)
    choose("Forget")


def test_grain_and_limit_are_rows_and_the_grain_is_drawn(show):
    window = show(skin_scene(sheet_piece(0.3)))
    springs = window.sheet.section("Springs")
    springs.fold.setChecked(True)
    assert not window.view_zone.view.lines
    type_into(field(window, "Springs", "Grain").edit, "90")
    (arrow,) = window.view_zone.view.lines
    way = arrow.points[1] - arrow.points[0]
    assert abs(way[2]) == pytest.approx(0.06, rel=1e-3) and abs(way[0]) < 1e-6
    pick(springs.grain_by, "its texture")
    assert window.bench.chosen.shell.grain_by == "texture"
    turned = window.view_zone.view.lines[0].points
    assert np.linalg.norm(turned[1] - turned[0]) == pytest.approx(0.06, rel=1e-3)
    springs.limited.click()
    assert window.bench.chosen.shell.limit == 1.1
    type_into(field(window, "Springs", "Stretches at most").edit, "50 %")
    assert "at least 100 %" in sentence(window)


def test_a_shape_and_its_place_are_undone_together_while_cells_are_shown(show):
    """The player hears of it first and goes back to the start, while the view still has the old mesh."""
    scene = small_scene().with_piece(changed(ball(), "role", "shell"))
    window = show(scene)
    window.view_zone.set_display("cells")
    other = changed(changed(scene.piece("ball"), "shape.rings", 4), "place.position", (0.0, 0.3, 0.0))
    window.bench.document.push("another shape elsewhere", scene.with_piece(other))
    window.player.go(5)
    for name in ("Undo", "Redo", "Undo"):
        window.menus.actions[name].trigger()
        assert window.view_zone.view.stage.scene is window.bench.scene
        faces = piece_triangles(window.bench.scene.piece("ball"), {})
        assert len(window.view_zone.view.stage.cells["ball"]) == len(faces)
        window.player.go(5)
