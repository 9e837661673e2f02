"""The solver process: runs, changes, stops, faults, and its own end."""

import os
import queue
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from rubberquince.bake.cache import MIXED, FrameCache
from rubberquince.bake.keys import run_key
from rubberquince.bake.run import SceneRun
from rubberquince.document.scene import Piece, Scene, changed
from rubberquince.jobs import protocol as p
from rubberquince.jobs.link import Link
from rubberquince.jobs.ring import SLOTS, Ring
from scenes import ball, small_scene

PATIENCE = 60.0


class Hands:
    """A solver process and what it said."""

    def __init__(self):
        self.said = queue.Queue()
        self.process = Link(self.said.put)
        self.ring = None
        self.skins = {}

    def until(self, kind, job=None):
        """Take events, frames out of the ring included, until one of a kind."""
        end = time.monotonic() + PATIENCE
        seen = []
        while time.monotonic() < end:
            event = self.said.get(timeout=PATIENCE)
            seen.append(event)
            if isinstance(event, p.Ready):
                self.ring = self.process.ring(event)
            if isinstance(event, p.FrameDone):
                self.skins[event.number] = self.ring.read(event.slot)
            if isinstance(event, kind) and job in (None, event.job):
                return event
        raise AssertionError(f"no {kind.__name__} after {seen}")


@pytest.fixture
def link():
    made = Hands()
    yield made
    made.process.close()


def test_frames_come_through_the_ring_as_they_are_on_disk(link, tmp_path):
    scene = small_scene(last=20)                        # more frames than the ring has slots
    job = link.process.run(scene, {}, tmp_path / "c", 20)
    assert link.until(p.Finished, job).stopped is False
    cache = FrameCache.reader(tmp_path / "c")
    assert sorted(link.skins) == list(range(1, 21))
    assert all(np.array_equal(link.skins[k], cache.skin(k)) for k in link.skins)
    here = list(SceneRun(scene, {}, tmp_path / "here", lambda: False).frames(20))
    assert np.array_equal(here[-1].skin, cache.skin(20))


def test_stop_is_quick_and_the_frames_stay(link, tmp_path):
    scene = small_scene(last=5000, quality="sure", cells=6)
    job = link.process.run(scene, {}, tmp_path / "c", 5000)
    frame = link.until(p.FrameDone)
    while frame.number < 4:
        frame = link.until(p.FrameDone)
    link.process.stop()
    assert link.until(p.Finished, job).stopped is True
    assert FrameCache.reader(tmp_path / "c").last_good(1, run_key(scene)) >= 4
    again = link.process.run(scene, {}, tmp_path / "c", 6)
    assert link.until(p.Finished, again).stopped is False


def test_a_value_changes_the_running_arrays(link, tmp_path):
    scene = small_scene(last=400)
    job = link.process.run(scene, {}, tmp_path / "c", 400)
    link.until(p.FrameDone)
    link.process.change(scene.with_piece(changed(scene.piece("ball"), "solid.stiffness", 700.0)))
    stamps = []
    while len(stamps) < 60 or MIXED not in stamps:
        stamps.append(link.until(p.FrameDone).stamp)
    link.process.stop()
    link.until(p.Finished, job)
    assert stamps[-1] == MIXED


def test_a_scene_that_cannot_run_is_one_sentence_and_the_next_one_runs(link, tmp_path):
    lost = Piece(id="own", name="My shape", shape={"kind": "imported", "name": "x.obj", "mesh": "0" * 32})
    failed = link.process.run(Scene(pieces=(lost,)), {}, tmp_path / "a", 3)
    assert "My shape" in link.until(p.Failed, failed).sentence
    big = Scene(pieces=(changed(ball(cells=60), "place.size", (1e-3, 1e3, 1e3)),))
    failed = link.process.run(big, {}, tmp_path / "b", 3)
    assert "make them larger" in link.until(p.Failed, failed).sentence
    fine = link.process.run(small_scene(), {}, tmp_path / "c", 3)
    assert link.until(p.Finished, fine).stopped is False


def test_a_killed_process_is_started_again(link, tmp_path):
    link.process.run(small_scene(last=3000), {}, tmp_path / "c", 3000)
    link.until(p.FrameDone)
    before = link.process.pid
    os.kill(before, signal.SIGKILL)
    link.until(p.Crashed)
    link.until(p.FrameDone)
    assert link.process.pid != before
    job = link.process.run(small_scene(last=8), {}, tmp_path / "d", 8)
    assert link.until(p.Finished, job).stopped is False


def test_filling_with_cells_is_stopped_and_a_long_frame_tells_how_far_it_is(link, tmp_path):
    slab = changed(changed(ball(cells=10), "place.size", (0.5, 0.03, 0.5)), "place.position", (0, 1, 0))
    job = link.process.run(Scene(pieces=(slab,)), {}, tmp_path / "a", 5)
    assert link.until(p.Preparing, job).sentence == "Filling the solids with cells"
    time.sleep(0.3)
    began = time.monotonic()
    link.process.stop()
    assert link.until(p.Finished, job).stopped and time.monotonic() - began < 5.0
    slow = changed(small_scene(quality="sure", cells=8), "run.fps", 1.0)
    job = link.process.run(slow, {}, tmp_path / "b", 5)
    link.until(p.FrameDone, job)
    shares = set()
    while len(shares) < 4:
        shares.add(link.process.frame_share())
        time.sleep(0.005)
    assert 0.0 <= min(shares) < max(shares) < 1.0
    link.process.stop()
    assert link.until(p.Finished, job).stopped


def test_a_worker_whose_window_was_killed_ends_and_clears_away(tmp_path):
    code = ("import sys, time, pathlib; sys.path.insert(0, sys.argv[1]); from scenes import small_scene;"
            "from rubberquince.jobs.link import Link; link = Link(lambda event: None);"
            "link.run(small_scene(last=3000), {}, pathlib.Path(sys.argv[2]), 3000)\n"
            "while not link.pid or not list(pathlib.Path(link._folder.name).glob('ring*')): time.sleep(0.05)\n"
            "print(link.pid, link._folder.name, flush=True); time.sleep(1000)")
    window = subprocess.Popen([sys.executable, "-c", code, str(Path(__file__).parents[1]), str(tmp_path / "c")],
                              stdout=subprocess.PIPE, text=True)
    pid, folder = window.stdout.readline().split()
    time.sleep(0.5)                                     # the ring is full: nobody reads it
    window.kill()
    window.wait()
    window.stdout.close()
    end = time.monotonic() + PATIENCE
    while Path(folder).exists() or Path(f"/proc/{pid}").exists():
        assert time.monotonic() < end
        time.sleep(0.05)


def test_of_the_files_that_carry_frames_only_the_last_stays(link, tmp_path):
    for last in (2, 4, 6):
        job = link.process.run(small_scene(), {}, tmp_path / "c", last)
        link.until(p.Finished, job)
    assert len(list(Path(link.process._folder.name).glob("ring*"))) == 1


def test_a_full_ring_waits_for_its_reader(tmp_path):
    ring, reader = Ring(tmp_path / "r", 4, create=True), Ring(tmp_path / "r", 4, create=False)
    for k in range(SLOTS):
        assert ring.write(np.full((4, 3), k, np.float32), lambda: True) == k
    assert ring.write(np.zeros((4, 3), np.float32), lambda: True) is None
    assert (reader.read(0) == 0).all()
    assert ring.write(np.full((4, 3), 9.0, np.float32), lambda: True) == 0
