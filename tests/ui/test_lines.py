"""Lines that are drawn on a skin, what is held and sewn along them, and what passes through what."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from handling import LEFT, checked, pick, pixel_of, play_to_end, sentence
from rubberquince.bake.holding import held_of, line_of
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import CushionShape, Piece, Place, RunSettings, Scene, SheetShape
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.shapes.paths import Paths, row_of
from rubberquince.shapes.polymesh import is_closed
from rubberquince.shapes.primitives import block, sheet, sphere
from scenes import ball


def sheet_piece(key="sheet", height=0.3, **more):
    return Piece(id=key, name=key.capitalize(), role="shell", shape=SheetShape(across=10, along=10),
                 place=Place(position=(0.0, height, 0.0), size=(0.2, 0.01, 0.2)), **more)


@pytest.fixture
def bench_of(show):
    """A window with pieces, looked at from above, with the tool for lines in hand."""
    def do(*pieces, last=8, ground=True):
        window = show(Scene(pieces=pieces, run=RunSettings(last=last, quality="draft", ground=ground)))
        window.view_zone.look("from above")
        window.view_zone.frame_all()
        window.menus.actions["Draw lines on the chosen piece"].trigger()
        return window
    return do


def click(window, at, twice=False):
    """A click on a place of the world, or a double one as Qt sends it."""
    view = window.view_zone.view
    QTest.mouseClick(view, LEFT, pos=pixel_of(view, at))
    if twice:
        QTest.mouseDClick(view, LEFT, pos=pixel_of(view, at))


def test_a_row_is_taken_and_held(bench_of, qtbot):
    window = bench_of(sheet_piece())
    assert window.view_zone.tool_pills["draw lines"].isChecked() and "lay beads on Sheet" in sentence(window)
    click(window, (0.001, 0.3, 0.03), twice=True)
    (curve,) = window.bench.chosen.curves
    assert len(curve.beads) == 11 and not curve.closed and np.allclose(np.array(curve.beads)[:, 0], 0.0)
    QTest.keyClick(window.view_zone.view, Qt.Key.Key_Escape)
    assert not window.view_zone.view.aims and not window.view_zone.tool_pills["draw lines"].isChecked()
    section = window.sheet.section("Lines")
    assert section.summary(window.bench.chosen) == "line 1" and "20 cm long, past 11" in section._lengths[0].text()
    pick(window.sheet.section("Hold").what, "line 1")
    play_to_end(window, qtbot)
    skin, rest = window.runner.skins(8)["sheet"], unit_mesh(window.bench.chosen.shape, {}).points
    held = np.abs(rest[:, 0]) < 1e-9
    np.testing.assert_allclose(skin[held, 1], 0.3, atol=1e-6)
    assert skin[~held, 1].max() < 0.2999
    window.sheet.section("Lines").closed[0].click()
    section._remove(curve.id)
    assert "a line that is gone" in window.sheet.section("Hold").summary(window.bench.chosen)
    assert any("no line there" in c.sentence for c in checked(window, qtbot))


def test_beads_are_laid_taken_and_closed_and_survive_refining_and_saving(bench_of, tmp_path):
    window = bench_of(sheet_piece())
    for x, z in ((-0.06, -0.06), (0.06, -0.06), (0.06, 0.06), (0.0, 0.09)):
        click(window, (x, 0.3, z))
    QTest.keyClick(window.view_zone.view, Qt.Key.Key_Backspace)
    QTest.keyClick(window.view_zone.view, Qt.Key.Key_Return)
    (curve,) = window.bench.chosen.curves
    assert len(curve.beads) == 3 and curve.closed
    click(window, (0.5, 0.3, 0.5))
    assert "not on the chosen piece" in sentence(window) and len(window.bench.chosen.curves) == 1
    way = line_of(window.bench.chosen, curve.id, {})
    points = unit_mesh(window.bench.chosen.shape, {}).points * 0.2
    steps = np.linalg.norm(np.diff(points[np.append(way, way[:1])], axis=0), axis=1)
    assert len(np.unique(way)) > len(way) - 3 and steps.max() < 0.0284       # it follows edges and diagonals
    assert len(window.view_zone.view.lines) == 1
    window.pieces.refine()
    finer = line_of(window.bench.chosen, curve.id, {})
    assert len(finer) > 1.6 * len(way)
    save_scene(tmp_path / "a.quince", window.bench.scene, {})
    assert load_scene(tmp_path / "a.quince")[0].pieces[0].curves == window.bench.chosen.curves
    for _ in range(7):
        window.menus.actions["Undo"].trigger()
    assert not window.bench.chosen.curves and not window.view_zone.view.lines


def test_a_sheet_is_sewn_to_itself_along_two_lines_and_welded(bench_of, qtbot):
    window = bench_of(sheet_piece(), last=30, ground=False)
    window.bench.set_value("float", "run.gravity", 0.0)
    for x in (-0.0999, 0.0999):
        click(window, (x, 0.3, 0.002), twice=True)
    assert [len(curve.beads) for curve in window.bench.chosen.curves] == [40, 40]      # the rim is one row
    for k, x in enumerate((-0.5, 0.5)):
        curve = window.bench.chosen.curves[k]
        side = tuple(bead for bead in curve.beads if bead[0] == x)
        fresh = (*window.bench.chosen.curves[:k], curve.model_copy(update={"beads": side, "closed": False}),
                 *window.bench.chosen.curves[k + 1:])
        window.bench.set_value("one side", "curves", fresh, "sheet")
    window.menus.actions["Sew together"].trigger()
    (seam,) = window.bench.scene.seams
    assert seam.one == seam.two == "sheet" and "sewn to itself" in window.sheet.section("Seams").summary(
        window.bench.chosen)
    play_to_end(window, qtbot)
    window.player.go(30)
    skin, rest = window.runner.skins(30)["sheet"], unit_mesh(window.bench.chosen.shape, {}).points
    left, right = (skin[np.abs(rest[:, 0] - x) < 1e-6] for x in (-0.5, 0.5))
    assert np.linalg.norm(left - right, axis=1).max() < 2e-3
    window.menus.actions["Weld what is sewn, as it lies"].trigger()
    tube = unit_mesh(window.bench.chosen.shape, window.bench.document.meshes)
    assert len(tube.points) == 110 and len(tube.face_sizes) == 100 and not window.bench.scene.seams
    window.menus.actions["Undo"].trigger()
    assert window.bench.scene.seams


def test_two_sheets_are_welded_to_a_closed_skin(bench_of, qtbot):
    window = bench_of(sheet_piece("one", 0.3), sheet_piece("two", 0.31), last=14)
    window.bench.choose("one")
    window.bench.choose("two", also=True)
    window.menus.actions["Weld what is sewn, as it lies"].trigger()
    assert "Choose a piece that is sewn" in sentence(window)
    window.menus.actions["Sew together"].trigger()
    play_to_end(window, qtbot)
    window.player.go(14)
    lay = window.runner.skins(14)
    window.menus.actions["Weld what is sewn, as it lies"].trigger()
    (piece,) = window.bench.scene.pieces
    mesh = unit_mesh(piece.shape, window.bench.document.meshes)
    assert is_closed(mesh.triangles) and len(mesh.points) == 2 * 121 - 40
    low = min(skin[:, 1].min() for skin in lay.values())
    assert piece.place.position[1] - 0.5 * piece.place.size[1] == pytest.approx(low, abs=1e-3)


def test_what_is_not_ticked_is_passed_through(bench_of, qtbot):
    lower = Piece(id="pad", name="Pad", role="collider", place=Place(position=(0.0, 0.1, 0.0), size=(0.3, 0.02, 0.3)),
                  shape=CushionShape())
    falling = ball().model_copy(update={"place": Place(position=(0.0, 0.2, 0.0), size=(0.1, 0.1, 0.1))})
    window = bench_of(falling, lower, last=12)
    contact = window.sheet.section("Contact")
    assert contact.touched.text() == "everything"
    contact._list_others()
    ticks = {action.text(): action for action in contact._others.actions()}
    assert set(ticks) == {"itself", "the ground", "Pad"} and all(a.isChecked() for a in ticks.values())
    ticks["Pad"].trigger()
    assert contact.touched.text() == "all but 1" and window.bench.chosen.passes == ("pad",)
    play_to_end(window, qtbot)
    assert window.runner.skins(12)["ball"][:, 1].min() < 0.05 and window.runner.skins(12)["ball"][:, 1].min() > 0.0
    window.bench.choose("pad")
    contact._list_others()
    (back,) = [action for action in contact._others.actions() if not action.isChecked()]
    back.trigger()
    assert not any(piece.passes for piece in window.bench.scene.pieces)


def test_rows_and_paths():
    mesh = sphere(12, 6)
    equator = np.flatnonzero(np.abs(mesh.points[:, 1]) < 1e-9)
    row, closed = row_of(mesh, int(equator[0]), int(equator[1]))
    assert closed and sorted(row) == sorted(equator)
    cube = block((3, 3, 3))
    row, closed = row_of(cube, *(int(p) for p in cube.face_points[:2]))
    assert len(row) == len(set(row)) and len(row) > 3
    flat = sheet(8, 8)
    one, two = np.flatnonzero((flat.points[:, 0] == -0.5) & (np.abs(flat.points[:, 2]) == 0.5))
    paths = Paths(flat.points, flat.triangles)
    way = paths.through(flat.points[[one, two]], False)
    np.testing.assert_allclose(flat.points[way, 0], -0.5)
    assert len(paths.through(flat.points[[one]], True)) == 1
    piece = sheet_piece(hold={"what": "curve", "curve": "none"})
    assert not held_of(piece, {}).any()
