"""Getting shapes, giving them other meshes, telling them how they touch, and being told what is wrong."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QPushButton
from scipy.spatial import cKDTree

from handling import LEFT, LONG, field, pick, pixel_of, play_to_end, sentence, type_into
from rubberquince.bake.balls import balls_of
from rubberquince.bake.checks import checks_of
from rubberquince.document.bodies import piece_points, unit_mesh
from rubberquince.document.scene import RunSettings, Scene, SheetShape, changed
from rubberquince.document.values import HoldValues
from rubberquince.exchange.frames import write_obj
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh, is_closed
from rubberquince.ui.pieces import SHAPES
from scenes import ball, small_scene


def shape_section(window):
    section = window.sheet.section("Shape")
    section.fold.setChecked(True)
    return section


def test_every_shape_can_be_added_and_says_how_large_it_is(window):
    for kind in SHAPES:
        window.menus.actions[f"Add a {kind}"].trigger()
        piece = window.bench.chosen
        mesh = unit_mesh(piece.shape, {})
        text = shape_section(window)._count.text()
        assert text.startswith(f"{len(mesh.points):,} vertices".replace(",", " "))
        usual = "solid" if is_closed(mesh.triangles) else "collider"
        assert piece.role == {"rope": "net", "heap of pellets": "pellets"}.get(kind, usual)
    assert not [c.sentence for c in checks_of(window.bench.scene, {}) if "overlap" in c.sentence and c.trouble]
    feet = [p.place.position[1] - p.place.size[1] / 2 for p in window.bench.scene.pieces]
    assert max(feet) < 0.05                                 # beside each other, not in a tower


def test_cells_are_counted_while_choosing(window):
    window.menus.actions["Add a block"].trigger()
    section = window.sheet.section("Role and feel")
    section.fold.setChecked(True)
    before = section._cells_count.text()
    type_into(section.cells, "12")
    assert section._cells_count.text() != before
    assert section._cells_count.text() == "about 41 000 cells with edges of 0.75 cm (1.5 cm at draft)"


def test_the_next_seed_is_another_form_and_the_same_every_time(window):
    window.menus.actions["Add a superellipsoid"].trigger()
    section = shape_section(window)
    first = unit_mesh(window.bench.chosen.shape, {}).points
    section.surprise.click()
    assert window.bench.chosen.shape.seed == 2
    assert not np.allclose(unit_mesh(window.bench.chosen.shape, {}).points, first)
    type_into(section.seed, "1")
    assert np.array_equal(unit_mesh(window.bench.chosen.shape, {}).points, first)


def test_refine_thin_and_remesh_are_one_step_each_and_can_be_undone(window):
    window.menus.actions["Add a sphere"].trigger()
    section, document = shape_section(window), window.bench.document
    start = window.bench.scene
    section.refine.click()
    assert window.bench.chosen.shape.around == 96 and document.undo_label.startswith("refine")
    type_into(section.face, "6 mm")
    section.remesh.click()
    remeshed = unit_mesh(window.bench.chosen.shape, document.meshes)
    assert is_closed(remeshed.triangles) and "faces now" in sentence(window)
    type_into(section.share, "40 %")
    section.thin.click()
    thinned = unit_mesh(window.bench.chosen.shape, document.meshes)
    assert len(thinned.triangles) == pytest.approx(0.4 * len(remeshed.triangles), rel=0.02)
    for _ in range(3):
        document.undo()
    assert window.bench.scene == start
    type_into(section.face, "0.01 mm")
    section.remesh.click()
    assert "would be too many" in sentence(window) and window.bench.scene == start


def test_a_dirty_mesh_comes_in_repaired_with_a_sentence(window, tmp_path, monkeypatch):
    block = primitives.block((6, 6, 6))
    corners = block.face_points.reshape(-1, 4).copy()
    corners[10] = corners[10][::-1]
    dirty = PolyMesh(block.points * 0.1, block.face_sizes[1:], corners[1:].reshape(-1))
    write_obj(tmp_path / "crate.obj", [Exported("crate", dirty, dirty.points)])
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(tmp_path / "crate.obj"), ""))
    window.menus.actions["Import a mesh"].trigger()
    assert "1 face looked the wrong way and was turned" in sentence(window)
    assert "1 small hole was closed" in sentence(window)
    assert is_closed(unit_mesh(window.bench.chosen.shape, window.bench.document.meshes).triangles)


def test_a_bounce_by_number_is_asked_for_and_seen(show, qtbot):
    scene = small_scene(last=30)
    window = show(changed(scene.with_piece(changed(scene.piece("ball"), "place.position", (0.0, 0.4, 0.0))),
                          "run.quality", "good"))
    section = window.sheet.section("Contact")
    section.fold.setChecked(True)
    bounce = field(window, "Contact", "Bounce")
    assert bounce.isHidden()
    section.by_number.click()
    assert bounce.isVisible() and window.bench.chosen.contact.bounce == 0.5
    type_into(bounce.edit, "80 %")
    assert window.bench.chosen.contact.bounce == 0.8 and "bounce 80 %" in section._summary.text()
    play_to_end(window, qtbot)
    height = window.runner.readings("ball")[1:31, 4]
    low = int(np.argmin(height[:14]))
    assert height[low:].max() - height[low] > 0.3 * (height[0] - height[low])
    section.by_number.click()
    assert window.bench.chosen.contact.bounce is None and bounce.isHidden()


def test_weight_and_sides_change_without_a_new_run(show, qtbot):
    window = show(small_scene(last=8))
    play_to_end(window, qtbot)
    type_into(field(window, "Forces", "Gravity").edit, "-100 %")
    assert window.bench.chosen.solid.weight == -1.0 and window.runner.known(8) and not window.runner.good(8)
    play_to_end(window, qtbot)
    assert window.runner.readings("ball")[8, 4] > 0.1                      # it rose
    window.bench.choose("slab")
    section = window.sheet.section("Contact")
    pick(section.sides, "outside only")
    assert window.bench.scene.piece("slab").contact.sides == "outside"
    assert window.sheet.section("Forces").isHidden()                       # it is not pulled


def test_a_sheet_as_a_solid_is_told_and_mended_by_its_button(show, qtbot):
    flat = ball().model_copy(update={"shape": SheetShape()})
    window = show(Scene(pieces=(flat,)))
    assert "is open" in window.checks.shown[0].sentence and window.view_zone.view.spots
    window.bench.choose("")
    card = window.checks.findChild(QPushButton, "mend").parent()
    QTest.mouseClick(card, LEFT)
    assert window.bench.chosen_id == "ball"
    window.checks.findChild(QPushButton, "mend").click()
    assert window.bench.scene.pieces[0].shape.kind == "block"
    window.menus.actions["Undo"].trigger()
    assert window.bench.scene.pieces[0].shape.kind == "sheet"


def test_the_place_of_a_trouble_is_marked_in_the_view(show):
    scene = small_scene()
    window = show(scene.with_piece(changed(scene.piece("ball"), "place.position", (0.0, 0.03, 0.0))))
    view = window.view_zone.view
    view.stage.chosen = None
    marked = view.grab().toImage()
    at = pixel_of(view, view.spots[0])
    colours = {marked.pixelColor(at.x() + 12 + dx, at.y() - 12 + dy).name() for dx in (-4, 4) for dy in (-4, 4)}
    assert "#b4532a" in colours
    window.player.go(5)


def test_standard_directions_turn_the_camera(show):
    window = show(small_scene())
    view = window.view_zone.view
    for name, up in (("front", (0, 1, 0)), ("side", (0, 1, 0))):
        window.menus.actions[f"Look from the {name}"].trigger()
        assert view.camera.axes[1] @ np.array(up) > 0.99
    QTest.keyClick(window, Qt.Key.Key_T)
    assert view.camera.axes[1] @ np.array([0, 0, -1]) > 0.99 or view.camera.axes[2][1] > 0.99      # from above


def test_time_and_size_of_a_bake_are_said_before_it(show, qtbot):
    window = show(small_scene(last=400))
    window.player.toggle()
    qtbot.waitUntil(lambda: window.runner.good(4), timeout=LONG)
    window.player.halt()
    qtbot.waitUntil(lambda: not window.runner.computing, timeout=LONG)
    text = window.strip.status.text()
    assert text.startswith("to bake: about") and text.endswith("MB")
    seconds, size = window.runner.expected(400)
    missing = sum(not window.runner.good(k) for k in range(1, 401))
    assert 0 < seconds < 3600 and size == missing * window.runner.store.bytes_a_frame


@pytest.mark.parametrize("suffix", ["obj", "ply", "stl", "glb"])
def test_one_frame_in_every_format(show, tmp_path, monkeypatch, suffix):
    window = show(small_scene())
    kinds = []

    def asked(*args):
        kinds.extend(args[3].split(";;"))
        return str(tmp_path / "frame"), next(k for k in kinds if f"*.{suffix})" in k)

    monkeypatch.setattr(QFileDialog, "getSaveFileName", asked)
    window.menus.actions["Export this frame"].trigger()
    assert (tmp_path / f"frame.{suffix}").stat().st_size > 1000 and "is in" in sentence(window)


def test_a_run_as_morph_targets_and_as_files(show, qtbot, tmp_path):
    window = show(small_scene(last=4))
    play_to_end(window, qtbot)
    window.handing.export_run(tmp_path / "run.glb")
    window.handing.export_run(tmp_path / "run.obj")
    assert len(list(tmp_path.glob("run.0*.obj"))) == 4 and (tmp_path / "run.glb").exists()
    window.handing.export_run(tmp_path / "run.doc")
    assert "end it in .usdc" in sentence(window)


def test_a_ball_of_jelly_comes_back_and_one_of_wet_clay_stays_as_it_fell(show, qtbot):
    window = show(small_scene(last=12))
    role, dents = window.sheet.section("Role and feel"), window.sheet.section("Dents")
    assert dents.summary(window.bench.chosen) == "comes back" and field(window, "Dents", "Yields at").isHidden()
    pick(role.feel, "wet clay")
    assert dents.keeps.isChecked() and not field(window, "Dents", "Yields at").isHidden()
    assert dents.summary(window.bench.chosen) == "flows in 0.03 s beyond 2 %"
    play_to_end(window, qtbot)
    assert np.ptp(window.runner.skins(12)["ball"][:, 1]) < 0.97 * np.ptp(window.runner.skins(1)["ball"][:, 1])
    pick(role.feel, "gel")
    assert not dents.keeps.isChecked()
    dents.fold.setChecked(True)
    dents.keeps.click()
    assert window.bench.chosen.solid.yields == 0.05
    type_into(field(window, "Dents", "Yields at").edit, "-3 %")
    assert "at least 0 %" in sentence(window)
    type_into(field(window, "Dents", "Flows in").edit, "2")
    assert window.bench.chosen.solid.flow_time == 2.0
    dents.keeps.click()
    assert window.bench.chosen.solid.yields is None


def test_with_nothing_chosen_the_sheet_is_that_of_the_whole_scene(show, qtbot):
    window = show(small_scene(last=6))
    around = window.sheet.surroundings
    assert around.isHidden()
    window.bench.choose("")
    assert not around.isHidden()
    gravity, friction = around.fields["run.gravity"], around.fields["run.ground_friction"]
    type_into(gravity.edit, "-2")
    type_into(friction.edit, "7")
    assert "at most 5" in sentence(window) and window.bench.scene.run.ground_friction == 0.5
    around.ground.click()
    assert not window.bench.scene.run.ground and not friction.isEnabled()
    play_to_end(window, qtbot)
    assert window.runner.skins(6)["ball"][:, 1].mean() > window.runner.skins(1)["ball"][:, 1].mean() + 0.01
    gravity.reset.click()
    assert window.bench.scene.run.gravity == 9.81


def test_what_is_harder_to_stretch_hangs_shorter(show, qtbot):
    hung = ball("a", 0.3).model_copy(update={"hold": HoldValues(what="everything", above=0.9)})
    window = show(Scene(pieces=(hung,), run=RunSettings(last=10, quality="draft")))
    window.bench.choose("a")
    lows = []
    for percent in ("100", "500"):
        type_into(field(window, "Springs", "Harder to pull").edit, percent)
        play_to_end(window, qtbot)
        lows.append(window.runner.skins(10)["a"][:, 1].min())
    assert window.bench.chosen.solid.stretching == 5.0 and lows[1] > lows[0] + 1e-4


def test_pellets_fill_a_piece_or_lie_on_it_in_one_step(window):
    window.menus.actions["Add a sphere"].trigger()
    sphere = window.bench.chosen
    window.menus.actions["Add a heap of pellets"].trigger()
    section, before = shape_section(window), window.bench.scene
    pick(section.filled, sphere.name)
    type_into(section.ball, "9 mm")
    for how, near in (("inside", -1.0), ("on the skin of", 1.0)):
        pick(section.how, how)
        section.fill.click()
        piece, meshes = window.bench.chosen, window.bench.document.meshes
        points, balls = piece_points(piece, meshes), balls_of(piece, meshes)
        middle, radius = balls.middles(points), balls.radii(points)
        away = np.linalg.norm((middle - sphere.place.position) / (0.5 * np.array(sphere.place.size)), axis=1)
        pairs = cKDTree(middle).query(middle, 2)
        assert (pairs[0][:, 1] > radius + radius[pairs[1][:, 1]]).all() and radius.max() <= 0.0046
        assert (near * (away - 1.0) > 0.0).all() and f"{len(middle)} balls" in sentence(window)
        assert len(middle) * (4.0 / 3.0 * np.pi * 0.0045 ** 3) > (
            0.45 * np.prod(sphere.place.size) * np.pi / 6.0 if near < 0.0 else 0.0) and len(middle) > 50
        window.bench.document.undo()
        assert window.bench.scene == before
    pick(section.how, "inside")
    type_into(section.ball, "0.5 mm")
    section.fill.click()
    assert "make them larger" in sentence(window) and window.bench.scene == before
    type_into(section.ball, "50 cm")
    section.fill.click()
    assert "make them smaller" in sentence(window) and window.bench.scene == before
    type_into(section.ball, "0 mm")
    section.fill.click()
    assert "above 0" in sentence(window) and window.bench.scene == before
    type_into(section.ball, "nonsense")
    assert section.ball.value == 0.0


def test_a_heap_of_pellets_is_added_let_go_bit_by_bit_and_seen_as_balls(show, qtbot):
    window = show(Scene(run=RunSettings(last=16, quality="draft")))
    window.menus.actions["Add a heap of pellets"].trigger()
    piece, release = window.bench.chosen, window.sheet.section("Release")
    assert piece.role == "pellets" and "200 balls about 1" in shape_section(window)._count.text()
    shape = window.sheet.section("Shape")
    type_into(shape.divisions[0], "40")
    assert "40 balls" in shape._count.text() and window.bench.chosen.shape.count == 40
    assert release.summary(window.bench.chosen) == "from frame 1"
    type_into(field(window, "Release", "Over frames").edit, "12")
    type_into(field(window, "Release", "Leave at").edit, "1.5")
    assert release.summary(window.bench.chosen) == "from frame 1 over 12 frames at 1.5 m/s"
    assert not release.again.isEnabled()
    type_into(field(window, "Release", "Life").edit, "10")
    release.again.click()
    assert release.summary(window.bench.chosen).endswith("for 10 frames, again")
    assert window.bench.chosen.release.again
    release.again.click()
    type_into(field(window, "Release", "Life").edit, "0")
    pick(window.sheet.section("Role and feel").feel, "iron")
    assert window.bench.chosen.rigid.density == 7800.0
    play_to_end(window, qtbot)
    start, middle, end = (window.runner.skins(k)[piece.id] for k in (1, 7, 16))
    moved = np.abs(middle - start).max(axis=1) > 1e-6
    assert 0.3 < moved.mean() < 0.8 and (np.abs(end - start).max(axis=1) > 1e-3).all()
    assert len(start) == len(unit_mesh(window.bench.chosen.shape, {}).points)
    assert end[:, 1].min() > -1e-3                          # a hard landing presses them a little
    pick(window.sheet.section("Role and feel").role, "Rigid")
    assert not window.sheet.section("Springs").isHidden() and release.isHidden()
