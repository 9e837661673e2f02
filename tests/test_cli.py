"""The same work without a window."""

import subprocess
import sys

import numpy as np
import pytest
from pxr import Usd, UsdGeom
from typer.testing import CliRunner

from rubberquince import __version__
from rubberquince.bake.run import SceneRun
from rubberquince.cli import app, frame_range
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.errors import ExportError
from rubberquince.exchange.reader import read_obj
from scenes import small_scene


def quince(*words):
    """The command line as it is started; (code, output, errors)."""
    done = subprocess.run([sys.executable, "-m", "rubberquince.cli", *map(str, words)], capture_output=True, text=True)
    return done.returncode, done.stdout, done.stderr


@pytest.fixture
def scene_file(tmp_path):
    save_scene(tmp_path / "scene.quince", small_scene(), {})
    return tmp_path / "scene.quince"


def test_a_scene_is_baked_to_usd(scene_file, tmp_path):
    code, out, err = quince("bake", scene_file, "--frames", "1-6", "--out", tmp_path / "wobble.usdc")
    assert code == 0, err
    assert "6 frames" in out and "frame 6 of 6" in err
    stage = Usd.Stage.Open(str(tmp_path / "wobble.usdc"))
    points = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Ball")).GetPointsAttr()
    assert points.GetTimeSamples() == [1, 2, 3, 4, 5, 6]
    here = list(SceneRun(small_scene(), {}, tmp_path / "c", lambda: False).frames(6))
    assert np.array_equal(np.array(points.Get(6)), here[-1].skin)


def test_errors_are_one_sentence_on_stderr(scene_file, tmp_path):
    (tmp_path / "cut.quince").write_bytes(scene_file.read_bytes()[:200])
    for words in (("info", tmp_path / "cut.quince"), ("info", tmp_path / "gone.quince"),
                  ("bake", scene_file, "--frames", "9-2", "--out", tmp_path / "x.usdc"),
                  ("bake", scene_file, "--quality", "superb", "--out", tmp_path / "x.usdc")):
        code, _, err = quince(*words)
        assert code == 2 and err.count("\n") == 1 and "Traceback" not in err


def test_export_info_demo_and_version(scene_file, tmp_path):
    run = CliRunner()
    assert "1 vertices" not in run.invoke(app, ["info", str(scene_file)]).output
    assert "Ball: solid, 8 x 8 x 8 cm" in run.invoke(app, ["info", str(scene_file)]).output
    assert run.invoke(app, ["export", str(scene_file), "--out", str(tmp_path / "p.obj")]).exit_code == 0
    assert read_obj(tmp_path / "p.obj").points[:, 1].max() == pytest.approx(0.13, abs=1e-3)
    assert run.invoke(app, ["export", str(scene_file), "--frame", "4", "--out", str(tmp_path / "p.obj")]).exit_code == 0
    assert read_obj(tmp_path / "p.obj").points[:, 1].max() < 0.1
    run.invoke(app, ["demo", str(tmp_path / "demo.quince")])
    assert load_scene(tmp_path / "demo.quince")[0].piece("pudding").name == "Pudding"
    assert run.invoke(app, ["--version"]).output.strip() == __version__


@pytest.mark.parametrize("text", ["x", "3-1", "-4", "0-5", "1-999999999"])
def test_ranges_that_make_no_sense(text):
    with pytest.raises(ExportError):
        frame_range(text, small_scene())
