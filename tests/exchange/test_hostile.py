"""Files from outside that are damaged, hostile or only unusual: read right, or refused in one sentence, soon."""

import json
import os
import struct
import time

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from rubberquince.errors import ShapeError
from rubberquince.exchange.frames import write_ply, write_stl
from rubberquince.exchange.glb import write_glb
from rubberquince.exchange.importing import import_mesh
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.triangles_in import read_ply, read_triangles
from rubberquince.exchange.usd_in import read_usd
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives

BLOCK = primitives.block((1, 1, 1))
TETRA = "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n"


def put(path, content):
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return path


def refused(read, path, match="."):
    with pytest.raises(ShapeError, match=match) as error:
        read(path)
    assert "\n" not in str(error.value) and str(error.value).endswith(".") and "module" not in str(error.value)


# --- OBJ --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("text", [
    "\ufeff" + TETRA, "# info, nan and inf in a comment\n" + TETRA, TETRA.replace("v 1 0 0", "v 1 \\\n0 0"),
    TETRA.replace("\n", "\r\n"), TETRA.replace("f 2 3 4", "f -3 -2 -1"), "\n" * 400_000 + TETRA,
    "mtllib none.mtl\nusemtl x\ns off\nl 1 2\n" + TETRA.replace("v 0 0 1", "v 0 0 1 1.0 # white")])
def test_unusual_but_valid_obj_is_read(tmp_path, text):
    began = time.monotonic()
    mesh = read_obj(put(tmp_path / "x.obj", text))
    assert np.array_equal(mesh.points, [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]]) and len(mesh.face_sizes) == 4
    assert time.monotonic() - began < 5.0


@pytest.mark.parametrize("text", [
    TETRA.replace("f 2 3 4", f"f 2 3 {2 ** 32 + 1}"), TETRA.replace("v 0 0 1", "v 0 0 abc"),
    TETRA.replace("v 0 0 1", "v 0 0 inf"), TETRA.replace("v 0 0 1", "v 0 0"), TETRA.replace("f 2 3 4", "f 2 3 0"),
    TETRA.replace("f 2 3 4", "f 2 3 9"), TETRA.replace("f 2 3 4", "f 2 3 -9"), TETRA.replace("f 2 3 4", "f 2 3 x"),
    "v 0 0 0\n", "", "\0" * 1000, TETRA.replace("v 0 0 1", "v 0 0 1e400"),
    TETRA + "f " + " ".join(str(1 + k % 4) for k in range(100_000))])
def test_what_is_wrong_with_an_obj_is_one_sentence(tmp_path, text):
    refused(read_obj, put(tmp_path / "x.obj", text))


# --- PLY, STL, OFF, GLB -----------------------------------------------------------------------------------

PLY = "ply\nformat {}\nelement vertex {}\nproperty float x\nproperty float y\nproperty float z\nelement face {}\n" \
      "property list uchar int vertex_indices\nend_header\n"
STL = "solid x\n" + "facet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\n{}endloop\nendfacet\n" * 2 + "{}"


def test_a_file_that_is_cut_short_is_never_taken_for_whole(tmp_path):
    pieces = [Exported("block", BLOCK, BLOCK.points)]
    for name, write, read in (("x.ply", write_ply, read_ply), ("x.stl", write_stl, read_triangles),
                              ("x.glb", lambda p, e: write_glb(p, e, []), read_triangles)):
        write(tmp_path / name, pieces)
        data = (tmp_path / name).read_bytes()
        assert len(read(tmp_path / name).face_sizes) >= 6
        for share in (0.3, 0.6, 0.9, 0.995):
            refused(read, put(tmp_path / f"cut.{name[2:]}", data[: int(len(data) * share)]))
    three = "0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
    refused(read_ply, put(tmp_path / "more.ply", PLY.format("ascii 1.0", 9, 1) + three), "cut")
    refused(read_ply, put(tmp_path / "huge.ply", "ply\nformat ascii 1.0\nelement vertex 999999999\nend_header"), "cut")
    refused(read_ply, put(tmp_path / "less.ply", PLY.format("ascii 1.0", -3, 1)))
    assert len(read_ply(put(tmp_path / "fine.ply", PLY.format("ascii 1.0", 3, 1) + three)).points) == 3


def test_facets_have_three_corners(tmp_path):
    fine = STL.format("vertex 0 1 0\n", "vertex 0 1 1\n", "endsolid x\n")
    assert len(read_triangles(put(tmp_path / "x.stl", fine)).face_sizes) == 2
    for two, end in (("", "endsolid\n"), ("vertex 0 1 0\nvertex 1 1 1\n", "endsolid\n"), ("vertex 0 1 0\n", "")):
        refused(read_triangles, put(tmp_path / "x.stl", STL.format(two, two, end)))


@pytest.mark.parametrize("name", ["x.stl", "x.off", "x.glb", "x.ply"])
def test_noise_has_no_reason_from_inside_the_program(tmp_path, name):
    rng = np.random.default_rng(3)
    for size in (0, 3, 90, 5000):
        path = put(tmp_path / name, rng.integers(0, 256, size, np.uint8).tobytes())
        refused(read_ply if name == "x.ply" else read_triangles, path)


def changed_glb(path, change):
    data = path.read_bytes()
    size = struct.unpack_from("<I", data, 12)[0]
    scene, binary = json.loads(data[20:20 + size]), bytearray(data[28 + size:])
    change(scene, binary)
    scene["buffers"][0]["byteLength"] = len(binary)
    text = json.dumps(scene).encode()
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    return put(path, head + struct.pack("<I4s", len(text), b"JSON") + text
               + struct.pack("<I4s", len(binary), b"BIN\0") + bytes(binary))


def test_sparse_accessors_of_a_glb_count(tmp_path):
    path = tmp_path / "x.glb"
    write_glb(path, [Exported("block", BLOCK, BLOCK.points)], [])
    before = read_triangles(path).points

    def move_first(scene, binary):
        place = scene["accessors"][scene["meshes"][0]["primitives"][0]["attributes"]["POSITION"]]
        at = len(binary)
        binary += struct.pack("<H2x3f", 0, 7.0, 8.0, 9.0)
        scene["bufferViews"] += [{"buffer": 0, "byteOffset": at, "byteLength": 2},
                                 {"buffer": 0, "byteOffset": at + 4, "byteLength": 12}]
        views = len(scene["bufferViews"])
        place["sparse"] = {"count": 1, "indices": {"bufferView": views - 2, "componentType": 5123},
                           "values": {"bufferView": views - 1}}

    moved = read_triangles(changed_glb(path, move_first)).points
    assert (moved == [7.0, 8.0, 9.0]).all(axis=1).sum() == 1 and (before != [7.0, 8.0, 9.0]).all()
    refused(read_triangles, changed_glb(path, lambda scene, _: scene["accessors"][0].update(count=-5)))
    refused(read_triangles, changed_glb(path, lambda scene, _: scene["accessors"][0].update(count=10 ** 9)))


@pytest.mark.parametrize("suffix", [".glb", ".usda"])
def test_six_metres_stay_six_metres_where_the_format_says_metres(tmp_path, suffix):
    if suffix == ".glb":
        write_glb(tmp_path / "x.glb", [Exported("block", BLOCK, 6.0 * BLOCK.points)], [])
    else:
        stage_of(tmp_path / "x.usda", 6.0).Save()
    assert np.allclose(import_mesh(tmp_path / f"x{suffix}").size, 6.0)


# --- USD --------------------------------------------------------------------------------------------------


def stage_of(path, size=1.0):
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    mesh = UsdGeom.Mesh.Define(stage, "/Thing/Mesh")
    mesh.CreatePointsAttr(size * BLOCK.points)
    mesh.CreateFaceVertexCountsAttr(BLOCK.face_sizes.tolist())
    mesh.CreateFaceVertexIndicesAttr(BLOCK.face_points.tolist())
    stage.SetDefaultPrim(stage.GetPrimAtPath("/Thing"))
    return stage


def test_instances_are_read_like_the_rest(tmp_path):
    stage_of(tmp_path / "thing.usda").Save()
    stage = Usd.Stage.CreateNew(str(tmp_path / "both.usda"))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    for k in range(2):
        prim = UsdGeom.Xform.Define(stage, f"/Copy{k}")
        prim.AddTranslateOp().Set((3.0 * k, 0.0, 0.0))
        prim.GetPrim().GetReferences().AddReference("thing.usda")
        prim.GetPrim().SetInstanceable(True)
    stage.Save()
    mesh, left_out = read_usd(tmp_path / "both.usda")
    assert len(mesh.points) == 2 * len(BLOCK.points) and np.ptp(mesh.points[:, 0]) == pytest.approx(4.0)
    assert left_out == ""


def test_what_lies_outside_the_folder_is_left_out_and_said(tmp_path):
    (tmp_path / "home").mkdir()
    stage_of(tmp_path / "secret.usda").Save()
    stage_of(tmp_path / "home" / "x.usda", 2.0).Save()
    os.mkfifo(tmp_path / "home" / "pipe.usda")
    with open(tmp_path / "home" / "x.usda", "a") as file:       # as text: USD itself would wait for the pipe
        for name, how in (("Other", "references = @../secret.usda@"), ("Deep", "references = @near.usda@"),
                          ("Pipe", "payload = @pipe.usda@")):
            file.write(f'def "{name}" (\n    {how}\n)\n{{\n}}\n')
    near = stage_of(tmp_path / "home" / "near.usda")
    near.GetRootLayer().subLayerPaths.append(str(tmp_path / "secret.usda"))
    near.Save()
    began = time.monotonic()
    imported = import_mesh(tmp_path / "home" / "x.usda")
    assert time.monotonic() - began < 15.0
    assert "left out" in imported.notes[0] and "secret.usda" in imported.notes[0] and "pipe.usda" in imported.notes[0]
    assert len(imported.mesh.points) == 2 * len(BLOCK.points)       # its own and the near one's
    assert "secret.usda" in (tmp_path / "home" / "x.usda").read_text()          # the file itself is as it was


def test_pipes_and_folders_are_no_meshes(tmp_path):
    os.mkfifo(tmp_path / "x.obj")
    (tmp_path / "y.obj").mkdir()
    for name in ("x.obj", "y.obj", "z.obj"):
        refused(import_mesh, tmp_path / name, "not there")
