"""A run of a scene, frame by frame, kept in a cache and able to go on where it was left."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rubberquince.bake.assemble import assemble, material_of, run_key, topology_key, touch_of
from rubberquince.bake.cache import MIXED, CacheWriter, FrameCache
from rubberquince.bake.readings import Measure
from rubberquince.document.bodies import Meshes
from rubberquince.document.scene import Scene
from rubberquince.solver.state import State
from rubberquince.solver.stepper import Stepper


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
    """Computes the frames of a scene in order.  Build it once; values may change while it runs."""

    def __init__(self, scene: Scene, meshes: Meshes, folder: Path, stop: Callable[[], bool]) -> None:
        self.topology = topology_key(scene)
        self._assembly = assemble(scene, meshes)
        self._stepper = Stepper(self._assembly.spec, stop)
        self._measure = Measure(self._stepper)
        self._start = self._stepper.state.copy()
        self._folder = folder
        self._scene = scene
        self._key = run_key(scene)
        self._pure = True
        self.points = self._stepper.world.skin.moving
        self.layout = {"points": self.points, "state": len(self._start.packed()), "solids": len(self._assembly.solids)}

    def open_cache(self, frames: int) -> FrameCache:
        return FrameCache(self._folder, self.layout, frames)

    def change(self, scene: Scene) -> None:
        """Write changed values into the running arrays; frames from here on are marked as mixed."""
        if run_key(scene) == self._key:
            return
        self._key, self._scene, self._pure = run_key(scene), scene, False
        for k, piece in enumerate([p for p in scene.pieces if p.role == "solid"]):
            self._stepper.set_material(k, material_of(piece.solid))
            self._stepper.set_weight(k, piece.solid.weight)
        touching = [p for role in ("solid", "collider") for p in scene.pieces if p.role == role]
        for k, piece in enumerate(touching):
            self._stepper.set_touch(k, touch_of(piece))
        self._stepper.set_gravity(scene.run.gravity)
        self._stepper.set_ground_friction(scene.run.ground_friction)

    def frames(self, last: int) -> Iterator[Frame]:
        """Frames after the last good one in the cache, up to ``last``; each is on its way to disk.

        Raises Stopped within a frame when asked to stop, RunError when the disk fails.
        """
        first = self._scene.run.first
        self._pure = True
        cache = self.open_cache(last + 1)
        good = cache.last_good(first, self._key)
        writer = CacheWriter(cache)
        try:
            if good is None:
                self._stepper.restore(self._start.copy())
                yield self._keep(writer, first, 0.0)
                good = first
            else:
                state = cache.state(good)
                assert state is not None
                self._stepper.restore(State.unpacked(state))
            for number in range(good + 1, last + 1):
                began = time.perf_counter()
                self._stepper.frame()
                yield self._keep(writer, number, time.perf_counter() - began)
        finally:
            writer.close()

    def _keep(self, writer: CacheWriter, number: int, seconds: float) -> Frame:
        skin = self._stepper.skin()
        rows = self._measure.row(skin)
        effort = np.array([self._stepper.effort.linear, seconds])
        frame = Frame(number, self._key if self._pure else MIXED, skin.astype(np.float32), rows, effort)
        writer.put(number, frame.stamp, frame.skin, self._stepper.state.packed(), rows, effort)
        return frame
