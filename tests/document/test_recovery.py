"""Copies of unsaved scenes outlive their process."""

import os
import subprocess
import sys

import pytest

from rubberquince.document.recovery import Keeper, left_behind
from rubberquince.document.storage import load_scene
from rubberquince.errors import SceneError
from scenes import small_scene

KEEP = """
import sys
from pathlib import Path
sys.path.insert(0, sys.argv[2])
from scenes import small_scene
from rubberquince.document.recovery import Keeper
Keeper(Path(sys.argv[1])).keep(small_scene(), {}, Path("/fair/stall.quince"))
"""


def test_a_copy_of_a_process_that_is_gone_is_found(tmp_path):
    subprocess.run([sys.executable, "-c", KEEP, str(tmp_path), os.path.dirname(__file__) + "/.."], check=True)
    (left,) = left_behind(tmp_path)
    assert left.name == "stall.quince" and load_scene(left.file)[0] == small_scene()
    left.discard()
    assert left_behind(tmp_path) == [] and not list(tmp_path.iterdir())


def test_our_own_copy_is_not_left_behind_and_can_be_dropped(tmp_path):
    keeper = Keeper(tmp_path / "unsaved")
    keeper.keep(small_scene(), {}, None)
    assert left_behind(tmp_path / "unsaved") == [] and len(list((tmp_path / "unsaved").glob("*.quince"))) == 1
    keeper.drop()
    assert not list((tmp_path / "unsaved").iterdir())


def test_a_copy_is_found_whoever_has_the_number_of_its_process_now(tmp_path):
    """Numbers of processes are used again, after a reboot the low ones at once."""
    subprocess.run([sys.executable, "-c", KEEP, str(tmp_path), os.path.dirname(__file__) + "/.."], check=True)
    for file in list(tmp_path.iterdir()):
        file.rename(file.with_name(f"{os.getpid()}{file.suffix}"))
    assert [left.file.stem for left in left_behind(tmp_path)] == [str(os.getpid())]


def test_a_damaged_note_brings_the_scene_back_unnamed(tmp_path):
    subprocess.run([sys.executable, "-c", KEEP, str(tmp_path), os.path.dirname(__file__) + "/.."], check=True)
    next(tmp_path.glob("*.json")).write_text("[")
    (left,) = left_behind(tmp_path)
    assert left.of is None and left.name == "an unnamed scene"


def test_where_no_copy_can_be_kept_it_is_said(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(SceneError, match="Could not save"):
        Keeper(tmp_path / "file").keep(small_scene(), {}, None)
