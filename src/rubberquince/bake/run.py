"""A run of a scene, frame by frame, kept in a cache and able to go on where it was left."""

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.bake.assemble import (
    assemble,
    carrier_key,
    drawn,
    goal_for,
    inflation_of,
    material_of,
    rest_of,
    touch_of,
)
from rubberquince.bake.cache import MIXED, CacheWriter, FrameCache
from rubberquince.bake.fields import forces_at
from rubberquince.bake.folders import locked
from rubberquince.bake.keys import run_key, topology_key
from rubberquince.bake.layout import Entry, Layout
from rubberquince.bake.readings import Measure
from rubberquince.bake.riders import riders_of
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Piece, Scene
from rubberquince.document.tracks import scene_at
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.state import State

JAMMED = 1e-3               # m, behind what keys say


@dataclass(frozen=True, eq=False)
class Frame:
    """One computed frame: skin points (n, 3) float32 m, readings (solids, columns).

    effort (2,): iterations of the linear solver and seconds that it took.
    """

    number: int
    stamp: int
    skin: np.ndarray
    readings: np.ndarray
    effort: np.ndarray


class SceneRun:
    """Computes the frames of a scene in order.  Build it once; values may change while it runs.

    ``folder`` is where frames are kept; ``note`` is a sentence on what was found damaged there.
    """

    def __init__(self, scene: Scene, meshes: Meshes, folder: Path, stop: Callable[[], bool],
                 tell: Callable[[float], None] = lambda share: None) -> None:
        self.topology, self.folder, self.note = topology_key(scene), folder, ""
        self._assembly = assemble(scene, meshes, stop)
        self._stepper = IslandStepper(self._assembly.spec, stop, tell)
        self._measure = Measure(self._stepper)
        self._start = self._stepper.state.copy()
        self._scene, self._meshes = scene, meshes
        self._key = run_key(scene)
        self._pure, self._tugged = True, ""
        self._jams, self.jam = False, ""
        self._riders = riders_of(scene, meshes, self._assembly, self._stepper)
        entries = [Entry(piece.id, piece.role, carrier.points, len(carrier.start),
                         carrier_key(piece, meshes, scene.run.quality) if piece.moves else "")
                   for piece, carrier in zip(self._assembly.bodies, self._stepper.world.carriers)]
        entries += [Entry(rider.piece.id, rider.piece.role, len(rider.points), 0, "") for rider in self._riders]
        self.layout = Layout(tuple(entries), len(self._start.packed()))
        self.points = self.layout.points

    def change(self, scene: Scene) -> None:
        """Write changed values into the running arrays; frames from here on are marked as mixed."""
        if run_key(scene) == self._key:
            return
        self._key, self._scene, self._pure = run_key(scene), scene, False
        self._write(scene_at(scene, scene.run.first), lambda piece, section: True)
        self._set_forces(scene.run.first)
        for k, piece in enumerate(scene.piece(one.id) for one in self._assembly.bodies):
            rest = rest_of(piece, scene, self._meshes)
            if rest is not None:
                self._stepper.set_rest(k, rest)
        for k, seam in enumerate(scene.sewn()):
            self._stepper.set_seam(k, *drawn(seam, scene))

    def _write(self, scene: Scene, wanted: Callable[[Piece, str], bool]) -> None:
        """Write the values of the ``wanted`` pieces and sections of a scene into the running arrays."""
        now, stepper, meshes = {piece.id: piece for piece in scene.pieces}, self._stepper, self._meshes
        for k, piece in enumerate(now[p.id] for p in self._assembly.bodies + self._assembly.colliders):
            if wanted(piece, "contact"):
                stepper.set_touch(k, touch_of(piece, scene, meshes))
            if not piece.moves:
                continue
            if wanted(piece, piece.made_of_name) or wanted(piece, "braces"):
                stepper.set_material(k, material_of(piece, scene, meshes))
                stepper.set_weight(k, piece.made_of.weight)
            if wanted(piece, "goal") and (goal := goal_for(piece, scene, meshes)) is not None:
                stepper.set_goal(k, goal)
            if wanted(piece, "pressure"):
                stepper.set_inflation(k, inflation_of(piece, scene, meshes))
        stepper.set_gravity(scene.run.gravity, scene.run.pulls())
        stepper.set_ground_friction(scene.run.ground_friction)

    def _set_forces(self, number: int) -> None:
        self._stepper.set_forces(forces_at(self._scene, number, self._assembly.bodies, self._assembly.colliders))

    def _write_keyed(self, number: int) -> None:
        """Make keyed values those of frame ``number``."""
        self._set_forces(number)
        if self._scene.tracks or any(piece.tracks for piece in self._scene.pieces):
            self._write(scene_at(self._scene, number), lambda piece, section: any(
                track.of.startswith(f"{section}.") for track in piece.tracks))

    @property
    def tugs(self) -> bool:
        return self._tugged != ""

    @property
    def pull(self) -> float:
        """What a tug pulls with, N."""
        return self._stepper.tug_force

    def tug(self, piece: str, place: np.ndarray, target: np.ndarray | None) -> None:
        """Pull at a ``place`` (3,), m, of a piece towards a ``target``, or let go; frames from here on are marked."""
        number = next((k for k, p in enumerate(self._assembly.bodies) if p.id == piece and p.moves), None)
        if number is None:
            return
        self._stepper.tug(number, place, target, begins=self._tugged != piece)
        self._tugged = piece if target is not None else ""
        self._pure = False

    def frames(self, last: int) -> Iterator[Frame]:
        """Frames after the last good one in the cache, up to ``last``; each is on its way to disk.

        Raises Stopped within a frame when asked to stop, RunError when the disk fails.
        """
        with self.recording(last) as frames:
            yield from frames

    @contextmanager
    def recording(self, last: int, after: int | None = None) -> Iterator[Iterator[Frame]]:
        """The same frames, with the cache open to readers.  When it ends, what was computed is on disk.

        Frames beyond ``after`` are computed anew.
        """
        with locked(self.folder):
            cache = FrameCache(self.folder, self.layout, last + 1)
            self.tug(self._tugged, np.zeros(3), None)       # one that was still held when the run before was stopped
            self._pure, self._jams = True, False
            good = cache.last_good(self._scene.run.first, self._key)
            self.note = _damage(cache, good, self._key)
            if good is not None and after is not None:
                good = max(min(good, after), self._scene.run.first)
            writer = CacheWriter(cache)
            try:
                yield self._frames(cache, writer, good, last)
            finally:
                writer.close()
            writer.check()

    def _frames(self, cache: FrameCache, writer: CacheWriter, good: int | None, last: int) -> Iterator[Frame]:
        if good is None:
            self._stepper.restore(self._start.copy())
            good = self._scene.run.first
            self._write_keyed(good)
            yield self._keep(writer, good, 0.0)
        else:
            state = cache.state(good)
            assert state is not None
            self._stepper.restore(State.unpacked(state))
        for number in range(good + 1, last + 1):
            began = time.perf_counter()
            self._write_keyed(number)
            self._stepper.frame((number - 1 - self._scene.run.first) / self._scene.run.fps)
            yield self._keep(writer, number, time.perf_counter() - began)

    def _keep(self, writer: CacheWriter, number: int, seconds: float) -> Frame:
        skin = self._stepper.skin()
        rows = self._measure.row()
        if self._riders:
            since = (number - self._scene.run.first) / self._scene.run.fps
            skin = np.concatenate([skin, *(rider.skin(self._stepper.state.x, since) for rider in self._riders)])
            rows = np.concatenate([rows, np.zeros((len(self._riders), rows.shape[1]))])
        self._look_for_jams(number)
        effort = np.array([self._stepper.effort.linear, seconds])
        frame = Frame(number, self._key if self._pure else MIXED, skin.astype(np.float32), rows, effort)
        writer.put(number, frame.stamp, frame.skin, self._stepper.state.packed(), rows, effort)
        return frame


    def _look_for_jams(self, number: int) -> None:
        """Say, once in a run, that something does not let a piece go where its keys lead it."""
        behind = self._stepper.behind()
        if self._jams or not len(behind) or behind.max() < JAMMED:
            return
        self._jams = True
        name, far = self._assembly.bodies[int(behind.argmax())].name, 1000.0 * float(behind.max())
        self.jam = (f"{name} cannot go where its keys lead it: at frame {number} something is in its way, and it is "
                    f"{far:.3g} mm behind.")

    def take_jam(self) -> str:
        """What is to be said of that, "" for nothing or when it was said."""
        said, self.jam = self.jam, ""
        return said


def _damage(cache: FrameCache, good: int | None, key: int) -> str:
    """A sentence when frames that were computed from this very scene are not whole."""
    if cache.damaged:
        return "The frames on disk were damaged; they are computed again."
    after = 0 if good is None else good + 1
    return (f"Frame {after} on disk was damaged; it is computed again, with those after it."
            if good is not None and (cache.stamps()[after:] == key).any() else "")
