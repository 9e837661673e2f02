"""What is handed over, read back: frames as PLY, STL and GLB, runs as morph targets, and what checkers say."""

import json
import shutil
import struct
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import trimesh
from pxr import Usd, UsdGeom, UsdValidation

from rubberquince.exchange.frames import write_obj, write_ply, write_stl
from rubberquince.exchange.glb import write_glb
from rubberquince.exchange.importing import import_mesh
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.triangles_in import read_ply, read_triangles
from rubberquince.exchange.usd import write_usd
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives

BALL, BLOCK = primitives.sphere(16, 8), primitives.block((2, 3, 2))
PIECES = [Exported("Rüben ball", BALL, BALL.points), Exported("Block", BLOCK, BLOCK.points + np.array([2.0, 0, 0]))]
FRAMES = [(n, [BALL.points * (1 + 0.05 * n)]) for n in (3, 4, 5)]
VALIDATOR = Path(sys.prefix) / "node_modules" / "gltf-validator"
VALIDATE = """
const fs = require('fs'), validator = require(process.argv[1]);
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[2])))
    .then(report => console.log(JSON.stringify(report.issues)));
"""


def parts_of(path):
    """The JSON of a GLB file, and a function that gives an accessor's values."""
    data = path.read_bytes()
    length = struct.unpack("<I", data[12:16])[0]
    scene, binary = json.loads(data[20:20 + length]), data[28 + length:]

    def values(number):
        accessor = scene["accessors"][number]
        start = scene["bufferViews"][accessor["bufferView"]]["byteOffset"]
        width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3}[accessor["type"]]
        kind = "<f4" if accessor["componentType"] == 5126 else "<u4"
        return np.frombuffer(binary, kind, accessor["count"] * width, start).reshape(-1, width)

    return scene, values


def test_ply_keeps_polygons_normals_and_texture(tmp_path):
    write_ply(tmp_path / "both.ply", PIECES)
    mesh = read_ply(tmp_path / "both.ply")
    assert sorted(set(mesh.face_sizes.tolist())) == sorted({*BALL.face_sizes.tolist(), 4})
    assert len(mesh.face_sizes) == len(BALL.face_sizes) + len(BLOCK.face_sizes) and len(mesh.uvs)
    imported = import_mesh(tmp_path / "both.ply")                     # a vertex for each normal becomes one again
    assert len(imported.mesh.points) == len(BALL.points) + len(BLOCK.points)
    write_ply(tmp_path / "block.ply", PIECES[1:])
    normals = trimesh.load(tmp_path / "block.ply", process=False).vertex_normals
    np.testing.assert_allclose(np.abs(normals).max(axis=1), 1.0)      # those of a block's sides


def test_stl_holds_all_triangles(tmp_path):
    write_stl(tmp_path / "both.stl", PIECES)
    mesh = read_triangles(tmp_path / "both.stl")
    assert len(mesh.face_sizes) == len(BALL.triangles) + len(BLOCK.triangles)
    np.testing.assert_allclose(mesh.points.max(axis=0), [2.5, 0.5, 0.5], atol=1e-6)


def test_obj_has_normals_that_belong_to_their_corners(tmp_path):
    write_obj(tmp_path / "block.obj", PIECES[1:])
    lines = (tmp_path / "block.obj").read_text().splitlines()
    normals = np.array([line.split()[1:] for line in lines if line.startswith("vn")], float)
    points = np.array([line.split()[1:] for line in lines if line.startswith("v ")], float) - [2.0, 0.0, 0.0]
    for line in lines:
        for corner in line.split()[1:] if line.startswith("f") else ():
            point, _, normal = (int(n) for n in corner.split("/"))
            assert points[point - 1] @ normals[normal - 1] == pytest.approx(0.5)      # it looks out of its side
    assert len(read_obj(tmp_path / "block.obj").points) == len(BLOCK.points)


def test_a_run_as_morph_targets_is_the_run(tmp_path):
    path = tmp_path / "run.glb"
    assert write_glb(path, PIECES[1:], PIECES[:1], 25.0, FRAMES) == 3
    scene, values = parts_of(path)
    primitive = scene["meshes"][0]["primitives"][0]
    base, targets = values(primitive["attributes"]["POSITION"]), primitive["targets"]
    times = values(scene["animations"][0]["samplers"][0]["input"]).reshape(-1)
    weights = values(scene["animations"][0]["samplers"][0]["output"]).reshape(len(times), len(targets))
    np.testing.assert_allclose(times, [0.0, 0.04, 0.08], atol=1e-7)
    for weight, (number, (points,)) in zip(weights, FRAMES):
        shown = base + sum(w * values(t["POSITION"]) for w, t in zip(weight, targets))
        reach = np.linalg.norm(shown, axis=1)
        np.testing.assert_allclose(np.sort(np.unique(np.round(reach, 5))),
                                   np.sort(np.unique(np.round(np.linalg.norm(points, axis=1), 5))), atol=2e-5)
        turned = sum(w * values(t["NORMAL"]) for w, t in zip(weight, targets))
        normals = values(primitive["attributes"]["NORMAL"]) + turned
        np.testing.assert_allclose(np.linalg.norm(normals, axis=1), 1.0, atol=1e-5)
        assert number in (3, 4, 5)
    assert scene["nodes"][0]["name"] == "Rüben ball" and "targets" not in scene["meshes"][1]["primitives"][0]


def test_a_frame_as_glb_is_read_back(tmp_path):
    write_glb(tmp_path / "frame.glb", PIECES, [])
    mesh = import_mesh(tmp_path / "frame.glb").mesh
    assert len(mesh.points) == len(BALL.points) + len(BLOCK.points)
    assert len(mesh.face_sizes) == len(BALL.triangles) + len(BLOCK.triangles)


def test_the_checker_of_gltf_finds_no_errors(tmp_path):
    if not shutil.which("node") or not VALIDATOR.exists():
        pytest.skip("node or its gltf-validator is not installed here")
    write_glb(tmp_path / "run.glb", PIECES[1:], PIECES[:1], 24.0, FRAMES)
    write_glb(tmp_path / "frame.glb", PIECES, [])
    for name in ("run.glb", "frame.glb"):
        said = subprocess.run(["node", "-e", VALIDATE, str(VALIDATOR), str(tmp_path / name)], check=True,
                              capture_output=True, text=True, timeout=60).stdout
        issues = json.loads(said)
        assert issues["numErrors"] == 0 and issues["numWarnings"] == 0, said


@pytest.mark.parametrize("suffix", [".usdc", ".usda"])
def test_the_checker_of_usd_finds_no_errors(tmp_path, suffix):
    path = tmp_path / f"run{suffix}"
    write_usd(path, PIECES[1:], PIECES[:1], 24.0, FRAMES)
    validators = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
    stage = Usd.Stage.Open(str(path))
    assert UsdValidation.ValidationContext(validators).Validate(stage) == [] and len(validators) > 20
    block = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Block"))
    assert block.GetNormalsInterpolation() == "faceVarying"
    assert len(block.GetNormalsAttr().Get()) == len(BLOCK.face_points)
    ball = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/R_ben_ball"))
    np.testing.assert_allclose(np.linalg.norm(np.array(ball.GetNormalsAttr().Get(4)), axis=1), 1.0, atol=1e-6)
    assert ball.GetNormalsInterpolation() == "vertex" and len(ball.GetNormalsAttr().GetTimeSamples()) == 3
