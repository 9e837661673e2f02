"""Runs of scenes with keys: what is led, what rides, values in time, and what cannot be."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from rubberquince.bake.assemble import assemble
from rubberquince.bake.checks import checks_of
from rubberquince.bake.courses import pose_at
from rubberquince.bake.keys import run_key, topology_key
from rubberquince.bake.run import SceneRun
from rubberquince.document.document import Document
from rubberquince.document.scene import BlockShape, Curve, Piece, Place, RunSettings, Scene, SheetShape, SphereShape
from rubberquince.document.tracks import Key, Track, put_at
from rubberquince.document.values import ForceValues, GoalValues, HoldValues, PressureValues, SolidValues
from rubberquince.errors import RunError
from rubberquince.solver import own_air

BALL = Piece(id="a", name="ball", shape=SphereShape(around=12, rings=6), solid=SolidValues(cells=3, stiffness=2e4),
             place=Place(position=(0.0, 0.16, 0.0), size=(0.1, 0.1, 0.1)))
TRAY = Piece(id="t", name="tray", shape=BlockShape(divisions=(4, 1, 4)), role="collider",
             place=Place(position=(0.0, 0.1, 0.0), size=(0.4, 0.02, 0.4)))
RUN = RunSettings(last=12, quality="draft")


def keyed(piece, path, *keys):
    track = Track(of=path, keys=tuple(Key(frame=f, value=v, way=way) for f, v, way in keys))
    return piece.model_copy(update={"tracks": (*piece.tracks, track)})


def frames_of(scene, folder, meshes=None, last=12):
    run = SceneRun(scene, meshes or {}, folder, lambda: False)
    return run, list(run.frames(last))


def skins(run, frames, piece):
    return [run.layout.skins(frame.skin)[piece] for frame in frames]


def test_a_tray_that_keys_lead_is_in_the_frames_and_takes_the_ball_along(tmp_path):
    tray = keyed(TRAY, "place.position.0", (1, 0.0, "smooth"), (12, 0.08, "smooth"))
    ring = keyed(TRAY, "place.turn.1", (1, 0.0, "even"), (12, 360.0, "even")).model_copy(
        update={"id": "s", "name": "sign", "role": "scenery"})
    run, frames = frames_of(Scene(pieces=(BALL, tray, ring), run=RUN), tmp_path)
    ball, led, sign = (skins(run, frames, key) for key in "ats")
    middles = np.array([skin.mean(axis=0) for skin in led])
    assert middles[:, 0] == pytest.approx([tray.tracks[0].at(k) for k in range(1, 13)], abs=1e-6)
    assert ball[-1][:, 0].mean() == pytest.approx(0.06, abs=0.025)      # it rolls a little
    assert ball[-1][:, 1].min() > 0.1 + 0.01
    assert np.abs(sign[-1] - sign[0]).max() < 1e-5 and np.abs(sign[5] - sign[0]).max() > 0.1


def test_what_rides_goes_round_with_its_mount_and_turns_with_it(tmp_path):
    wheel = keyed(TRAY, "place.turn.2", (1, 0.0, "even"), (11, 90.0, "even"))
    rider = TRAY.model_copy(update={"id": "r", "name": "peg", "rides_on": "t",
                                    "place": Place(position=(0.2, 0.1, 0.0), size=(0.02, 0.02, 0.02))})
    run, frames = frames_of(Scene(pieces=(BALL, wheel, rider), run=RUN), tmp_path)
    peg = skins(run, frames, "r")
    assert peg[10].mean(axis=0) == pytest.approx([0.0, 0.3, 0.0], abs=1e-5)
    assert peg[5].mean(axis=0) == pytest.approx([0.2 * np.cos(np.pi / 4), 0.1 + 0.2 * np.sin(np.pi / 4), 0], abs=1e-5)


def test_what_is_held_and_what_goals_draw_goes_along_with_the_place(tmp_path):
    sheet = Piece(id="c", name="cloth", shape=SheetShape(across=6, along=6), role="shell",
                  hold=HoldValues(what="outline"), place=Place(position=(0.0, 0.5, 0.0), size=(0.2, 0.001, 0.2)))
    sheet = keyed(sheet, "place.position.1", (1, 0.5, "even"), (12, 0.3, "even"))
    ball = BALL.model_copy(update={"goal": GoalValues(to="its own shape", strength=0.9), "place": Place(
        position=(0.5, 0.3, 0.0), size=(0.1, 0.1, 0.1))})
    ball = keyed(ball, "place.position.2", (1, 0.0, "even"), (6, 0.1, "even"))
    run, frames = frames_of(Scene(pieces=(sheet, ball), run=RUN), tmp_path)
    rim = np.abs(skins(run, frames, "c")[0][:, [0, 2]]).max(axis=1) > 0.099
    assert skins(run, frames, "c")[-1][rim, 1] == pytest.approx(0.3, abs=1e-6)
    assert skins(run, frames, "a")[-1].mean(axis=0) == pytest.approx([0.5, 0.3, 0.1], abs=0.01)


def test_a_pressure_by_ratio_is_what_presses_at_each_frame(tmp_path):
    ball = BALL.model_copy(update={"role": "shell", "pressure": PressureValues(frames=0.0),
                                   "place": Place(position=(0.0, 0.5, 0.0), size=(0.1, 0.1, 0.1))})
    ball = keyed(ball, "pressure.pressure", (1, 5.0, "by ratio"), (11, 80.0, "even"))
    run, frames = frames_of(Scene(pieces=(ball,), run=RUN), tmp_path)
    pressure = [frame.readings[0, run.layout.columns.index("pressure")] for frame in frames]
    assert pressure[1:11] == pytest.approx(5.0 * 16.0 ** (np.arange(1, 11) / 10.0))


def test_a_stiffness_that_fades_lets_the_ball_sag(tmp_path):
    low = BALL.model_copy(update={"place": Place(position=(0.0, 0.0515, 0.0), size=(0.1, 0.1, 0.1))})
    fades = keyed(low, "solid.stiffness", (1, 2e4, "by ratio"), (8, 800.0, "even"))
    heights = [skins(*frames_of(Scene(pieces=(piece,), run=RUN), tmp_path / name), "a")[-1][:, 1].max()
               for piece, name in ((low, "one"), (fades, "two"))]
    assert heights[1] < heights[0] - 0.008


def test_a_run_with_keys_goes_on_to_the_same_bits(tmp_path):
    tray = keyed(TRAY, "place.turn.0", (1, 0.0, "smooth"), (6, 20.0, "smooth"), (12, -20.0, "smooth"))
    ball = keyed(BALL, "solid.stiffness", (1, 2e4, "by ratio"), (12, 2e3, "even"))
    scene = Scene(pieces=(ball, tray), run=RUN)
    _, whole = frames_of(scene, tmp_path / "whole")
    frames_of(scene, tmp_path / "parts", last=5)
    _, rest = frames_of(scene, tmp_path / "parts")
    assert [f.number for f in rest] == list(range(6, 13))
    for one, two in zip(whole[5:], rest):
        assert np.array_equal(one.skin, two.skin) and one.stamp == two.stamp


def test_keys_decide_on_frames():
    scene = Scene(pieces=(BALL, TRAY))
    other = Scene(pieces=(BALL, keyed(TRAY, "place.turn.0", (1, 0.0, "even"), (9, 9.0, "even"))))
    rides = Scene(pieces=(BALL, TRAY.model_copy(update={"rides_on": "a"})))
    assert len({run_key(one) for one in (scene, other, rides)}) == 3
    assert len({topology_key(one) for one in (scene, other, rides)}) == 3


def test_a_run_starts_where_the_keys_are_at_its_first_frame():
    ball = keyed(BALL, "place.position.1", (1, 0.5, "even"), (11, 1.5, "even"))
    scene = put_at(Scene(pieces=(ball, TRAY)), "run.first", 6)
    assert assemble(scene, {}).spec.bodies[0].translation == pytest.approx([0.0, 1.0, 0.0])


@pytest.mark.parametrize(("change", "says"), [
    ({"rides_on": "gone"}, "tray: the piece that it rides on is gone"),
    ({"rides_on": "a"}, "tray: it rides on ball, which moves by itself"),
    ({"rides_on": "t"}, "tray: it rides on tray, which rides on it in turn")])
def test_riding_on_what_is_gone_or_in_a_circle_is_one_sentence(tmp_path, change, says):
    with pytest.raises(RunError, match=says):
        assemble(Scene(pieces=(BALL, TRAY.model_copy(update=change))), {})


def test_two_that_ride_on_each_other_are_told():
    one = TRAY.model_copy(update={"rides_on": "u"})
    two = TRAY.model_copy(update={"id": "u", "name": "cart", "rides_on": "t"})
    with pytest.raises(RunError, match="in turn"):
        assemble(Document(Scene(pieces=(BALL, one, two))).scene, {})


def test_a_press_that_closes_on_a_body_says_where_and_when(tmp_path):
    low = BALL.model_copy(update={"place": Place(position=(0.0, 0.0515, 0.0), size=(0.1, 0.1, 0.1))})
    press = keyed(TRAY, "place.position.1", (1, 0.13, "even"), (12, 0.0, "even"))
    run, frames = frames_of(Scene(pieces=(low, press), run=RUN), tmp_path)
    assert run.take_jam().startswith("tray cannot go where its keys lead it: at frame ") and run.take_jam() == ""
    assert all(np.isfinite(frame.skin).all() for frame in frames)
    assert skins(run, frames, "t")[-1][:, 1].min() > 0.0


@pytest.fixture
def bellows(monkeypatch):
    """A package that offers airs: one that is well, one that fails, one that is nonsense."""
    def air(force, x, since):
        return np.broadcast_to(force.axis * force.strength, x.shape)

    airs = {"bellows": air, "broken": lambda force, x, since: 1 / 0, "nonsense": lambda force, x, since: "hot"}

    class Point:
        dist = None

        def __init__(self, name):
            self.name = name

        def load(self):
            return airs[self.name]

    monkeypatch.setattr(own_air, "entry_points", lambda group: [Point(name) for name in airs])
    for kept in (own_air._points, own_air._loaded):
        kept.cache_clear()
    yield
    for kept in (own_air._points, own_air._loaded):
        kept.cache_clear()


def test_air_of_ones_own_blows_as_wind_does_and_says_what_is_wrong_with_it(bellows, tmp_path):
    def blown(**force):
        leaf = Piece(id="a", name="leaf", role="shell", shape=SheetShape(across=3, along=3),
                     place=Place(position=(0.0, 0.5, 0.0), size=(0.1, 0.1, 0.1)))
        fan = Piece(id="f", name="fan", role="force", shape=SphereShape(), force=ForceValues(gusts=0.0, **force))
        scene = Scene(pieces=(leaf, fan), run=RunSettings(last=4, quality="draft"))
        run = SceneRun(scene, {}, tmp_path / str(len(list(tmp_path.iterdir()))), lambda: False)
        return run.layout.skins(list(run.frames(4))[-1].skin)["a"]

    assert (blown(kind="own", own="bellows", speed=6.0) == blown(kind="wind", speed=6.0)).all()
    for name, says in (("broken", "division by zero"), ("nonsense", "fails"), ("gone", "not installed")):
        with pytest.raises(RunError, match=says):
            blown(kind="own", own=name)


def test_a_piece_goes_the_way_of_a_line_at_the_pace_of_its_keys_and_says_when_the_line_is_gone(tmp_path):
    beads = tuple((float(0.5 * np.cos(a)), 0.0, float(0.5 * np.sin(a))) for a in np.linspace(0, 2 * np.pi, 12, False))
    ring = Piece(id="r", name="ring", role="scenery", shape=SheetShape(across=4, along=4),
                 place=Place(position=(0.3, 0.0, 0.1), size=(0.4, 0.4, 0.4)),
                 curves=(Curve(id="c", name="round", beads=beads, closed=True),))
    cart = keyed(TRAY, "place.along", (1, 0.0, "even"), (13, 1.0, "even")).model_copy(update={"moves_along": "r c"})
    run, frames = frames_of(Scene(pieces=(BALL, ring, cart), run=RUN), tmp_path)
    middles = np.array([skin.mean(axis=0) for skin in skins(run, frames, "t")])
    angle = 2.0 * np.pi * np.arange(12) / 12
    assert middles[:, 0] == pytest.approx(0.2 * (np.cos(angle) - 1.0), abs=2e-3)
    assert middles[:, 2] == pytest.approx(0.2 * np.sin(angle), abs=2e-3)
    assert np.ptp(np.array([skin - skin.mean(axis=0) for skin in skins(run, frames, "t")]), axis=0).max() < 1e-6
    turned = pose_at(cart.model_copy(update={"turns_along": True}), run._scene, 4.0)[0]     # a quarter of the round
    assert turned == pytest.approx(Rotation.from_euler("y", -90, degrees=True).as_matrix()
                                   @ pose_at(cart, run._scene, 4.0)[0], abs=2e-2)
    assert pose_at(cart.model_copy(update={"turns_along": True}), run._scene, 1.0)[0] == pytest.approx(
        pose_at(cart, run._scene, 1.0)[0], abs=1e-12)
    assert run_key(run._scene) != run_key(run._scene.with_piece(cart.model_copy(update={"turns_along": True})))
    spot = ring.model_copy(update={"curves": (Curve(id="c", name="spot", beads=(beads[0], beads[0])),)})
    assert pose_at(cart.model_copy(update={"turns_along": True}), run._scene.with_piece(spot), 7.0)[0] == pytest.approx(
        pose_at(cart, run._scene, 1.0)[0], abs=1e-12)
    assert run_key(run._scene) != run_key(run._scene.with_piece(ring.model_copy(update={"curves": (
        Curve(id="c", name="round", beads=beads, closed=False),)})))
    lost = Scene(pieces=(BALL, cart), run=RUN)
    with pytest.raises(RunError, match="line that it moves along is gone"):
        frames_of(lost, tmp_path / "lost")
    (check,) = [check for check in checks_of(lost, {}) if "gone" in check.sentence]
    assert check.mend(lost).piece("t").moves_along == ""
