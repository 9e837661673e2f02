"""The same work without a window."""

import configparser
import os
import shlex
import subprocess
import sys
from xml.etree import ElementTree

import numpy as np
import pytest
from pxr import Usd, UsdGeom
from typer.testing import CliRunner

from rubberquince import __version__
from rubberquince.bake.run import SceneRun
from rubberquince.cli import app, frame_range
from rubberquince.desktop import install
from rubberquince.document.storage import load_scene, save_scene
from rubberquince.errors import ExportError, InstallError
from rubberquince.exchange.obj_in import read_obj
from scenes import small_scene


def quince(*words):
    """The command line as it is started; (code, output, errors)."""
    done = subprocess.run([sys.executable, "-m", "rubberquince.cli", *map(str, words)], capture_output=True, text=True)
    return done.returncode, done.stdout, done.stderr


def test_linear_algebra_adds_up_in_one_thread_so_that_bits_are_the_same_on_any_machine():
    look = "import rubberquince, numpy as np, os; x = np.ones(10**6); x @ x; print(len(os.listdir('/proc/self/task')))"
    done = subprocess.run([sys.executable, "-c", look], capture_output=True, text=True, check=True,
                          env={**os.environ, "OPENBLAS_NUM_THREADS": "2"})
    assert done.stdout.strip() == "1"


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


def test_a_bake_is_kept_beside_its_scene_and_gone_on_with(scene_file, tmp_path):
    assert quince("bake", scene_file, "--frames", "1-4", "--out", tmp_path / "a.usdc")[0] == 0
    (folder,) = (tmp_path / "scene.quince.bake").glob("*.frames")
    before = {file: file.stat().st_mtime_ns for file in folder.rglob("c.*")}
    assert len(before) == 8                                 # a skin and a state a frame
    code, out, err = quince("bake", scene_file, "--frames", "1-6", "--out", tmp_path / "b.usdc")
    assert code == 0 and "6 frames" in out, err
    after = {file: file.stat().st_mtime_ns for file in folder.rglob("c.*")}
    assert len(after) == 12 and all(after[file] == time for file, time in before.items())


@pytest.mark.parametrize("out, why", [("wobble.abc", "not a name for a run"), ("no folder/wobble.usdc", "is not there"),
                                      ("/dev/full/wobble.usdc", "is not there"), (".", "not a name")])
def test_what_cannot_be_written_is_said_before_anything_is_computed(scene_file, tmp_path, out, why):
    code, _, err = quince("bake", scene_file, "--out", tmp_path / out)
    assert code == 2 and why in err and err.count("\n") == 1
    assert not (tmp_path / "scene.quince.bake").exists()


def test_errors_are_one_sentence_on_stderr(scene_file, tmp_path):
    (tmp_path / "cut.quince").write_bytes(scene_file.read_bytes()[:200])
    for words in (("info", tmp_path / "cut.quince"),
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


def test_the_desktop_learns_of_the_program_and_forgets_it(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path))
    done = CliRunner().invoke(app, ["desktop"])
    assert done.exit_code == 0
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(tmp_path / "applications" / "rubberquince.desktop")
    fields = entry["Desktop Entry"]
    program = shlex.split(fields["Exec"])[0]
    assert os.access(program, os.X_OK) and fields["Exec"].endswith("%f")
    kind = ElementTree.parse(tmp_path / "mime" / "packages" / "rubberquince.xml").getroot()[0]
    assert kind.get("type") + ";" == fields["MimeType"] and kind.find("{*}glob").get("pattern") == "*.quince"
    assert (tmp_path / "icons" / "hicolor" / "scalable" / "apps" / f"{fields['Icon']}.svg").stat().st_size > 200
    assert CliRunner().invoke(app, ["desktop", "--remove"]).exit_code == 0
    assert [p for p in tmp_path.rglob("*") if p.is_file() and "rubberquince" in p.name] == []


def test_what_the_desktop_cannot_be_told_is_one_sentence(tmp_path, monkeypatch):
    (tmp_path / "applications").write_text("in the way")
    with pytest.raises(InstallError, match="could not be written"):
        install(tmp_path)


@pytest.mark.parametrize("name", ["frame.ply", "frame.stl", "frame.glb"])
def test_a_frame_is_written_in_every_format(scene_file, tmp_path, name):
    assert CliRunner().invoke(app, ["export", str(scene_file), "--out", str(tmp_path / name)]).exit_code == 0
    assert (tmp_path / name).stat().st_size > 1000
