"""The clock: which frame is shown, and how it goes on while playing."""

import time

from PySide6.QtCore import QObject, QTimer, Signal

from rubberquince.document.scene import Scene
from rubberquince.ui.bench import Bench
from rubberquince.ui.runner import Runner

OTHER_SCENE = "The bake goes on with the scene that it began with; stop it to play the scene as it is now."
TICK = 8                    # ms, finer than any frame rate that can be seen


class Player(QObject):
    """``shown(frame)`` whenever another frame is to be seen; ``changed()`` when playing or baking begins or ends."""

    shown = Signal(int)
    changed = Signal()

    def __init__(self, bench: Bench, runner: Runner) -> None:
        super().__init__()
        self._bench, self._runner = bench, runner
        self.frame = bench.scene.run.first
        self.playing = False
        self.baking = False
        self._due = 0.0
        self._timer = QTimer(self, interval=TICK)
        self._timer.timeout.connect(self._tick)
        runner.ended.connect(self._on_end)
        bench.scene_changed.connect(self._on_scene)

    def go(self, frame: int) -> None:
        """Show a frame within the range."""
        run = self._bench.scene.run
        self.frame = min(max(frame, run.first), run.last)
        self._bench.go_to(self.frame)
        self.shown.emit(self.frame)

    def toggle(self) -> None:
        """Play, computing what is missing; or pause."""
        if self.playing:
            self.pause()
            return
        run = self._bench.scene.run
        if not self._runner.good_up_to(run.last):
            if not self._runner.good(self.frame):
                self.go(run.first)
            if not self._runner.computing:
                self._runner.compute(run.last)
                if not self._runner.computing:
                    return                  # it was not begun, which has been said
            elif self.baking and not self._runner.computes_this:
                self._bench.say(OTHER_SCENE, False)
        elif self.frame >= run.last:
            self.go(run.first)
        self.playing = True
        self._due = time.monotonic()
        self._timer.start()
        self.changed.emit()

    def follow(self) -> None:
        """Play on from the shown frame as frames come."""
        if not self.playing and self._runner.computing:
            self.playing, self._due = True, time.monotonic()
            self._timer.start()
            self.changed.emit()

    def pause(self) -> None:
        self.playing = False
        self._timer.stop()
        if not self.baking:
            self._runner.stop()
        self.changed.emit()

    def bake(self) -> None:
        """Compute the whole range and keep it; playing is another matter."""
        self.baking = True
        self._runner.compute(self._bench.scene.run.last, keep=True)
        self.baking = self._runner.computing
        self.changed.emit()

    def halt(self) -> None:
        """Stop playing, computing and baking."""
        self.baking = False
        self.pause()

    def _tick(self) -> None:
        now = time.monotonic()
        if now < self._due:
            return
        run = self._bench.scene.run
        step = 1.0 / run.fps
        following = self.frame + 1
        if following > run.last:
            if not self._runner.computing:
                self.pause()
            return
        if not self._runner.ready(following):
            if not self._runner.computing:
                self.pause()
            self._due = now
            return
        while self._due + step < now and self._runner.ready(following + 1) and following < run.last:
            following += 1              # the picture takes longer than a frame: skip, but keep the time
            self._due += step
        self._due = max(self._due + step, now - 1.0)
        self.go(following)

    def _on_end(self) -> None:
        self.baking = False
        self.changed.emit()

    def _on_scene(self, before: Scene, after: Scene) -> None:
        if [(p.id, p.place) for p in before.pieces] != [(p.id, p.place) for p in after.pieces]:
            if self.playing:
                self.pause()
            self.go(after.run.first)     # a place is where the run starts: show that
        elif not after.run.first <= self.frame <= after.run.last:
            self.go(self.frame)
