"""Frames on disk, runs that go on where they were left, keys, and handing over."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from pxr import Usd, UsdGeom

from bodies import crossings
from rubberquince.bake import export
from rubberquince.bake.assemble import assemble
from rubberquince.bake.cache import ABSENT, MIXED, CacheWriter, FrameCache
from rubberquince.bake.checks import checks_of
from rubberquince.bake.folders import locked, make_room, throw_away
from rubberquince.bake.keys import run_key, topology_key
from rubberquince.bake.layout import READINGS, Entry, Layout
from rubberquince.bake.run import SceneRun
from rubberquince.bake.store import FrameStore
from rubberquince.demos import harvest_fair
from rubberquince.document.bodies import piece_points
from rubberquince.document.scene import CushionShape, Piece, Place, RunSettings, Scene, changed
from rubberquince.document.storage import save_scene
from rubberquince.document.values import PressureValues
from rubberquince.errors import ExportError, QuinceError, RunError
from rubberquince.exchange.obj_in import read_obj
from rubberquince.exchange.reader import READERS
from rubberquince.jobs.exporting import export_run_apart
from rubberquince.solver.stepper import Stepper
from scenes import ball, slab, small_scene

LAYOUT = Layout((Entry("ball", "solid", 5, 1, "cells"),), 7)




def with_(piece, path, value):
    return lambda scene: scene.with_piece(changed(scene.piece(piece), path, value)) if piece else \
        changed(scene, path, value)


CHANGES = {"softer": with_("ball", "solid.stiffness", 700.0), "stiffer": with_("ball", "solid.stiffness", 9e4),
           "squashy": with_("ball", "solid.keeps_volume", 0.1), "heavy": with_("ball", "solid.density", 4000.0),
           "quiet": with_("ball", "solid.wobble_halves", 0.05), "floats": with_("ball", "solid.weight", -0.3),
           "wide": with_("ball", "contact.gap", 0.004), "slippery": with_("slab", "contact.friction", 0.0),
           "bouncy": with_("ball", "contact.bounce", 0.8), "outside": with_("slab", "contact.sides", "outside"),
           "both sides": with_("slab", "contact.sides", "both"),
           "moon": with_("", "run.gravity", 1.6), "icy": with_("", "run.ground_friction", 0.0)}


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
    torn = tmp_path / "c" / "state" / "c.2.0"
    torn.write_bytes(torn.read_bytes()[:-5])
    again = FrameCache.reader(tmp_path / "c")
    assert again.state(2) is None and again.state(3) is not None
    assert again.last_good(1, 7) == 1


def test_another_layout_starts_anew_and_more_frames_extend(tmp_path):
    write(FrameCache(tmp_path / "c", LAYOUT, 3), 1)
    longer = FrameCache(tmp_path / "c", LAYOUT, 10)
    assert longer.frames == 10 and longer.stamp(1) == 7
    fresh = FrameCache(tmp_path / "c", Layout((Entry("ball", "solid", 6, 1, "cells"),), 7), 3)
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
    for late in (writer.check, lambda: writer.put(2, 7)):
        with pytest.raises(RunError, match="no space left on device; the bake stopped"):
            late()


# --- runs -------------------------------------------------------------------------------------------------


def test_a_run_resumed_twice_is_the_same_bit_for_bit(tmp_path):
    scene = small_scene(last=9)
    run(scene, tmp_path / "whole", 9)
    for last in (2, 5, 9):
        run(scene, tmp_path / "parts", last)
    whole, parts = (FrameCache.reader(tmp_path / name) for name in ("whole", "parts"))
    assert states(whole, 1, 9) == states(parts, 1, 9)
    assert (whole.stamps()[1:] == run_key(scene)).all()


def cushion_scene(last):
    blank = Piece(id="blank", name="Blank", role="shell", shape=CushionShape(divisions=8, pinch=0.0),
                  place=Place(position=(0.0, 0.03, 0.0), size=(0.2, 0.012, 0.2)),
                  pressure=PressureValues(pressure=200.0, frames=20.0))
    return Scene(pieces=(blank,), run=RunSettings(last=last, quality="draft"))


@pytest.mark.parametrize("make", [small_scene, cushion_scene])
def test_a_run_killed_at_any_moment_resumes_to_the_same_bits(make, tmp_path):
    scene = make(last=20)
    run(scene, tmp_path / "whole", 20)
    save_scene(tmp_path / "scene.quince", scene, {})
    code = ("import sys; from pathlib import Path; from rubberquince.document.storage import load_scene;"
            "from rubberquince.bake.run import SceneRun; s, m = load_scene(Path(sys.argv[1]));"
            "[print(f.number, flush=True) for f in SceneRun(s, m, Path(sys.argv[2]), lambda: False).frames(20)]")
    for after in (4, 13):
        child = subprocess.Popen([sys.executable, "-c", code, str(tmp_path / "scene.quince"), str(tmp_path / "killed")],
                                 stdout=subprocess.PIPE, text=True)
        for line in child.stdout:
            if int(line) >= after:
                break
        os.kill(child.pid, signal.SIGKILL)
        child.wait()
        child.stdout.close()
    run(scene, tmp_path / "killed", 20)
    whole, killed = (FrameCache.reader(tmp_path / name) for name in ("whole", "killed"))
    assert states(whole, 1, 20) == states(killed, 1, 20)


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
    assert 0.8 < last["volume"] < 1.0 and last["speed"] < 0.07 and 0.03 < last["height"] < 0.065
    assert last["stretch"] > 0.02


def test_a_scene_without_a_solid_says_so():
    with pytest.raises(RunError, match="nothing to compute"):
        assemble(Scene(pieces=(slab(),)), {})


@pytest.mark.parametrize("quality, squash", [("draft", -1e-3), ("good", 5e-3)])
def test_the_demo_falls_leans_trembles_and_comes_to_rest(tmp_path, quality, squash):
    frames = run(changed(harvest_fair.scene(), "run.quality", quality), tmp_path / "c", 60)
    volume, _, contact, speed, height, centre = np.array([f.readings[0][:6] for f in frames]).T
    assert height[3:8].min() < height[-1] - squash          # it squashes before it rests; at draft hardly
    top = np.array([f.skin[frames[0].skin[:, 1].argmax(), 0] for f in frames[10:]])
    swings = np.flatnonzero(np.diff(np.sign(np.diff(top))))
    assert len(swings) >= 5 and np.abs(top - top[-1]).max() > 2e-3         # and leans from side to side
    assert 0.95 < volume[-1] < 1.0 and 0.05 < contact[-1] < 0.7
    assert (centre <= speed + 1e-9).all() and speed[2:6].max() > 0.5
    assert 0.0 < speed[-1] < 0.1 * speed.max()              # neither frozen nor restless: it trembles for some seconds
    assert all(np.isfinite(f.skin).all() for f in frames)


@pytest.mark.parametrize("fps", [1.0, 96.0])
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
    store = FrameStore(tmp_path / "c")
    skins = store.skins(1)
    assert set(skins) == {"ball", "top"}
    assert np.allclose(skins["top"], piece_points(scene.piece("top"), {}), atol=1e-6)
    assert store.readings_of("top")[3][4] > store.readings_of("ball")[3][4]
    assert store.nodes(2)["top"][1].shape[1] == 3 and store.skins(99) is None
    assert len(store.readings_of("slab")) == 0


def test_skins_that_were_seen_do_not_pile_up_in_memory(tmp_path, monkeypatch):
    run(small_scene(last=12), tmp_path / "c", 12)
    store = FrameStore(tmp_path / "c")
    most = 4 * store.skins(1)["ball"].nbytes
    monkeypatch.setattr("rubberquince.bake.store.MOST_BYTES", most)
    for number in range(1, 13):
        assert store.skins(number) is not None
        store.put(number, 7, np.zeros((98, 3), np.float32), np.zeros((1, len(READINGS))), np.zeros(2))
        assert sum(skin.nbytes for skin in store._recent.values()) == store._bytes <= most
    assert list(store._recent) == [9, 10, 11, 12]           # those seen last


def test_the_order_of_the_line_up_changes_nothing(tmp_path):
    scene = Scene(pieces=(ball("b"), slab(), ball("a", 0.2)), run=small_scene(last=4).run)
    other = scene.model_copy(update={"pieces": scene.pieces[::-1]})
    assert run_key(scene) == run_key(other) and topology_key(scene) == topology_key(other)
    for folder, one in (("one", scene), ("two", other)):
        run(one, tmp_path / folder, 4)
    one, two = (FrameStore(tmp_path / folder).skins(4) for folder in ("one", "two"))
    assert all(np.array_equal(one[key], two[key]) for key in ("a", "b"))
    again = scene.model_copy(update={"pieces": (ball("c"), *scene.pieces[1:])})
    assert run_key(again) != run_key(scene)                 # the same ball under another id is another ball


def test_old_runs_are_thrown_away_but_not_while_somebody_writes(tmp_path):
    def older(k):
        make_room(tmp_path / f"{k:016x}.frames", 3)
        os.utime(tmp_path / f"{k:016x}.frames", (k, k + 1))

    with locked(tmp_path / f"{0:016x}.frames"):
        for k in range(6):
            older(k)
        names = {int(folder.stem, 16) for folder in tmp_path.glob("*.frames")}
        assert names == {0, 3, 4, 5}
        assert not throw_away(tmp_path / f"{0:016x}.frames")
        with pytest.raises(RunError, match="Another window"):
            run(small_scene(), tmp_path / f"{0:016x}.frames", 2)
    assert throw_away(tmp_path / f"{0:016x}.frames")


FAIR = {"pudding": lambda: (harvest_fair.scene(), {}), "prizes": lambda: (harvest_fair.prizes(), {}),
        "loop": harvest_fair.loop}


@pytest.mark.parametrize("name", list(FAIR))
def test_nothing_crosses_anything_at_the_fair(name):
    scene, meshes = FAIR[name]()
    assert [c.sentence for c in checks_of(scene, meshes) if c.trouble] == []
    stepper = Stepper(assemble(changed(scene, "run.quality", "draft"), meshes).spec)
    skin = stepper.world.skin
    triangles, edges = np.concatenate(skin.triangles), skin.edges
    for frame in range(2, 11):
        stepper.frame()
        if frame % 3 == 0:
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


def test_a_full_disk_is_the_reason_given_for_a_run_that_cannot_be_written(tmp_path):
    said = on_a_full_disk(f"""
from pathlib import Path
import numpy as np
from rubberquince.errors import QuinceError
from rubberquince.exchange.usd import write_usd
from rubberquince.exchange.writing import Exported
from rubberquince.shapes import primitives
mesh = primitives.sphere(60, 30)
FULL
try:
    write_usd(Path({str(tmp_path / "run.usdc")!r}), [], [Exported("a", mesh, mesh.points)], 24.0, [(1, [mesh.points])])
except QuinceError as error:
    print(error)
""", room=5000)
    assert said.startswith("Could not write") and "large" in said and "folder" not in said
    assert os.listdir(tmp_path) == []


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


@pytest.mark.parametrize("change", [lambda text: text.replace('"format": 6', '"format": 1'),
                                    lambda text: text.replace('"points": 98', '"points": 3'), lambda text: "[1, 2]"])
def test_frames_of_another_version_are_not_taken_for_ours(tmp_path, change):
    scene = small_scene(last=4)
    run(scene, tmp_path / "c", 4)
    file = tmp_path / "c" / "layout.json"
    text = file.read_text()
    assert change(text) != text
    file.write_text(change(text))
    store = FrameStore(tmp_path / "c")
    assert store.skins(3) is None and not store.stamps.any()
    frames = run(scene, tmp_path / "c", 4)                  # they are made anew
    assert [f.number for f in frames] == [1, 2, 3, 4]
    assert FrameCache.reader(tmp_path / "c").skin(4) is not None


def test_whatever_is_damaged_in_a_folder_of_frames_heals(tmp_path):
    scene = small_scene(last=5)
    run(scene, tmp_path / "whole", 5)
    whole = FrameCache.reader(tmp_path / "whole")
    files = [f for f in sorted((tmp_path / "whole").rglob("*")) if f.is_file()]
    assert {f.name for f in files} >= {"layout.json", "rows", "zarr.json"}
    rng = np.random.default_rng(4)
    damages = [(f, int(at)) for f in files for at in rng.integers(0, f.stat().st_size, 2)]
    damages += [(f, None) for f in files]                   # gone altogether
    for file, at in damages:
        shutil.rmtree(tmp_path / "c", ignore_errors=True)
        shutil.copytree(tmp_path / "whole", tmp_path / "c")
        hurt = tmp_path / "c" / file.relative_to(tmp_path / "whole")
        if at is None:
            hurt.unlink()
        else:
            data = bytearray(hurt.read_bytes())
            data[at] ^= 1 << int(rng.integers(8))
            hurt.write_bytes(data)
        store = FrameStore(tmp_path / "c")                  # who only looks is not shown what is false
        for number in range(1, 6):
            skins = store.skins(number)
            assert skins is None or np.array_equal(skins["ball"], whole.skin(number)), (file, at)
        run(scene, tmp_path / "c", 5)
        healed = FrameCache.reader(tmp_path / "c")
        assert states(healed, 1, 5) == states(whole, 1, 5), (file, at)
        assert all(np.array_equal(healed.readings(k), whole.readings(k)) for k in range(1, 6)), (file, at)
        assert (healed.stamps()[1:] == run_key(scene)).all()


def test_damage_is_said(tmp_path):
    scene = small_scene(last=4)
    run(scene, tmp_path / "c", 4)
    rows = tmp_path / "c" / "rows"
    data = bytearray(rows.read_bytes())
    data[3 * len(data) // 5 + 20] ^= 4                      # somewhere in the row of frame 3
    rows.write_bytes(data)
    damaged = SceneRun(scene, {}, tmp_path / "c", lambda: False)
    assert [f.number for f in damaged.frames(4)] == [3, 4]
    assert damaged.note.startswith("Frame 3 on disk was damaged")


@pytest.mark.parametrize("error", [OSError(28, "No space left on device"), MemoryError("no room")])
def test_an_error_of_the_writer_at_the_last_frame_ends_the_run_with_an_error(tmp_path, monkeypatch, error):
    write = FrameCache.write

    def failing(self, frame, *rest):
        if frame == 4:
            raise error
        write(self, frame, *rest)

    monkeypatch.setattr(FrameCache, "write", failing)
    with pytest.raises(RunError, match=r"cannot be written.*; the bake stopped"):
        run(small_scene(last=4), tmp_path / "c", 4)
    with pytest.raises(RunError):                           # nor does it hang when more frames come than are queued
        run(small_scene(last=40), tmp_path / "d", 40)


@settings(max_examples=9, deadline=None, derandomize=True)
@given(st.sampled_from(["both", "outside"]), st.lists(st.sampled_from(sorted(CHANGES)), min_size=1, max_size=3,
                                                      unique=True))
@example("outside", ["both sides"])
def test_a_run_kept_through_changes_gives_what_a_fresh_one_gives(sides, names):
    """Or its frames are marked as mixed."""
    height = 0.055 if sides == "both" else 0.045            # so that it has something to be led out of
    before = Scene(pieces=(ball(height=height), changed(slab(), "contact.sides", sides)), run=small_scene(last=6).run)
    after = before
    for name in names:
        after = CHANGES[name](after)
    assume(run_key(after) != run_key(before))
    with tempfile.TemporaryDirectory() as folder:
        kept, fresh, marked = (Path(folder) / name for name in ("kept", "fresh", "marked"))
        running = SceneRun(before, {}, marked, lambda: False)
        for frame in running.frames(6):
            if frame.number == 4:
                running.change(after)
        assert (FrameCache.reader(marked).stamps()[5:7] == MIXED).all()
        running.folder = kept
        list(running.frames(6))
        run(after, fresh, 6)
        one, two = FrameCache.reader(kept), FrameCache.reader(fresh)
        assert (one.stamps()[1:] == run_key(after)).all()
        assert states(one, 1, 6) == states(two, 1, 6)


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
    export.export_frame(tmp_path / "f.obj", scene, {}, cache.layout.skins(cache.skin(5)))
    points = read_obj(tmp_path / "f.obj").points
    assert np.allclose(points[: len(cache.skin(5))], cache.skin(5), atol=1e-6)


@pytest.mark.parametrize("suffix", [".obj", ".ply"])
def test_a_run_is_handed_over_file_by_file(tmp_path, suffix):
    scene = small_scene(last=4)
    run(scene, tmp_path / "c", 4)
    cache = FrameCache.reader(tmp_path / "c")
    assert export.export_run(tmp_path / f"out{suffix}", scene, {}, cache, 2, 4) == 3
    assert [p.name for p in sorted(tmp_path.glob("out*"))] == [f"out.000{k}{suffix}" for k in (2, 3, 4)]
    points = READERS[suffix](tmp_path / f"out.0003{suffix}")[0].points
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
        export_run_apart(tmp_path / "run.usdc", scene, {}, tmp_path / "c", 3, 5, lambda: False)
    with pytest.raises(QuinceError, match="was stopped; everything is as it was"):
        export_run_apart(tmp_path / "run.usdc", scene, {}, tmp_path / "c", 1, 3, lambda: True)
    with pytest.raises(ExportError, match="frames are gone"):
        export_run_apart(tmp_path / "run.usdc", scene, {}, tmp_path / "elsewhere", 1, 3, lambda: False)
    assert sorted(f.name for f in tmp_path.iterdir()) == ["c", "c.lock"]
    with pytest.raises(ExportError, match="not a name for a run"):
        export.export_run(tmp_path / "run.abc", scene, {}, cache, 1, 3)


@pytest.mark.parametrize("hidden", ["slab", "ball"])
def test_what_is_hidden_is_not_handed_over(tmp_path, hidden):
    scene = Scene(pieces=(ball(), ball("top", 0.3), slab()), run=small_scene(last=3).run)
    scene = scene.with_piece(changed(scene.piece(hidden), "visible", False))
    run(scene, tmp_path / "c", 3)
    cache = FrameCache.reader(tmp_path / "c")
    export.export_frame(tmp_path / "f.obj", scene, {}, cache.layout.skins(cache.skin(3)))
    export.export_run(tmp_path / "run.usda", scene, {}, cache, 1, 3)
    for name in ("f.obj", "run.usda"):
        text = (tmp_path / name).read_text()
        assert hidden.capitalize() not in text and all(p.name in text for p in scene.pieces if p.visible)
    points = read_obj(tmp_path / "f.obj").points
    tops = cache.layout.skins(cache.skin(3))["top"]
    assert points[:, 1].max() == pytest.approx(tops[:, 1].max(), abs=1e-6)     # each piece has its own points


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


def test_keyed_lengths_of_shells_and_nets_resume_to_the_same_bits(tmp_path):
    pieces = tuple(Piece.model_validate({
        "id": role, "name": role, "role": role, "shape": {"kind": "sheet", "across": 8, "along": 8},
        "place": {"position": (0.3 * k, 0.02, 0.0), "size": (0.2, 0.01, 0.2)},
        "tracks": [{"of": of, "keys": [{"frame": 1, "value": 1.0}, {"frame": 7, "value": 1.3}]}]})
        for k, (role, of) in enumerate((("shell", "shell.along"), ("net", "net.length"))))
    scene = Scene(pieces=pieces, run=RunSettings(last=7, quality="draft"))

    def last_skin(name, *ends):
        for end in ends:
            *_, last = SceneRun(scene, {}, tmp_path / name, lambda: False).frames(end)
        return last.skin

    whole = last_skin("whole", 7)
    assert np.array_equal(last_skin("resumed", 4, 7), whole)
    assert np.ptp(whole[:81, 0]) > 0.21                     # it grew


# --- what frames depend on ----------------------------------------------------------------------------------


def test_keys_take_in_what_lines_maps_and_goals_go_by_and_nothing_else():
    near = {"rule": {"kind": "near", "piece": "post"}}
    cloth = Piece.model_validate({
        "id": "cloth", "name": "Cloth", "role": "shell", "shape": {"kind": "sheet"}, "goal": {"to": "its own shape"},
        "curves": [{"id": key, "name": key, "beads": [(0, 0, 0)]} for key in ("used", "spare")],
        "hold": {"what": "curve", "curve": "used"}, "maps": [{"of": "goal.strength", "high": 0.5, "layers": [near]}]})
    post = Piece(id="post", name="Post", role="scenery", shape=CushionShape())
    scene = Scene(pieces=(cloth, post))

    def keys(**changes):
        return run_key(scene.with_piece(cloth.model_copy(update=changes))), \
            topology_key(scene.with_piece(cloth.model_copy(update=changes)))

    before, moved = keys(), (cloth.curves[0].model_copy(update={"beads": ((0.2, 0.0, 0.0),)}), cloth.curves[1])
    assert keys(curves=cloth.curves[:1]) == before                          # a line that nothing goes by
    assert keys(curves=moved)[1] != before[1]                               # one that is held along
    softer = tuple(m.model_copy(update={"high": 0.4}) for m in cloth.maps)
    assert keys(maps=softer)[0] != before[0] and keys(maps=softer)[1] == before[1]     # changes while it runs
    longer = (*cloth.maps, cloth.maps[0].model_copy(update={"of": "shell.along", "low": 1.0, "high": 1.2}))
    assert keys(maps=longer)[0] != before[0] and keys(maps=longer)[1] == before[1]
    aside = post.model_copy(update={"place": Place(position=(1.0, 0.0, 0.0))})
    assert run_key(scene.with_piece(aside)) != before[0]                    # scenery counts where a map goes by it
