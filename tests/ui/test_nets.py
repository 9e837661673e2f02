"""Nets, braces and cages in the window, and the scenes of the fair that show them."""

import numpy as np
import pytest

from handling import checked, field, pick, play_to_end, sentence, type_into
from rubberquince.document.bodies import piece_points, unit_mesh
from rubberquince.document.scene import Piece, Place, RunSettings, Scene, SheetShape, SphereShape, TorusShape
from rubberquince.document.values import BraceValues, HoldValues
from rubberquince.exchange.obj_in import read_obj
from rubberquince.ui.files import DEMOS


def piece_of(shape, role, size=(0.2, 0.2, 0.2), height=0.2, **more):
    place = Place(position=(0.0, height, 0.0), size=size)
    return Piece(id="a", name="Thing", role=role, shape=shape, place=place, **more)


def shown(show, piece, last=8):
    return show(Scene(pieces=(piece,), run=RunSettings(last=last, quality="draft")))


@pytest.mark.parametrize("name", ["drumskin", "soup", "star pad", "bunting", "scarecrow",
                                  "tilting tray", "merry-go-round", "turning wheel", "bag of plums",
                                  "rising buns"])
def test_a_scene_of_the_fair_opens_without_trouble_and_moves(name, window, qtbot):
    window.files.demo(name)
    assert not [c.sentence for c in checked(window, qtbot) if c.trouble] and name in DEMOS
    window.bench.set_value("draft", "run.quality", "draft")
    window.bench.set_value("shorter", "run.last", 4)
    play_to_end(window, qtbot)
    first, last = window.runner.skins(1), window.runner.skins(4)
    assert max(np.abs(last[key] - first[key]).max() for key in last) > 1e-3
    assert all(np.isfinite(skin).all() for skin in last.values())


def test_a_net_has_its_own_feels_and_values(show, qtbot):
    window = shown(show, piece_of(SheetShape(across=8, along=8), "shell", (0.2, 0.01, 0.2),
                                  hold=HoldValues(what="outline")))
    role = window.sheet.section("Role and feel")
    pick(role.role, "Net")
    assert [role.feel.itemText(k) for k in range(1, 3)] == ["drumskin", "rubber net"]
    pick(role.feel, "rubber net")
    assert window.bench.chosen.net.stretch == 300.0 and window.bench.chosen.shell.stretch == 3000.0
    type_into(field(window, "Springs", "Rings").edit, "2.4")
    assert window.bench.chosen.net.rings == 2
    type_into(field(window, "Springs", "Rings").edit, "9")
    assert "at most 4" in sentence(window)
    play_to_end(window, qtbot)
    skin = window.runner.skins(8)["a"]
    assert 0.15 < skin[:, 1].min() < 0.199 and skin[:, 1].max() == pytest.approx(0.2, abs=1e-6)


def test_braces_are_shown_counted_and_survive_refining(show):
    window = shown(show, piece_of(SphereShape(around=16, rings=8), "shell", braces=BraceValues(count=40)))
    braces = window.sheet.section("Braces")
    braces.fold.setChecked(True)
    assert braces.summary(window.bench.chosen) == "40, each 20 N/m"
    braces.seen.click()
    assert 20 < len(window.view_zone.view.threads) <= 40
    type_into(field(window, "Braces", "Longest").edit, "1 mm")
    assert not len(window.view_zone.view.threads)
    type_into(field(window, "Braces", "Longest").edit, "1 m")
    window.pieces.refine()
    assert 20 < len(window.view_zone.view.threads) <= 40
    braces.seen.click()
    assert not len(window.view_zone.view.threads)


def test_threads_lead_to_the_goal(show, qtbot):
    window = shown(show, piece_of(SheetShape(across=8, along=8), "shell", (0.2, 0.01, 0.2)))
    pick(window.sheet.section("Goal").to, "its own shape")
    type_into(field(window, "Goal", "Strength").edit, "40 %")
    window.sheet.section("Goal").threads.click()
    play_to_end(window, qtbot)
    window.player.go(8)
    threads = window.view_zone.view.threads
    assert len(threads) == 81 and np.linalg.norm(threads[:, 1] - threads[:, 0], axis=1).min() > 0.02


def test_a_cage_carries_a_mesh_without_inside_and_falls_with_it(show, qtbot):
    shape = SheetShape(across=12, along=12)
    piece = piece_of(shape, "solid", (0.2, 0.05, 0.2))
    window = shown(show, piece)
    pick(window.sheet.section("Role and feel").role, "Cage")
    assert not window.sheet.section("Role and feel").cells.isHidden()
    assert not [c for c in checked(window, qtbot) if c.trouble]
    play_to_end(window, qtbot)
    skin = window.runner.skins(8)["a"]
    points = unit_mesh(shape, {}).points * np.array(piece.place.size)
    assert len(skin) == len(points)
    fallen = 0.5 * 9.81 * (7.0 / 24.0) ** 2
    low = 0.2 + points[:, 1].min() - fallen
    assert (skin[:, 1].min() == pytest.approx(low, abs=0.02)) if low > 0.0 else skin[:, 1].min() > 0.0
    window.view_zone.set_display("cells")
    window.view_zone.set_display("smooth")


@pytest.mark.parametrize("role", ["shell", "cage"])
def test_a_dense_piece_is_carried_by_another_of_any_role(role, show, qtbot, tmp_path):
    carrier = piece_of(SphereShape(around=16, rings=8), role, (0.16, 0.16, 0.16), 0.2)
    dense = Piece(id="dense", name="Dense", role="carried", shape=TorusShape(around=120, sides=40),
                  place=Place(position=(0.0, 0.2, 0.0), turn=(20.0, 0.0, 0.0), size=(0.15, 0.05, 0.15)))
    window = show(Scene(pieces=(carrier, dense), run=RunSettings(last=9, quality="draft")))
    (trouble,) = [c for c in checked(window, qtbot) if c.trouble]
    assert "carried by nothing" in trouble.sentence and trouble.button == "Let Thing carry it"
    window.bench.document.push("mend", trouble.mend(window.bench.scene))
    window.bench.choose("dense")
    feel = window.sheet.section("Role and feel")
    assert feel.carrier.currentText() == "Thing" and window.sheet.section("Contact").isHidden()
    play_to_end(window, qtbot)
    first, last = (window.runner.skins(k) for k in (1, 9))
    assert len(last["dense"]) == 4800 and set(last) == {"a", "dense"}
    np.testing.assert_allclose(first["dense"], piece_points(dense, {}), atol=1e-6)
    drops = [last[key][:, 1].mean() - first[key][:, 1].mean() for key in ("a", "dense")]
    assert drops[1] == pytest.approx(drops[0], abs=0.02) and drops[0] < -0.04
    assert np.ptp(last["dense"], axis=0).max() < 0.2
    window.handing.export_frame(9, tmp_path / "frame.obj")
    assert len(read_obj(tmp_path / "frame.obj").points) == 4800 + len(last["a"])
    window.bench.set_value("nobody", "carried_by", "", "dense")
    window.player.toggle()
    qtbot.waitUntil(lambda: "carried by nothing" in sentence(window), timeout=60_000)
