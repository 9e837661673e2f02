"""Meshes in and out: OBJ read in a guarded process, OBJ and USD written and read back."""

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom

from rubberquince.errors import ExportError, ShapeError
from rubberquince.exchange.frames import write_obj
from rubberquince.exchange.importing import import_mesh
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.usd import write_usd
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh, is_closed, volume

QUADS = """# a crate of two groups, one corner shared by texture only
o crate
v 0 0 0\nv 2 0 0\nv 2 1 0\nv 0 1 0\nv 0 0 3\nv 2 0 3\nv 2 1 3\nv 0 1 3\nv 9 9 9
vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1
g bottom
f 1/1 4/2 3/3 2/4
g rest
f 5/1 6/2 7/3 8/4
f 1/1 2/2 6/3 5/4
f 3/1 4/2 8/3 7/4
f 2/1 3/2 7/3 6/4
f -9/1 -5/2 -2/3 -6/4
"""


@pytest.fixture
def crate(tmp_path):
    path = tmp_path / "crate.obj"
    path.write_text(QUADS)
    return path


def test_polygons_and_texture_survive_the_reader(crate):
    mesh = read_obj(crate)
    assert mesh.face_sizes.tolist() == [4] * 6
    assert len(mesh.points) == 8                    # the point without a face is left out
    assert np.array_equal(mesh.uvs[mesh.face_uvs[:4]], [[0, 0], [1, 0], [1, 1], [0, 1]])
    assert volume(mesh.points, mesh.triangles) == pytest.approx(6.0)


def test_import_gives_the_unit_box_and_the_real_size(crate):
    imported = import_mesh(crate)
    assert np.allclose(imported.size, [2, 1, 3]) and np.allclose(imported.centre, [1, 0.5, 1.5])
    assert np.allclose(imported.mesh.points.min(axis=0), -0.5) and np.allclose(imported.mesh.points.max(axis=0), 0.5)
    assert imported.notes == ()


def test_inward_faces_are_turned_and_centimetres_noticed(tmp_path):
    mesh = primitives.sphere(12, 6)
    flipped = PolyMesh(mesh.points * 12, np.full(len(mesh.triangles), 3, np.int32),
                       mesh.triangles[:, ::-1].reshape(-1))
    write_obj(tmp_path / "inside out.obj", [Exported("ball", flipped, flipped.points)])
    imported = import_mesh(tmp_path / "inside out.obj")
    assert volume(imported.mesh.points, imported.mesh.triangles) > 0
    assert np.allclose(imported.size, 0.12, atol=0.01)
    assert any("turned" in note for note in imported.notes) and any("centimetres" in n for n in imported.notes)


@pytest.mark.parametrize("text", ["", "v 0 0 0\nv 1 0 0\nv 0 1 0\n", "f 1 2 3\n", "v a b c\nf 1 1 1\n",
                                  "v 0 0 0\nv 1 0 0\nv 0 nan 0\nf 1 2 3\n", "v 0 0 0\nv 1 0 0\nf 1 2\n",
                                  "v 0 0 0\nv 1e30 0 0\nv 0 1 0\nf 1 2 3\n", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 77\n",
                                  "\x00\x01\x02\xff" * 50],
                         ids=["empty", "no faces", "no points", "words", "nan", "two corners", "far", "index", "bytes"])
def test_bad_meshes_are_one_sentence(tmp_path, text):
    path = tmp_path / "bad.obj"
    path.write_bytes(text.encode("latin-1"))
    with pytest.raises(ShapeError) as caught:
        import_mesh(path)
    assert "\n" not in str(caught.value) and str(caught.value).endswith(".")


def test_files_that_are_not_there_or_not_meshes(tmp_path):
    with pytest.raises(ShapeError, match="is not there"):
        import_mesh(tmp_path / "gone.obj")
    with pytest.raises(ShapeError, match="not a mesh this program reads"):
        import_mesh(tmp_path / "song.mp3")


@settings(max_examples=25, deadline=None)
@given(st.binary(max_size=400), st.integers(0, len(QUADS) - 1))
def test_scribbled_files_never_crash_the_reader(tmp_path_factory, scribble, at):
    path = tmp_path_factory.mktemp("fuzz") / "fuzz.obj"
    path.write_bytes(QUADS[:at].encode() + scribble + QUADS[at:].encode())
    try:
        mesh = read_obj(path)
    except ShapeError:
        return
    assert np.isfinite(mesh.points).all() and mesh.face_points.max() < len(mesh.points)


def test_obj_out_reads_back_with_polygons(tmp_path, crate):
    mesh = read_obj(crate)
    write_obj(tmp_path / "out.obj", [Exported("Crate no. 1", mesh, mesh.points + 0.1),
                                     Exported("Crate no. 2", mesh, mesh.points + 5.0)])
    back = read_obj(tmp_path / "out.obj")
    assert back.face_sizes.tolist() == [4] * 12 and len(back.points) == 16
    assert np.allclose(back.points[:8], mesh.points + 0.1) and np.allclose(back.points[8:], mesh.points + 5.0)
    assert np.array_equal(back.uvs[back.face_uvs[:24]], mesh.uvs[mesh.face_uvs])
    assert "o Crate_no_1" in (tmp_path / "out.obj").read_text()


@pytest.mark.parametrize("suffix", [".usdc", ".usda"])
def test_usd_holds_every_frame_bit_for_bit(tmp_path, crate, suffix):
    mesh = read_obj(crate)
    frames = {n: (mesh.points + 0.01 * n).astype(np.float32) for n in (3, 4, 5)}
    path = tmp_path / f"run{suffix}"
    still = Exported("Plate", primitives.block((1, 1, 1)), primitives.block((1, 1, 1)).points)
    count = write_usd(path, [still], [Exported("Pudding", mesh, mesh.points)], 25.0,
                      ((n, [p]) for n, p in frames.items()))
    stage = Usd.Stage.Open(str(path))
    assert count == 3 and (stage.GetStartTimeCode(), stage.GetEndTimeCode()) == (3, 5)
    assert stage.GetFramesPerSecond() == 25 and UsdGeom.GetStageMetersPerUnit(stage) == 1
    assert UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.y
    moved = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Pudding"))
    for number, points in frames.items():
        assert np.array_equal(np.array(moved.GetPointsAttr().Get(number)), points)
        assert np.allclose(moved.GetExtentAttr().Get(number), [points.min(axis=0), points.max(axis=0)])
    assert list(moved.GetFaceVertexCountsAttr().Get()) == [4] * 6
    assert UsdGeom.PrimvarsAPI(moved).GetPrimvar("st").ComputeFlattened()[0] == (0, 0)
    assert not UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Plate")).GetPointsAttr().ValueMightBeTimeVarying()


def test_writing_where_one_cannot_is_one_sentence(tmp_path):
    mesh = primitives.block((1, 1, 1))
    nowhere = tmp_path / "no such folder"
    with pytest.raises(ExportError, match="Could not write"):
        write_obj(nowhere / "x.obj", [Exported("a", mesh, mesh.points)])
    (tmp_path / "file").write_text("")
    with pytest.raises(ExportError, match="Could not write"):
        write_usd(tmp_path / "file" / "x.usdc", [], [Exported("a", mesh, mesh.points)], 24.0, [])


def test_reading_can_be_stopped(crate):
    with pytest.raises(ShapeError, match="was stopped; the scene is as it was"):
        import_mesh(crate, stopped=lambda: True)


@pytest.mark.parametrize("suffix", [".ply", ".stl", ".off", ".glb"])
def test_triangle_formats_are_read_and_mended(tmp_path, suffix):
    mesh = primitives.torus(24, 12, 0.5)
    path = tmp_path / f"ring{suffix}"
    trimesh.Trimesh(mesh.points * [0.3, 0.1, 0.3], mesh.triangles, process=False).export(path)
    imported = import_mesh(path)
    assert np.allclose(imported.size, mesh.bounds()[1] * [0.6, 0.2, 0.6], atol=1e-4)
    assert is_closed(imported.mesh.triangles) and len(imported.mesh.points) == len(mesh.points)
    assert bool(imported.notes) == (suffix == ".stl")       # which repeats every point
    path.write_bytes(path.read_bytes()[:-len(path.read_bytes()) // 3])
    try:
        import_mesh(path)
    except ShapeError as error:
        assert "\n" not in str(error) and str(error).endswith(".")


def test_what_was_handed_over_as_usd_can_be_imported_again(tmp_path, crate):
    mesh = read_obj(crate)
    write_usd(tmp_path / "crate.usdc", [], [Exported("Crate", mesh, mesh.points)], 24.0, [(1, [mesh.points + 1.0])])
    imported = import_mesh(tmp_path / "crate.usdc")
    assert imported.mesh.face_sizes.tolist() == [4] * 6 and np.allclose(imported.centre, [2, 1.5, 2.5])
    (tmp_path / "bad.usdc").write_bytes((tmp_path / "crate.usdc").read_bytes()[:300])
    with pytest.raises(ShapeError, match="cannot be read as USD"):
        import_mesh(tmp_path / "bad.usdc")


def test_a_usd_in_centimetres_with_z_up_is_set_upright(tmp_path):
    stage = Usd.Stage.CreateNew(str(tmp_path / "up.usda"))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    box = primitives.block((1, 1, 1))
    mesh = UsdGeom.Mesh.Define(stage, "/box")
    mesh.CreatePointsAttr([tuple(map(float, p)) for p in box.points * [10, 20, 40]])
    mesh.CreateFaceVertexCountsAttr(box.face_sizes.tolist())
    mesh.CreateFaceVertexIndicesAttr(box.face_points.tolist())
    stage.Save()
    assert np.allclose(import_mesh(tmp_path / "up.usda").size, [0.1, 0.4, 0.2])
