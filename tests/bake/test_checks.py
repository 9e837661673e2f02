"""Sentences about what will not work: each is said, shows its place, and its button mends it."""

import pickle

import numpy as np
import pytest

from rubberquince.bake.checks import checks_of
from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import piece_points, unit_mesh
from rubberquince.document.maps import HeightRule, Layer, LineRule, Map, NearRule
from rubberquince.document.scene import (
    BlockShape,
    Curve,
    ImportedShape,
    Piece,
    Place,
    Scene,
    SheetShape,
    SolidValues,
    TorusShape,
    changed,
)
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from scenes import ball, slab, small_scene

LINE = Curve(id="c", name="seam", beads=((0.0, 0.5, 0.0), (0.5, 0.0, 0.0)))


def troubles(scene):
    return [c for c in checks_of(scene, {}) if c.trouble]


def test_the_demo_has_no_troubles():
    assert troubles(harvest_fair.scene()) == []
    assert checks_of(harvest_fair.scene(), {})[0].sentence == "Nothing overlaps at the start."


@pytest.mark.parametrize("height", [0.02, 0.05])
def test_an_overlap_is_seen_and_lifted_clear(height):
    scene = small_scene()
    sunk = scene.with_piece(changed(scene.piece("ball"), "place.position", (0.0, height, 0.0)))
    found = troubles(sunk)
    assert any("overlap at the start" in c.sentence for c in found)
    for _ in range(3):
        for check in troubles(sunk)[:1]:
            sunk = check.mend(sunk)
    assert troubles(sunk) == []


def test_two_solids_in_one_another_are_one_check():
    scene = Scene(pieces=(ball(height=0.1), ball("other", height=0.13)))
    (check,) = troubles(scene)
    assert check.sentence == "Other and Ball overlap at the start and will be drawn apart."
    assert check.button == "Lift Other clear"
    assert troubles(check.mend(scene)) == []


def test_nothing_moves_is_said_and_mended():
    (check,) = troubles(Scene(pieces=(slab(),)))
    assert "no piece is a Solid" in check.sentence
    assert check.mend(Scene(pieces=(slab(),))).piece("slab").role == "solid"
    sheet = slab().model_copy(update={"id": "sheet", "name": "Sheet", "shape": SheetShape()})
    (check,) = troubles(Scene(pieces=(sheet,)))
    assert check.mend is None                               # it has no inside
    (check,) = troubles(Scene(pieces=(sheet, slab())))
    assert check.button == "Make Slab a Solid"
    weightless = changed(small_scene(), "run.gravity", 0.0)
    (check,) = troubles(weightless)
    assert "gravity is off" in check.sentence and check.mend(weightless).run.gravity == 9.81
    assert troubles(Scene()) == []                          # the empty bench says so itself
    for check in checks_of(weightless, {}):                 # they come from another process
        pickle.loads(pickle.dumps(check))


def mended(scene, check):
    """The scene after a check's button, with the mesh that it may have made."""
    return check.mend(scene), {check.mesh.key: check.mesh} if check.mesh is not None else {}


def test_an_open_mesh_as_a_solid_is_closed_or_made_something_else():
    ball_mesh = primitives.sphere(24, 12)
    corners = np.repeat(np.arange(len(ball_mesh.face_sizes)) >= 60, ball_mesh.face_sizes)
    bowl = PolyMesh(ball_mesh.points, ball_mesh.face_sizes[60:], ball_mesh.face_points[corners])
    piece = ball().model_copy(update={"shape": ImportedShape(name="bowl", mesh=bowl.key)})
    scene = Scene(pieces=(piece,))
    (check,) = [c for c in checks_of(scene, {bowl.key: bowl}) if c.trouble]
    assert "is open" in check.sentence and check.button == "Close its openings" and np.isfinite(check.spot).all()
    after, made = mended(scene, check)
    assert [c for c in checks_of(after, made) if c.trouble] == []
    flat = Scene(pieces=(ball().model_copy(update={"shape": SheetShape()}),))
    (check,) = [c for c in troubles(flat) if "open" in c.sentence]
    after, made = mended(flat, check)
    assert check.button == "Give it a thickness" and after.pieces[0].shape.kind == "block"
    assert not any("open" in c.sentence for c in troubles(after))


def test_what_falls_past_everything_is_said():
    scene = changed(small_scene(), "run.ground", False)
    assert troubles(scene) == []                            # the slab is under it
    aside = scene.with_piece(changed(scene.piece("ball"), "place.position", (3.0, 0.2, 0.0)))
    (check,) = troubles(aside)
    assert "falls past everything" in check.sentence and check.mend(aside).run.ground
    rising = aside.with_piece(changed(aside.piece("ball"), "solid.weight", -0.5))
    assert troubles(rising) == []


@pytest.mark.parametrize("piece", ["ball", "slab"])
def test_a_gap_wider_than_the_cells_is_said(piece):
    scene = small_scene()
    wide = scene.with_piece(changed(scene.piece(piece), "contact.gap", 0.03))
    (check,) = [c for c in troubles(wide) if "wider than the cells" in c.sentence]
    assert "30 mm" in check.sentence and check.mend(wide).piece(piece).contact.gap == 0.005


def test_cells_too_coarse_to_bend_are_said_with_the_place():
    thin = ball().model_copy(update={"shape": TorusShape(thickness=0.2), "place": Place(
        position=(0.0, 0.1, 0.0), size=(0.2, 0.04, 0.2)),
        "solid": SolidValues(cells=2)})
    scene = Scene(pieces=(thin,))
    (check,) = troubles(scene)
    assert "cells thick at its thinnest" in check.sentence and check.button.endswith("cells across")
    fine = check.mend(scene)
    assert troubles(fine) == [] and fine.pieces[0].solid.cells > thin.solid.cells
    points = piece_points(thin, {})
    assert np.linalg.norm(points - check.spot, axis=1).min() < 0.02


def test_every_trouble_has_a_place_or_is_about_the_whole():
    scene = small_scene()
    sunk = scene.with_piece(changed(scene.piece("ball"), "place.position", (0.0, 0.02, 0.0)))
    for check in troubles(sunk):
        assert check.spot.shape == (3,) and np.abs(check.spot).max() < 0.2


def test_a_box_of_eight_corners_may_be_refined_until_its_wobble_shows():
    box = Piece(id="box", name="box", shape=BlockShape(divisions=(1, 1, 1)),
                place=Place(position=(0.0, 0.2, 0.0), size=(0.1, 0.1, 0.1)))
    meshes, seen = dict[str, PolyMesh](), 0
    scene = Scene(pieces=(box,))
    while coarse := [check for check in checks_of(scene, meshes) if "coarser than its cells" in check.sentence]:
        (check,), seen = coarse, seen + 1
        assert check.trouble and check.button == "Refine it" and seen < 4
        if check.mesh is not None:
            meshes[check.mesh.key] = check.mesh
        scene = check.mend(scene)
    assert seen and len(unit_mesh(scene.piece("box").shape, meshes).points) > 26


def test_layers_that_go_by_what_is_gone_are_said_and_taken_away():
    height, gone = Layer(rule=HeightRule()), Layer(rule=LineRule(curve="c"))
    mapped = ball().model_copy(update={"curves": (LINE,), "maps": (
        Map(of="solid.stiffness", high=9000.0, layers=(height, gone)),
        Map(of="contact.friction", layers=(Layer(rule=NearRule(piece="slab")),)))})
    scene = Scene(pieces=(mapped, slab()))
    assert troubles(scene) == []
    scene = scene.with_piece(mapped.model_copy(update={"curves": ()}))
    without = scene.model_copy(update={"pieces": scene.pieces[:1]})
    one, two = troubles(without)
    assert one.sentence == "The map of the stiffness of Ball goes by a line that is gone."
    assert two.sentence == "The map of the friction of Ball goes by a piece that is gone."
    mended = pickle.loads(pickle.dumps(two.mend))(one.mend(without))
    assert troubles(mended) == []
    assert [a_map.layers for a_map in mended.piece("ball").maps] == [(height,)]


def test_a_line_that_has_left_the_skin_is_laid_on_it_again():
    scene = Scene(pieces=(ball().model_copy(update={"curves": (LINE,)}),))
    assert troubles(scene) == []
    thin = scene.with_piece(changed(scene.piece("ball"), "shape", TorusShape()))
    off = next(check for check in troubles(thin) if check.sentence == "The line seam has left the skin of Ball.")
    assert off.spot is not None
    assert not any("seam" in check.sentence for check in troubles(off.mend(thin)))


def test_what_reaches_far_out_of_its_carrier_is_said():
    ribbon = slab().model_copy(update={"id": "r", "name": "Ribbon", "role": "carried", "carried_by": "ball"})
    at_hand = ribbon.model_copy(update={"place": Place(position=(0.0, 0.09, 0.0), size=(0.09, 0.01, 0.09))})
    assert troubles(Scene(pieces=(ball(), at_hand))) == []
    aside = ribbon.model_copy(update={"place": Place(position=(0.1, 0.09, 0.0), size=(0.09, 0.01, 0.09))})
    (check,) = troubles(Scene(pieces=(ball(), aside)))
    assert check.sentence == "Ribbon reaches 10.5 cm out of Ball, which carries it; what is out there does not bend."
    assert check.spot[0] == pytest.approx(0.145, abs=1e-6)
