"""Goals and weight maps through the window: rules, strokes of the brush, chosen points and typed values."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from handling import LEFT, checked, drag, field, pick, pixel_of, play_to_end, sentence, type_into
from rubberquince.bake.assemble import assemble
from rubberquince.document.maps import StrokesRule, TypedRule
from rubberquince.document.scene import HoldValues, Piece, Place, RunSettings, Scene, SheetShape
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.document.weights import values_of, weights_of
from rubberquince.ui.tools.table import VALUE, PointTable
from scenes import ball, small_scene

PATH = "goal.strength"


def sheet_piece(**more):
    return Piece(id="sheet", name="Sheet", role="shell", shape=SheetShape(across=10, along=10),
                 place=Place(position=(0.0, 0.3, 0.0), size=(0.2, 0.01, 0.2)), **more)


@pytest.fixture
def goaled(show):
    """A window with a sheet that has a goal, its map open, looked at from above."""
    window = show(Scene(pieces=(sheet_piece(),), run=RunSettings(last=12, quality="draft")))
    pick(window.sheet.section("Goal").to, "its own shape")
    window.sheet.section("Goal").fold.setChecked(True)
    window.sheet.section("Goal").stacks[PATH][0].click()
    window.view_zone.look("from above")
    window.view_zone.frame_all()
    QTest.qWait(10)
    return window


def stack(window):
    return window.sheet.section("Goal").stacks[PATH][1]


def weights(window):
    piece = window.bench.chosen
    return weights_of(piece.map_of(PATH), piece, window.bench.scene, window.bench.document.meshes)


def test_a_goal_draws_a_piece_back_and_says_how_firmly(show, qtbot):
    window = show(small_scene(last=12))
    goal = window.sheet.section("Goal")
    assert goal.summary(window.bench.chosen) == "none" and goal.firmness.isHidden()
    pick(goal.to, "its own shape")
    assert goal.to.currentText() == "its own shape"
    type_into(field(window, "Goal", "Strength").edit, "95 %")
    assert "gives way by" in goal.firmness.text() and goal.summary(window.bench.chosen).endswith("95 %")
    type_into(field(window, "Goal", "Strength").edit, "120 %")
    assert "at most 100 %" in sentence(window)
    play_to_end(window, qtbot)
    skin, start = window.runner.skins(12)["ball"], window.runner.skins(1)["ball"]
    assert 1e-5 < np.abs(skin - start).max() < 2e-3            # it floats where it was put
    pick(goal.how, "its middle")
    pick(goal.to, "Slab")
    assert any("has not as many points" in c.sentence for c in checked(window, qtbot))
    play_to_end(window, qtbot)
    assert "points and not" in sentence(window)


def test_rules_make_a_map_that_is_seen_kept_and_computed_with(goaled, qtbot, tmp_path):
    window = goaled
    assert window.view_zone.view.stage.display == "map" and stack(window).isVisible()
    stack(window).add("height")
    strip = stack(window).strips[0]
    pick(strip.boxes["axis"], "its x")
    assert np.allclose(weights(window), np.repeat(np.linspace(0.0, 1.0, 11), 11))
    assert window.sheet.section("Goal").stacks[PATH][0].property("mapped")
    assert "0 %, Strength, 100 %" in window.view_zone._legend.accessibleName()
    shown = window.view_zone.view.stage.bodies["sheet"].level(False).vertices[:, 6]
    assert shown.min() == 0.0 and shown.max() == 1.0
    strip.inverted.click()
    assert weights(window)[0] == 1.0
    stack(window).add("soft noise")
    stack(window).strips[1].join.activated.emit(0)
    type_into(stack(window).strips[1].fields["seed"].edit, "7")
    type_into(stack(window).strips[1].fields["size"].edit, "-3 cm")
    assert "more than 0" in sentence(window)
    assert window.bench.chosen.map_of(PATH).layers[1].rule.seed == 7
    stack(window)._take(1, up=True)
    assert [layer.rule.kind for layer in window.bench.chosen.map_of(PATH).layers] == ["noise", "height"]
    stack(window)._take(0, up=False)
    type_into(stack(window).low, "20 %")
    type_into(stack(window).high, "130 %")
    assert "at most 100 %" in sentence(window) and window.bench.chosen.map_of(PATH).low == 0.2
    save_scene(tmp_path / "a.quince", window.bench.scene, {})
    assert load_scene(tmp_path / "a.quince")[0] == window.bench.scene
    play_to_end(window, qtbot)
    skin = window.runner.skins(12)["sheet"]
    rest = np.repeat(np.linspace(0.0, 1.0, 11), 11)
    np.testing.assert_allclose(skin[rest < 0.05, 1], 0.3, atol=1e-6)          # full strength holds exactly
    assert skin[rest > 0.95, 1].max() < 0.27
    before = weights(window)
    window.pieces.refine()
    finer = weights(window)
    assert len(finer) == 441 and finer.reshape(21, 21)[::2, ::2].reshape(-1) == pytest.approx(before, abs=1e-9)
    stack(window)._remove()
    assert not window.bench.chosen.maps and not stack(window).isVisible()
    assert window.view_zone.view.stage.display == "smooth"


def test_strokes_of_the_brush_are_painted_undone_and_survive_another_mesh(goaled, qtbot):
    window, view = goaled, goaled.view_zone.view
    window.menus.actions["Paint into the open map"].trigger()
    brush = window.view_zone.tools["paint"]
    assert brush.on and brush.panel.isVisible()
    type_into(brush.radius_edit, "4 cm")
    type_into(brush.strength_edit, "300 %")
    assert "between 0 and 100 %" in sentence(window)
    type_into(brush.strength_edit, "100 %")
    at = [pixel_of(view, (x, 0.3, 0.0)) for x in (-0.06, 0.0)]
    QTest.mouseMove(view, at[0])
    summary = window.sheet.section("Goal")._summary
    assert "by a map" not in summary.text()
    drag(view, *at)
    qtbot.waitUntil(lambda: "by a map" in summary.text())
    (layer,) = window.bench.chosen.map_of(PATH).layers
    assert isinstance(layer.rule, StrokesRule) and len(layer.rule.strokes) == 1 and len(layer.rule.strokes[0].beads) > 3
    grid = weights(window).reshape(11, 11)
    assert grid[3, 5] > 0.95 and grid[3, 9] == 0.0 and grid[8, 5] == 0.0
    undo = window.menus.actions["Undo"]
    assert "paint" in undo.text().lower()
    brush.mirrored.setChecked(True)
    drag(view, *at)
    assert weights(window).reshape(11, 11)[8, 5] > 0.9
    QTest.mousePress(view, LEFT, Qt.KeyboardModifier.ControlModifier, at[0])
    QTest.mouseRelease(view, LEFT, Qt.KeyboardModifier.ControlModifier, at[0])
    assert window.bench.chosen.map_of(PATH).layers[0].rule.strokes[-1].does == "takes"
    assert weights(window).reshape(11, 11)[2, 5] < 0.3
    undo.trigger()
    assert weights(window).reshape(11, 11)[2, 5] > 0.9
    before = weights(window).reshape(11, 11)
    window.pieces.refine()
    np.testing.assert_allclose(weights(window).reshape(21, 21)[::2, ::2], before, atol=1e-6)
    turn = QPoint(0, 240)
    wheel = QWheelEvent(QPointF(at[1]), QPointF(at[1]), QPoint(), turn, Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.AltModifier, Qt.ScrollPhase.NoScrollPhase, False)
    QApplication.sendEvent(view, wheel)
    assert brush.radius == pytest.approx(0.04 * 1.15 ** 2, rel=1e-2)
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert not brush.on and brush.panel.isHidden() and view.ring is None


def test_a_brush_wants_an_open_map_and_a_piece(show):
    window = show(small_scene())
    window.menus.actions["Paint into the open map"].trigger()
    assert "Open the map" in sentence(window) and not window.view_zone.tools["paint"].on
    window.bench.choose("")
    window.menus.actions["Choose points of the piece"].trigger()
    assert "Choose the piece" in sentence(window)


def test_points_are_chosen_typed_kept_as_a_set_and_held(goaled, monkeypatch, qtbot):
    window, view = goaled, goaled.view_zone.view
    window.menus.actions["Choose points of the piece"].trigger()
    tool = window.view_zone.tools["choose"]
    tool.type_value(0.5)
    assert "Choose points first" in sentence(window)
    QTest.mouseClick(view, LEFT, pos=pixel_of(view, (0.0, 0.3, 0.0)))
    assert np.flatnonzero(tool.chosen).tolist() == [60]
    QTest.keyClick(view, Qt.Key.Key_Plus)
    assert tool.chosen.sum() == 7
    QTest.keyClick(view, Qt.Key.Key_Minus)
    assert tool.chosen.sum() == 1
    drag(view, pixel_of(view, (-0.11, 0.3, -0.11)), pixel_of(view, (-0.07, 0.3, 0.11)))
    assert tool.chosen.sum() == 22 and "22 points" in tool.count.text() and len(view.dots) == 22
    type_into(tool.value, "80 %")
    (layer,) = window.bench.chosen.map_of(PATH).layers
    assert isinstance(layer.rule, TypedRule) and len(layer.rule.places) == 22
    assert np.allclose(weights(window), np.where(np.arange(121) < 22, 0.8, 0.0))
    window.sheet.section("Goal").stacks[PATH][0].click()       # closed: there is nothing to be typed into
    type_into(tool.value, "30 %")
    assert "Open a map first" in sentence(window)
    monkeypatch.setattr("PySide6.QtWidgets.QInputDialog.getText", lambda *_, **__: ("left side", True))
    tool._keep_set()
    QTest.mouseDClick(view, LEFT, pos=pixel_of(view, (0.0, 0.3, 0.01)))
    assert tool.chosen.sum() == 11
    tool._take_set(window.bench.chosen.sets[0].id)
    assert tool.chosen.sum() == 22
    way = [pixel_of(view, (0.05 * np.cos(a), 0.3, 0.05 * np.sin(a))) for a in np.linspace(0.0, 2.0 * np.pi, 40)]
    QTest.mousePress(view, LEFT, Qt.KeyboardModifier.ShiftModifier, way[0])
    for at in way:
        QTest.mouseMove(view, at)
    QTest.mouseRelease(view, LEFT, Qt.KeyboardModifier.ShiftModifier, way[0])          # ends just where it began
    far = np.linalg.norm(view.stage.bodies[window.bench.chosen_id].points - (0.0, 0.3, 0.0), axis=1)
    assert (tool.chosen == (far < 0.05)).all() and tool.chosen.sum() > 20
    pick(window.sheet.section("Hold").what, "left side")
    assert window.sheet.section("Hold").what.currentText() == "left side"
    stepper_spec = assemble(window.bench.scene, {}).spec
    assert stepper_spec.bodies[0].held.sum() == 22
    QTest.keyClick(view, Qt.Key.Key_Escape)
    assert not len(view.dots)


def test_a_cage_is_refined_by_hand_where_it_is_to_bend_more(show, qtbot):
    cage = Piece(id="sheet", name="Cage", role="net", shape=SheetShape(across=6, along=6),
                 place=Place(position=(0.0, 0.3, 0.0), size=(0.2, 0.01, 0.2)),
                 hold=HoldValues(what="outline"))
    doll = ball("doll", 0.31).model_copy(update={"role": "carried", "carried_by": "sheet"})
    window = show(Scene(pieces=(cage, doll), run=RunSettings(last=12, quality="draft")))
    window.bench.choose("sheet")
    window.menus.actions["Choose points of the piece"].trigger()
    tool = window.view_zone.tools["choose"]
    refine = next(button for button in tool.panel.findChildren(QPushButton) if button.text() == "refine there")
    refine.click()
    assert "Choose points first" in sentence(window)
    x, _, z = window.view_zone.tools["choose"].mesh(cage).points.T
    tool.choose((abs(x) < 0.2) & (abs(z) < 0.2))
    assert tool.chosen.sum() == 9
    for count in (9 + 4 + 12, 25 + 16 + 40):                      # its points, middles of its faces and of its edges
        refine.click()
        assert tool.chosen.sum() == count and "faces now" in sentence(window)
    piece = window.bench.chosen
    assert piece.hold == cage.hold and piece.role == "net" and window.bench.document.undo_label.startswith("refine")
    mesh = window.view_zone.tools["choose"].mesh(piece)
    assert len(mesh.points) == 49 + 16 + 56 and len(mesh.triangles) > 2 * 36
    window.view_zone.set_display("cells")
    assert window.view_zone.view.stage.cells["sheet"].shape == (len(mesh.triangles), 3, 3)
    play_to_end(window, qtbot)
    skins = window.runner.skins(12)
    assert skins["sheet"][:49][tool.chosen[:49], 1].max() < 0.299
    assert skins["doll"][:, 1].mean() == pytest.approx(0.31 + skins["sheet"][tool.chosen, 1].mean() - 0.3, abs=3e-3)
    window.menus.actions["Undo"].trigger()
    assert len(tool.chosen) == 49 + 16


def test_the_table_types_one_value_over_many(goaled, qtbot):
    window, seen = goaled, []
    points = np.array([3, 8, 1])
    table = PointTable(window, window.bench, points, np.arange(9.0).reshape(3, 3) / 100.0, np.array([0.2, 0.9, 0.4]),
                       lambda which, values: seen.append((sorted(which.tolist()), values.tolist())))
    table.table.sortItems(VALUE)
    assert [table.table.item(k, 0).text() for k in range(3)] == ["3", "1", "8"]
    table.table.selectRow(0)
    both = table.table.selectionModel()
    both.select(table.table.model().index(1, 0), both.SelectionFlag.Select | both.SelectionFlag.Rows)
    table.table.item(1, VALUE).setText("55 %")
    assert seen == [([1, 3], [0.55, 0.55])]
    table.table.item(0, VALUE).setText("nonsense")
    assert "not a number" in sentence(window)
    table.close()


def test_values_by_maps_reach_the_solver():
    piece = sheet_piece().model_copy(update={"maps": ()})
    from_left = {"rule": {"kind": "height", "axis": "its x"}}
    shell = Piece.model_validate({**piece.model_dump(), "maps": [
        {"of": "shell.stretch", "low": 100.0, "high": 900.0, "layers": [from_left]},
        {"of": "shell.mass", "low": 0.1, "high": 0.3, "layers": [from_left]}]})
    scene = Scene(pieces=(shell,))
    made = assemble(scene, {}).spec.bodies[0].material
    assert made.stretch[0] == 100.0 and made.stretch[-1] == 900.0 and made.bend == shell.shell.bend
    assert made.density == pytest.approx(values_of("shell.mass", shell, scene, {}))
    solid = Piece.model_validate({**ball().model_dump(), "maps": [
        {"of": "solid.stiffness", "low": 1e3, "high": 9e3, "layers": [{"rule": {"kind": "height"}}]}]})
    body = assemble(Scene(pieces=(solid,)), {}).spec.bodies[0]
    low = body.lattice.nodes[:, 1] < -0.04
    assert body.material.stiffness[low].max() < 2.5e3 and body.material.stiffness[~low].max() > 8.5e3


def test_every_value_that_may_have_a_map_opens_one(window):
    for section in window.sheet.sections:
        for path, (_, stack) in section.stacks.items():
            fresh = stack._fresh()
            assert fresh.of == path and fresh.low < fresh.high


def test_a_form_becomes_a_piece_that_is_placed_in_the_view(goaled):
    window, layers = goaled, stack(goaled)
    layers.add("inside a form")
    strip = layers.strips[0]
    assert not strip.boxes["piece"].isVisible() and not strip.fields["width"].isHidden() and layers.reaches.isHidden()
    pick(strip.boxes["form"], "box")
    before = weights(window)
    strip.placing.click()
    strip = layers.strips[0]
    form = window.bench.scene.pieces[-1]
    assert form.role == "scenery" and strip.placing.isHidden() and strip.fields["width"].isHidden()
    assert strip.boxes["piece"].currentText() == form.name
    assert weights(window) == pytest.approx(before, abs=0.15) and before.max() > 0.8
    window.bench.set_value("move it", "place.position", (0.08, 0.3, 0.0), form.id)
    assert np.abs(weights(window) - before).max() > 0.5
    window.bench.document.undo()
    window.bench.document.undo()
    assert len(window.bench.scene.pieces) == 1 and weights(window) == pytest.approx(before)


def test_a_map_in_a_solid_says_how_deep_it_reaches(show):
    window = show(small_scene())
    section = window.sheet.section("Springs")
    section.fold.setChecked(True)
    button, layers = section.stacks["solid.stiffness"]
    button.click()
    layers.add("height")
    type_into(layers.reaches.edit, "1.5 cm")
    assert window.bench.chosen.map_of("solid.stiffness").depth == pytest.approx(0.015)
    type_into(layers.reaches.edit, "-2")
    assert "between" in sentence(window) and window.bench.chosen.map_of("solid.stiffness").depth == pytest.approx(0.015)
