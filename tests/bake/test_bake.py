"""Frames on disk, runs that go on where they were left, keys, and handing over."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from bodies import crossings
from rubberquince.bake import export
from rubberquince.bake.assemble import assemble, run_key, topology_key
from rubberquince.bake.cache import ABSENT, MIXED, READINGS, CacheWriter, FrameCache
from rubberquince.bake.checks import checks_of
from rubberquince.bake.run import SceneRun
from rubberquince.bake.store import MOST_RUNS, FrameStore, folder_of, fresh_folder
from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import piece_points
from rubberquince.document.scene import Piece, Place, Scene, changed
from rubberquince.document.storage import save_scene
from rubberquince.errors import ExportError, RunError
from rubberquince.exchange.reader import READERS, read_obj
from rubberquince.jobs.exporting import RunOrder, export_apart
from rubberquince.solver.stepper import Stepper
from scenes import ball, slab, small_scene

LAYOUT = {"points": 5, "state": 7, "solids": 1}


def write(cache, frame, stamp=7):
    rng = np.random.default_rng(frame)
    cache.write(frame, stamp, rng.normal(size=(5, 3)), rng.normal(size=7), rng.normal(size=(1, len(READINGS))),
                np.zeros(2))


def states(cache, first, last):
    return [cache.state(k).tobytes() for k in range(first, last + 1)]


def run(scene, folder, last, stop=lambda: False):
    return list(SceneRun(scene, {}, folder, stop).frames(last))


# --- the cache --------------------------------------------------------------------------------------------


def test_frames_come_back_and_missing_ones_are_none(tmp_path):
    cache = FrameCache(tmp_path / "c", LAYOUT, 4)
    write(cache, 2)
    again = FrameCache.reader(tmp_path / "c")
    assert again.stamps().tolist() == [ABSENT, ABSENT, 7, ABSENT]
    assert np.array_equal(again.skin(2), np.random.default_rng(2).normal(size=(5, 3)).astype(np.float32))
    assert again.skin(1) is None and again.state(99) is None and again.stamp(-1) == ABSENT


def test_a_torn_chunk_costs_its_frame_only(tmp_path):
    cache = FrameCache(tmp_path / "c", LAYOUT, 4)
    for k in (1, 2, 3):
        write(cache, k)
    torn = next(p for p in (tmp_path / "c" / "state").rglob("*") if p.is_file() and p.parts[-2] == "2")
    torn.write_bytes(torn.read_bytes()[:-5])
    again = FrameCache.reader(tmp_path / "c")
    assert again.state(2) is None and again.state(3) is not None
    assert again.last_good(1, 7) == 1


def test_another_layout_starts_anew_and_more_frames_extend(tmp_path):
    write(FrameCache(tmp_path / "c", LAYOUT, 3), 1)
    longer = FrameCache(tmp_path / "c", LAYOUT, 10)
    assert longer.frames == 10 and longer.stamp(1) == 7
    fresh = FrameCache(tmp_path / "c", {**LAYOUT, "points": 6}, 3)
    assert fresh.frames == 3 and fresh.stamp(1) == ABSENT


def test_unreadable_folders_are_one_sentence(tmp_path):
    (tmp_path / "file").write_text("")
    with pytest.raises(RunError, match="cannot be kept"):
        FrameCache(tmp_path / "file" / "c", LAYOUT, 3)
    assert FrameCache.reader(tmp_path / "nothing") is None
    (tmp_path / "layout.json").write_text("[1, 2]")
    assert FrameCache.reader(tmp_path) is None


def test_a_full_disk_ends_the_bake_with_a_sentence(tmp_path, monkeypatch):
    cache = FrameCache(tmp_path / "c", LAYOUT, 4)

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(cache, "write", full)
    writer = CacheWriter(cache)
    writer.put(1, 7)
    writer.close()
    assert "no space left on device; the bake stopped." in writer.error
    with pytest.raises(RunError):
        writer.put(2, 7)


# --- runs -------------------------------------------------------------------------------------------------


def test_a_run_resumed_twice_is_the_same_bit_for_bit(tmp_path):
    scene = small_scene(last=9)
    run(scene, tmp_path / "whole", 9)
    for last in (2, 5, 9):
        run(scene, tmp_path / "parts", last)
    whole, parts = (FrameCache.reader(tmp_path / name) for name in ("whole", "parts"))
    assert states(whole, 1, 9) == states(parts, 1, 9)
    assert (whole.stamps()[1:] == run_key(scene)).all()


def test_a_run_killed_at_any_moment_resumes_to_the_same_bits(tmp_path):
    scene = small_scene(last=30)
    run(scene, tmp_path / "whole", 30)
    save_scene(tmp_path / "scene.quince", scene, {})
    code = ("import sys; from pathlib import Path; from rubberquince.document.storage import load_scene;"
            "from rubberquince.bake.run import SceneRun; s, m = load_scene(Path(sys.argv[1]));"
            "[print(f.number, flush=True) for f in SceneRun(s, m, Path(sys.argv[2]), lambda: False).frames(30)]")
    for after in (3, 11, 19):
        child = subprocess.Popen([sys.executable, "-c", code, str(tmp_path / "scene.quince"), str(tmp_path / "killed")],
                                 stdout=subprocess.PIPE, text=True)
        for line in child.stdout:
            if int(line) >= after:
                break
        os.kill(child.pid, signal.SIGKILL)
        child.wait()
        child.stdout.close()
    run(scene, tmp_path / "killed", 30)
    whole, killed = (FrameCache.reader(tmp_path / name) for name in ("whole", "killed"))
    assert states(whole, 1, 30) == states(killed, 1, 30)


def test_a_change_on_the_way_marks_frames_as_mixed_and_shows(tmp_path):
    scene = small_scene(last=12)
    softer = scene.with_piece(changed(scene.piece("ball"), "solid.stiffness", 500.0))
    assert topology_key(scene) == topology_key(softer) and run_key(scene) != run_key(softer)
    running = SceneRun(scene, {}, tmp_path / "c", lambda: False)
    for frame in running.frames(12):
        if frame.number == 5:
            running.change(softer)
    stamps = FrameCache.reader(tmp_path / "c").stamps()
    assert (stamps[1:6] == run_key(scene)).all() and (stamps[6:13] == MIXED).all()
    plain = run(scene, tmp_path / "plain", 12)
    assert not np.array_equal(FrameCache.reader(tmp_path / "c").skin(12), plain[-1].skin)


def test_readings_are_those_of_the_body(tmp_path):
    frames = run(small_scene(last=40), tmp_path / "c", 40)
    first, last = (dict(zip(READINGS, f.readings[0])) for f in (frames[0], frames[-1]))
    assert first["volume"] == pytest.approx(1.0) and first["stretch"] == pytest.approx(0.0, abs=1e-9)
    assert first["height"] == pytest.approx(0.09, abs=1e-3)
    assert frames[1].readings[0][3] == pytest.approx(9.81 / 24, rel=0.05)       # free fall for one frame
    assert frames[1].readings[0][5] == pytest.approx(9.81 / 24, rel=0.05)       # of its centre as well
    assert (frames[3].effort > 0).all() and frames[3].effort[0] == int(frames[3].effort[0])
    assert 0.8 < last["volume"] < 1.0 and last["speed"] < 0.05 and 0.03 < last["height"] < 0.065
    assert last["stretch"] > 0.02


def test_a_scene_without_a_solid_says_so():
    with pytest.raises(RunError, match="nothing to compute"):
        assemble(Scene(pieces=(slab(),)), {})


@pytest.mark.parametrize("quality", ["draft", "good"])
def test_the_demo_falls_squashes_and_comes_to_rest_at_any_quality(tmp_path, quality):
    frames = run(changed(harvest_fair.scene(), "run.quality", quality), tmp_path / "c", 24)
    volume, _, contact, speed, height, centre = np.array([f.readings[0] for f in frames]).T
    assert height[3:6].min() < height[-1] - 1e-3            # it squashes before it rests
    assert 0.95 < volume[-1] < 1.0 and 0.05 < contact[-1] < 0.7
    assert (centre <= speed + 1e-9).all() and speed[2:6].max() > 0.5
    assert 0.0 < speed[-1] < 0.05        # neither frozen nor restless
    assert all(np.isfinite(f.skin).all() for f in frames)


@pytest.mark.parametrize("fps", [1.0, 240.0])
def test_the_fall_is_the_same_at_any_frame_rate(tmp_path, fps):
    scene = changed(Scene(pieces=(ball(height=6.0),), run=small_scene().run), "run.fps", fps)
    frames = run(scene, tmp_path / "c", 1 + round(fps))
    assert frames[0].readings[0][4] - frames[-1].readings[0][4] == pytest.approx(9.81 / 2, rel=0.05)


def test_a_start_below_the_ground_comes_out_without_a_leap(tmp_path):
    scene = Scene(pieces=(ball(height=0.0),), run=small_scene().run)
    heights = [f.readings[0][4] for f in run(scene, tmp_path / "c", 24)]
    assert heights[0] < 0.01 and 0.025 < heights[-1] < 0.06 and max(heights) < 0.2


def test_only_what_frames_depend_on_is_in_the_keys():
    scene = small_scene()
    same = scene.with_piece(changed(changed(scene.piece("ball"), "name", "Other"), "look.colour", "#000000"))
    assert run_key(same) == run_key(scene)
    assert run_key(changed(scene, "run.last", 99)) == run_key(scene)
    moved = scene.with_piece(changed(scene.piece("ball"), "place.position", (0, 0.2, 0)))
    assert topology_key(moved) != topology_key(scene)
    assert run_key(changed(scene, "run.gravity", 1.6)) != run_key(scene)
    assert topology_key(changed(scene, "run.gravity", 1.6)) == topology_key(scene)


def test_a_missing_mesh_names_its_piece():
    lost = Piece(id="own", name="My shape", shape={"kind": "imported", "name": "x.obj", "mesh": "0" * 32})
    with pytest.raises(RunError, match=r"My shape: The mesh of .* is missing"):
        assemble(Scene(pieces=(lost,)), {})


# --- the reading end --------------------------------------------------------------------------------------


def test_store_gives_frames_by_piece(tmp_path):
    scene = Scene(pieces=(ball(), slab(), ball("top", 0.2)), run=small_scene(last=4).run)
    run(scene, tmp_path / "c", 4)
    store = FrameStore(tmp_path / "c", scene, {})
    skins = store.skins(1)
    assert set(skins) == {"ball", "top"}
    assert np.allclose(skins["top"], piece_points(scene.piece("top"), {}), atol=1e-6)
    assert store.readings_of("top")[3][4] > store.readings_of("ball")[3][4]
    assert store.nodes(2).shape[1] == 3 and store.skins(99) is None
    assert len(store.readings_of("slab")) == 0
    assert FrameStore(tmp_path / "c", small_scene(), {}).skins(1) is None       # another number of solids


def test_old_runs_are_thrown_away(tmp_path):
    for k in range(MOST_RUNS + 3):
        folder = fresh_folder(tmp_path, k)
        os.utime(folder, (k, k + 1))
    kept = sorted(tmp_path.iterdir())
    assert len(kept) == MOST_RUNS + 1 or len(kept) == MOST_RUNS
    assert folder_of(tmp_path, MOST_RUNS + 2) in kept and folder_of(tmp_path, 0) not in kept


FAIR = {"pudding": lambda: (harvest_fair.scene(), {}), "prizes": lambda: (harvest_fair.prizes(), {}),
        "loop": harvest_fair.loop}


@pytest.mark.parametrize("name", list(FAIR))
def test_nothing_crosses_anything_at_the_fair(name):
    scene, meshes = FAIR[name]()
    assert [c.sentence for c in checks_of(scene, meshes) if c.trouble] == []
    stepper = Stepper(assemble(changed(scene, "run.quality", "draft"), meshes).spec)
    skin = stepper.world.skin
    triangles, edges = np.concatenate(skin.triangles), skin.edges
    for frame in range(2, 26):
        stepper.frame()
        if frame % 4 == 0:
            points = np.concatenate([stepper.skin(), skin.points[skin.moving:]])
            assert np.isfinite(points).all() and crossings(points, edges, triangles) == 0, f"frame {frame}"


# --- what goes wrong with the disk -------------------------------------------------------------------------


def on_a_full_disk(code, room=60_000):
    """What a process says that runs ``code``, in which from FULL on no file may grow beyond ``room`` bytes."""
    limit = f"import resource; resource.setrlimit(resource.RLIMIT_FSIZE, ({room}, {room}))"
    done = subprocess.run([sys.executable, "-c", code.replace("FULL", limit)], capture_output=True, text=True,
                          timeout=300)
    return done.stdout.strip()


BAKE = """
import sys
sys.path.insert(0, {tests!r})
from pathlib import Path
from rubberquince.bake.run import SceneRun
from rubberquince.errors import QuinceError
from scenes import ball, slab, Scene
from rubberquince.document.scene import RunSettings
scene = Scene(pieces=(ball(cells=8), slab()), run=RunSettings(last=40, quality="draft"))
list(SceneRun(scene, {{}}, Path({folder!r} + "warm"), lambda: False).frames(4))
FULL
try:
    for frame in SceneRun(scene, {{}}, Path({folder!r}), lambda: False).frames(40):
        pass
    print("all written")
except QuinceError as error:
    print(error)
"""


def test_a_full_disk_ends_a_bake_with_one_sentence(tmp_path):
    code = BAKE.format(tests=str(Path(__file__).parents[1]), folder=str(tmp_path / "c"))
    said = on_a_full_disk(code)
    assert "cannot be" in said and "\n" not in said and said.endswith(".")
    assert on_a_full_disk(code, 10 ** 9) == "all written"   # and with room it goes on


def test_a_full_disk_leaves_the_saved_scene_as_it_was(tmp_path):
    path = tmp_path / "fair.quince"
    save_scene(path, small_scene(), {})
    before = path.read_bytes()
    said = on_a_full_disk(f"""
from pathlib import Path
from rubberquince.demos import harvest_fair
from rubberquince.document.storage import save_scene
from rubberquince.errors import QuinceError
FULL
try:
    save_scene(Path({str(path)!r}), harvest_fair.scene(), {{}})
except QuinceError as error:
    print(error)
""", room=2000)
    assert said.startswith("Could not save") and said.endswith(".")
    assert path.read_bytes() == before and os.listdir(tmp_path) == ["fair.quince"]


@pytest.mark.parametrize("change", [lambda layout: layout.update(format=1), lambda layout: layout.update(points=3),
                                    lambda layout: layout.clear()])
def test_frames_of_another_version_are_not_taken_for_ours(tmp_path, change):
    scene = small_scene(last=4)
    run(scene, tmp_path / "c", 4)
    file = tmp_path / "c" / "layout.json"
    layout = json.loads(file.read_text())
    change(layout)
    file.write_text(json.dumps(layout))
    store = FrameStore(tmp_path / "c", scene, {})
    assert store.skins(3) is None and not store.stamps.any()
    frames = run(scene, tmp_path / "c", 4)                  # they are made anew
    assert [f.number for f in frames] == [1, 2, 3, 4]
    assert FrameCache.reader(tmp_path / "c").skin(4) is not None


# --- handing over -----------------------------------------------------------------------------------------


def test_the_exported_run_is_the_cache_to_the_bit(tmp_path):
    scene = small_scene(last=5)
    run(scene, tmp_path / "c", 5)
    cache = FrameCache.reader(tmp_path / "c")
    assert export.export_run(tmp_path / "run.usdc", scene, {}, cache, 2, 5) == 4
    stage = Usd.Stage.Open(str(tmp_path / "run.usdc"))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/Scene/Ball"))
    for frame in range(2, 6):
        assert np.array_equal(np.array(mesh.GetPointsAttr().Get(frame)), cache.skin(frame))
    export.export_frame(tmp_path / "f.obj", scene, {}, cache.skin(5))
    points = read_obj(tmp_path / "f.obj").points
    assert np.allclose(points[: len(cache.skin(5))], cache.skin(5), atol=1e-6)


@pytest.mark.parametrize("suffix", [".obj", ".ply"])
def test_a_run_is_handed_over_file_by_file(tmp_path, suffix):
    scene = small_scene(last=4)
    run(scene, tmp_path / "c", 4)
    cache = FrameCache.reader(tmp_path / "c")
    assert export.export_run(tmp_path / f"out{suffix}", scene, {}, cache, 2, 4) == 3
    assert [p.name for p in sorted(tmp_path.glob("out*"))] == [f"out.000{k}{suffix}" for k in (2, 3, 4)]
    points = READERS[suffix](tmp_path / f"out.0003{suffix}").points
    low = cache.skin(3)[:, 1].max()
    assert points[:, 1].max() == pytest.approx(low, abs=1e-6)
    with pytest.raises(ExportError):
        export.export_run(tmp_path / f"late{suffix}", scene, {}, cache, 2, 9)
    assert not list(tmp_path.glob("late*"))                 # none are left of what broke off


def test_what_cannot_be_exported_says_why(tmp_path):
    scene = small_scene(last=5)
    run(scene, tmp_path / "c", 3)
    cache = FrameCache.reader(tmp_path / "c")
    with pytest.raises(ExportError, match="Frame 4 is not baked"):
        export.export_run(tmp_path / "run.usdc", scene, {}, cache, 1, 5)
    with pytest.raises(ExportError, match="Frame 4 is not baked"):
        export_apart(RunOrder(tmp_path / "run.usdc", scene, {}, tmp_path / "c", 3, 5), lambda: False)
    with pytest.raises(ExportError, match="export was stopped"):
        export_apart(RunOrder(tmp_path / "run.usdc", scene, {}, tmp_path / "c", 1, 3), lambda: True)
    with pytest.raises(ExportError, match="frames are gone"):
        export_apart(RunOrder(tmp_path / "run.usdc", scene, {}, tmp_path / "elsewhere", 1, 3), lambda: False)
    assert sorted(f.name for f in tmp_path.iterdir()) == ["c"]
    with pytest.raises(ExportError, match="not a name for a run"):
        export.export_run(tmp_path / "run.abc", scene, {}, cache, 1, 3)


def test_a_hidden_collider_is_not_handed_over(tmp_path):
    scene = small_scene().with_piece(changed(slab(), "visible", False))
    export.export_frame(tmp_path / "f.obj", scene, {}, None)
    assert "Slab" not in (tmp_path / "f.obj").read_text() and "Ball" in (tmp_path / "f.obj").read_text()


def test_solving_does_not_wait_for_the_disk(tmp_path, monkeypatch):
    slow = FrameCache.write

    def slowly(self, *frame):
        time.sleep(0.05)
        slow(self, *frame)

    monkeypatch.setattr(FrameCache, "write", slowly)
    began = time.monotonic()
    numbers = [frame.number for frame in SceneRun(small_scene(), {}, tmp_path / "c", lambda: False).frames(3)]
    assert numbers == [1, 2, 3] and time.monotonic() - began > 0.1      # closing waits until all is written
    assert FrameCache.reader(tmp_path / "c").last_good(1, run_key(small_scene())) == 3


def test_a_place_can_be_turned():
    place = Place(turn=(0.0, 90.0, 0.0))
    assert np.allclose(place.rotation() @ [1, 0, 0], [0, 0, -1], atol=1e-12)
