"""Meshes that move, from numbered files and USD: read, refused, kept, and in a run."""

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from handling import pick, sentence
from rubberquince.bake.run import SceneRun
from rubberquince.document.document import Document
from rubberquince.document.scene import ImportedShape, Piece, Place, RunSettings, Scene, SphereShape
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.document.values import GoalValues, ReshapeValues, SolidValues
from rubberquince.errors import ShapeError
from rubberquince.exchange.frames import write_obj
from rubberquince.exchange.importing import import_mesh
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives

BALL = primitives.sphere(12, 6)
FRAMES = 9


def place(frame):
    """A ball 20 cm wide that rises by a centimetre a frame and becomes a spindle."""
    return BALL.points * (0.2, 0.2 + 0.02 * frame, 0.2) + (0.0, 0.1 + 0.01 * frame, 0.0)


def numbered(folder, frames=FRAMES, first=8):
    for k in range(frames):
        write_obj(folder / f"lift.{first + k:04d}.obj", [Exported("ball", BALL, place(k))])
    return folder / f"lift.{first + 2:04d}.obj"


def staged(folder):
    path = folder / "lift.usda"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetStartTimeCode(101)
    stage.SetEndTimeCode(100 + FRAMES)
    mesh = UsdGeom.Mesh.Define(stage, "/ball")
    mesh.CreateFaceVertexCountsAttr(BALL.face_sizes.tolist())
    mesh.CreateFaceVertexIndicesAttr(BALL.face_points.tolist())
    for k in range(FRAMES):
        mesh.CreatePointsAttr().Set([tuple(p) for p in (100.0 * place(k)).tolist()], Usd.TimeCode(101 + k))
    stage.Save()
    return path


def in_metres(imported, frame):
    return imported.mesh.at(frame) * imported.size + imported.centre


@pytest.mark.parametrize("made", [numbered, staged])
def test_all_frames_are_read_wherever_one_points_to(made, tmp_path):
    imported = import_mesh(made(tmp_path), moving=True)
    assert len(imported.mesh.frames) == FRAMES * len(BALL.points)
    for frame in (0, 3, FRAMES - 1):
        assert in_metres(imported, frame) == pytest.approx(place(frame), abs=1e-5)
    assert in_metres(imported, 2.5) == pytest.approx((place(2) + place(3)) / 2, abs=1e-5)
    assert (imported.mesh.at(1e9) == imported.mesh.at(FRAMES - 1)).all()
    assert (imported.mesh.at(-3.0) == imported.mesh.at(0.0)).all()
    assert not len(import_mesh(made(tmp_path)).mesh.frames)


def test_what_is_not_one_mesh_in_a_row_of_frames_is_refused_in_a_sentence(tmp_path):
    path = numbered(tmp_path)
    other = primitives.sphere(10, 6)
    write_obj(tmp_path / "lift.0012.obj", [Exported("ball", other, other.points)])
    with pytest.raises(ShapeError, match=r"Frame 5 .* has other faces"):
        import_mesh(path, moving=True)
    (tmp_path / "lift.0012.obj").unlink()
    with pytest.raises(ShapeError, match="12 is missing"):
        import_mesh(path, moving=True)
    (tmp_path / "lift.0010.obj").write_text("v 0 0 nan\nf 1 1 1\n")
    with pytest.raises(ShapeError):
        import_mesh(path, moving=True)
    alone = tmp_path / "alone"
    alone.mkdir()
    with pytest.raises(ShapeError, match="one frame"):
        import_mesh(numbered(alone, frames=1, first=10).with_name("lift.0010.obj"), moving=True)
    write_obj(alone / "crate.obj", [Exported("ball", BALL, BALL.points)])
    with pytest.raises(ShapeError, match="has no number"):
        import_mesh(alone / "crate.obj", moving=True)


def moving_piece(folder, **more):
    imported = import_mesh(numbered(folder), moving=True)
    size = tuple(float(s) for s in imported.size)
    piece = Piece(id="m", name="mould", shape=ImportedShape(name="lift", mesh=imported.mesh.key, moves=True),
                  place=Place(position=(0.0, 0.1, 0.0), size=size), **more)
    return piece, {imported.mesh.key: imported.mesh}


def test_a_scene_keeps_the_frames(tmp_path):
    piece, meshes = moving_piece(tmp_path, role="collider")
    save_scene(tmp_path / "a.quince", Scene(pieces=(piece,)), meshes)
    scene, read = load_scene(tmp_path / "a.quince")
    assert scene.pieces[0].shape_moves and scene.pieces[0].is_led
    assert (read[scene.pieces[0].shape.mesh].frames == next(iter(meshes.values())).frames).all()


def test_as_a_collider_it_lifts_what_lies_on_it(tmp_path):
    piece, meshes = moving_piece(tmp_path, role="collider")
    cap = Piece(id="a", name="cap", shape=SphereShape(around=12, rings=6), solid=SolidValues(cells=3, stiffness=3e4),
                place=Place(position=(0.0, 0.232, 0.0), size=(0.06, 0.06, 0.06)))
    run = SceneRun(Scene(pieces=(cap, piece), run=RunSettings(last=10, quality="draft", fps=48)), meshes,
                   tmp_path / "bake", lambda: False)
    skins = [run.layout.skins(frame.skin) for frame in run.frames(10)]
    for k in (0, 4, 8):
        assert skins[k]["m"] == pytest.approx(place(k), abs=1e-4)
    assert skins[8]["a"][:, 1].min() > place(8)[:, 1].max() - 2e-3          # it sags about the one top point


def test_a_solid_with_a_goal_goes_along_with_its_own_frames_and_wobbles(tmp_path):
    goal = GoalValues(to="its own shape", strength=0.8)
    piece, meshes = moving_piece(tmp_path, role="solid", solid=SolidValues(cells=3, stiffness=3e3), goal=goal)
    run = SceneRun(Scene(pieces=(piece,), run=RunSettings(last=40, quality="draft", ground=False, gravity=0.0)), meshes,
                   tmp_path / "bake", lambda: False)
    heights = [run.layout.skins(frame.skin)["m"][:, 1] for frame in run.frames(40)]
    assert heights[2].mean() < place(2)[:, 1].mean() - 1e-3             # it lags behind,
    assert max(h.mean() for h in heights[8:]) > place(8)[:, 1].mean() + 2e-3        # goes too far,
    assert np.ptp(heights[-1]) > 0.5 * (np.ptp(place(0)[:, 1]) + np.ptp(place(8)[:, 1]))     # and is drawn out by it


def test_lengths_that_follow_the_frames_are_at_rest_in_each(tmp_path):
    piece, meshes = moving_piece(tmp_path, role="solid", solid=SolidValues(cells=4, wobble_halves=0.03),
                                 reshape=ReshapeValues(follows=True))
    run = SceneRun(Scene(pieces=(piece,), run=RunSettings(last=40, quality="draft", ground=False, gravity=0.0)), meshes,
                   tmp_path / "bake", lambda: False)
    frames = list(run.frames(40))
    skin = run.layout.skins(frames[-1].skin)["m"]
    assert np.ptp(skin[:, 1]) == pytest.approx(np.ptp(place(8)[:, 1]), rel=0.02)
    assert np.ptp(skin[:, 0]) == pytest.approx(0.2, rel=0.02)
    assert skin[:, 1].mean() == pytest.approx(place(0)[:, 1].mean(), abs=1e-3)      # nothing draws it there


def test_it_comes_in_through_the_window_and_is_seen_where_it_is(show, tmp_path, monkeypatch):
    window = show(Document().scene)
    monkeypatch.setattr(window.pieces._dialogs, "to_open", lambda *_: numbered(tmp_path))
    window.menus.actions["Import a mesh that moves"].trigger()
    piece = window.bench.chosen
    assert piece.role == "collider" and piece.shape_moves
    monkeypatch.setattr(window.pieces._dialogs, "to_open", lambda *_: tmp_path / "none.obj")
    window.menus.actions["Import a mesh that moves"].trigger()
    assert "is not there" in sentence(window)
    pick(window.sheet.section("Role and feel").role, "Solid")
    assert window.bench.chosen.role == "solid"
