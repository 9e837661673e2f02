"""The link to the solver process: no misbehaviour of the process, in any state, wedges it or loses a run."""

import os
import pickle
import queue
import signal
import sys
import time
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest

from rubberquince.document.scene import ImportedShape, changed
from rubberquince.jobs import protocol as p
from rubberquince.jobs.link import MOST_RESTARTS, Link, LinkState
from rubberquince.shapes import primitives
from scenes import small_scene

FAKE = Path(__file__).with_name("fake_worker.py")
PATIENCE = 30.0
SCENE = small_scene()


class Hands:
    """A link to a fake worker of some habit, and what came of it."""

    def __init__(self, habit, patience=0.4, waking_patience=4.0):
        self.said = queue.Queue()
        self.link = Link(self.said.put, (sys.executable, str(FAKE), habit), patience, waking_patience)
        self.folder = Path(self.link._folder.name)
        self.ring = None

    def run(self, last=3, scene=SCENE, meshes=None):
        return self.link.run(scene, meshes or {}, self.folder / "frames", last)

    def until(self, kind, job):
        end, seen = time.monotonic() + PATIENCE, []
        while time.monotonic() < end:
            with suppress(queue.Empty):
                event = self.said.get(timeout=0.2)
                seen.append(event)
                if isinstance(event, p.Ready):
                    self.ring = self.link.ring(event)
                if isinstance(event, p.FrameDone) and self.ring:
                    self.ring.read(event.slot)
                if isinstance(event, kind) and event.job == job:
                    return event
        raise AssertionError(f"no {kind} of job {job}; the link is {self.link.state} after {seen}")

    def state(self, wanted):
        end = time.monotonic() + PATIENCE
        while self.link.state is not wanted:
            assert time.monotonic() < end, self.link.state
            time.sleep(0.01)

    def heard(self):
        commands = []
        with open(self.folder / "heard", "rb") as file, suppress(EOFError):
            while True:
                commands.append(pickle.load(file))
        return commands

    def starts(self):
        noted = self.folder / "starts"          # on a busy machine one may have been ended before it noted itself
        return len(noted.read_text()) if noted.exists() else 0


@pytest.fixture
def hands():
    made = []

    def make(habit="well", **patience):
        made.append(Hands(habit, **patience))
        return made[-1]

    yield make
    for one in made:
        began = time.monotonic()
        one.link.close()
        assert time.monotonic() - began < 8.0 and not one.folder.exists()


def ends(hands, job):
    """How a job ended; afterwards the link is where a run can be asked for."""
    return hands.until((p.Finished, p.Failed), job)


def test_a_run_is_done_and_the_next_waits_for_it(hands):
    well = hands()
    assert well.link.state is LinkState.ASLEEP
    first = well.run()
    assert ends(well, first) == p.Finished(first, False) and well.link.state is LinkState.IDLE
    long = well.run(10 ** 6)
    well.until(p.FrameDone, long)
    dropped, last = well.run(5), well.run(7)
    assert ends(well, dropped) == p.Finished(dropped, True)         # of those that wait, the last counts
    assert ends(well, long) == p.Finished(long, True)
    assert ends(well, last) == p.Finished(last, False)


@pytest.mark.parametrize("habit", ["die-waking", "sleep-waking", "babble-running"])
def test_a_process_that_keeps_failing_is_given_up_and_tried_again_when_asked(hands, habit):
    broken = hands(habit, waking_patience=2.0)
    for tries in (1,) if habit.startswith("sleep") else (1, 2):
        assert isinstance(ends(broken, broken.run()), p.Failed)
        broken.state(LinkState.DEAD)
        time.sleep(0.2)
        assert broken.starts() <= tries * (MOST_RESTARTS + 1)       # nor does it go on starting


@pytest.mark.parametrize("habit", ["die-waking:1", "sleep-waking:1", "babble-waking:1", "lie-waking", "die-idle:1",
                                   "lie-idle", "die-running:1", "lie-running", "babble-running:2", "sleep-idle:0"])
def test_what_misbehaves_for_a_while_does_not_lose_the_run(hands, habit):
    shaky = hands(habit)
    job = shaky.run(6)
    assert ends(shaky, job) == p.Finished(job, False)
    assert ends(shaky, shaky.run()).stopped is False


@pytest.mark.parametrize("habit", ["well", "sleep-stopping", "die-stopping", "babble-stopping", "lie-stopping",
                                   "sleep-running"])
def test_a_stop_always_stops_and_never_starts_the_run_again(hands, habit):
    stubborn = hands(habit)
    job = stubborn.run(10 ** 6)
    stubborn.until(p.FrameDone, job)
    began = time.monotonic()
    stubborn.link.stop()
    assert ends(stubborn, job) == p.Finished(job, True) and time.monotonic() - began < 5.0
    time.sleep(0.3)
    assert sum(isinstance(command, p.Run) for command in stubborn.heard()) == 1
    assert stubborn.said.empty()


def test_a_stop_while_it_wakes_forgets_the_run_at_once(hands):
    slow = hands("sleep-waking:1")
    job = slow.run()
    slow.link.stop()
    assert slow.said.get(timeout=0.1) == p.Finished(job, True)
    again = slow.run()
    assert ends(slow, again) == p.Finished(again, False)


def test_a_crash_goes_on_with_the_scene_it_had_last(hands):
    shaky = hands("die-running:1")
    job = shaky.run(10 ** 6)
    shaky.until(p.FrameDone, job)
    newer = changed(SCENE, "run.gravity", 3.0)
    shaky.link.change(newer)
    shaky.until(p.Crashed, job)
    shaky.until(p.FrameDone, job)
    shaky.link.stop()
    assert ends(shaky, job) == p.Finished(job, True)
    runs = [command for command in shaky.heard() if isinstance(command, p.Run)]
    assert [run.scene for run in runs] == [SCENE, SCENE] and [run.job for run in runs] == [job, job]


def test_only_the_last_change_is_sent_and_no_call_waits(hands):
    deaf = hands("sleep-running", patience=0.3)
    job = deaf.run(10 ** 6)
    deaf.until(p.FrameDone, job)
    began = time.monotonic()
    for gravity in range(2000):
        deaf.link.change(changed(SCENE, "run.gravity", gravity / 100))
    assert time.monotonic() - began < 2.0
    assert len(deaf.link._outbox) <= 1


def test_a_mesh_travels_once(hands):
    well, mesh = hands(), primitives.sphere(60, 30)
    shape = ImportedShape(name="own", mesh=mesh.key)
    scene = SCENE.with_piece(SCENE.piece("ball").model_copy(update={"shape": shape}))
    for _ in range(3):
        job = well.run(1, scene, {mesh.key: mesh, "other": mesh})
        ends(well, job)
    runs = [command for command in well.heard() if isinstance(command, p.Run)]
    assert [sorted(run.meshes) for run in runs] == [[mesh.key], [], []]
    os.kill(well.link.pid, signal.SIGKILL)              # another process has none of them
    job = well.run(1, scene, {mesh.key: mesh})
    ends(well, job)
    assert np.array_equal(well.heard()[-1].meshes[mesh.key].points, mesh.points)


def test_hammered_and_killed_at_random_it_always_comes_back(hands):
    well, rng = hands(), np.random.default_rng(11)
    for _ in range(120):
        match int(rng.integers(5)):
            case 0 | 1:
                well.run(int(rng.integers(1, 50)))
            case 2:
                well.link.stop()
            case 3 if well.link.pid:
                with suppress(ProcessLookupError):
                    os.kill(well.link.pid, signal.SIGKILL)
            case _:
                well.link.change(SCENE)
        time.sleep(float(rng.choice([0.0, 0.002, 0.05])))
    job = well.run(4)
    assert isinstance(ends(well, job), p.Finished | p.Failed)
    job = well.run(4)
    assert ends(well, job) == p.Finished(job, False)
