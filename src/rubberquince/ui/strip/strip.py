"""The run strip: playing, the range, the quality, baking, and the lanes."""

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtWidgets import QComboBox, QFrame, QProgressBar, QPushButton

from rubberquince.bake.folders import Bake, bake_folder, bakes_in
from rubberquince.ui import style
from rubberquince.ui.bakes import age, size
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import WholeEdit
from rubberquince.ui.parts import calm, column, icon, label, row
from rubberquince.ui.runner import Runner
from rubberquince.ui.strip.keys import KeyEditor, key_lanes
from rubberquince.ui.strip.lanes import FEWEST, GOOD, KNOWN, Lane, Lanes
from rubberquince.ui.strip.player import Player

CALM = 90                   # ms between two looks at a run that goes on
QUALITIES = {"draft": "quick, for finding values; wider cells where there are many",
             "good": "finer in time, for most bakes", "sure": "careful, for the last bake"}


class Strip(QFrame):
    """Shows what the runner and the player know, and hands them what is pressed."""

    def __init__(self, bench: Bench, runner: Runner, player: Player) -> None:
        super().__init__()
        self._bench, self._runner, self._player = bench, runner, player
        self._kept: Bake | None = None
        self._kept_folder: Path | None = None
        self.setObjectName("strip")
        self.setMinimumHeight(152)
        self.first = _bare("first", "To the first frame", player.go, bench)
        self.play = QPushButton(icon("play", 16), "")
        self.play.setFixedSize(34, 34)
        self.play.setObjectName("play")
        self.play.clicked.connect(player.toggle)
        self.stop = QPushButton(icon("stop", 14), "")
        self.stop.setObjectName("bare")
        self.stop.setFixedSize(28, 28)
        self.stop.setAccessibleName("Stop")
        self.stop.setToolTip("Stop playing and computing")
        self.stop.clicked.connect(player.halt)
        self.frame = self._number("Frame", player.go)
        self.range_first = self._number("First frame", lambda n: self._set("change the range", "run.first", n))
        self.range_last = self._number("Last frame", lambda n: self._set("change the range", "run.last", n))
        self.fps = self._number("Frames a second",
                                lambda n: self._set("change frames a second", "run.fps", float(n)), 1, 240)
        self.quality = calm(QComboBox())
        self.quality.setAccessibleName("Quality")
        for key, tip in QUALITIES.items():
            self.quality.addItem(key, key)
            self.quality.setItemData(self.quality.count() - 1, tip, 3)
        self.quality.setToolTip("How carefully the run is computed")
        self.quality.activated.connect(lambda _: self._set("change quality", "run.quality", self.quality.currentData()))
        self.status = label("", "soft")
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(120)
        self.progress.setAccessibleName("Progress")
        self.bake = QPushButton("Bake")
        self.bake.setObjectName("main")
        self.bake.clicked.connect(lambda: player.halt() if player.baking else player.bake())
        line = row(self.first, self.play, self.stop, self.frame, label("of", "soft"), self.range_first,
                   label("–", "soft"), self.range_last, label("at", "soft"), self.fps, label("fps", "soft"),
                   self.quality, margins=(12, 6, 12, 0), gap=7)
        line.addStretch(1)
        for widget in (self.status, self.progress, self.bake):
            line.addWidget(widget)
        self.lanes = Lanes()
        self.lanes.scrubbed.connect(self._scrub)
        self.keys = KeyEditor(bench, self.lanes)
        self.lanes.keyed.connect(self.keys.take)
        self.lanes.swept.connect(self.keys.sweep)
        self.lanes.asked.connect(self.keys.ask)
        self.lanes.dropped.connect(self.keys.drop)
        self.setLayout(column(line, self.lanes, gap=4))
        self._soon = QTimer(self, singleShot=True, interval=CALM)
        self._soon.timeout.connect(self.refresh)
        runner.progressed.connect(lambda: self._follow(runner.computing))
        bench.scene_changed.connect(lambda *_: self._follow(False))
        for signal in (player.changed, bench.chose):
            signal.connect(self.refresh)
        player.shown.connect(self._show_frame)

    def _number(self, name: str, take: Callable[[int], object], low: int = 0, high: int = 100_000) -> WholeEdit:
        box = WholeEdit(name, low, high)
        box.setAlignment(Qt.AlignmentFlag.AlignCenter)
        box.setFixedWidth(50)
        box.chosen.connect(take)
        box.refused.connect(self._bench.say)
        return box

    def _follow(self, computing: bool) -> None:
        """While frames come, or beads of the brush, the lanes are drawn some times a second, not with each of them."""
        if not (computing or self._bench.document.in_haste):
            self.refresh()
        elif not self._soon.isActive():
            self._soon.start()

    def refresh(self) -> None:
        """Show the state of everything."""
        self._soon.stop()
        run, player = self._bench.scene.run, self._player
        for box, value in ((self.frame, player.frame), (self.range_first, run.first), (self.range_last, run.last),
                           (self.fps, round(run.fps))):
            box.set_value(value)
        self.quality.setCurrentIndex(self.quality.findData(run.quality))
        self.play.setIcon(icon("pause" if player.playing else "play", 16))
        self.play.setAccessibleName("Pause" if player.playing else "Play")
        self.play.setToolTip("Pause (Space)" if player.playing else "Play, computing what is missing (Space)")
        self.bake.setText("Stop" if player.baking else f"Bake {run.first} – {run.last}")
        self.bake.setEnabled(player.baking or not (self._runner.good_up_to(run.last) and self._runner.is_kept))
        self._show_progress()
        self._show_lanes()

    def _show_frame(self, frame: int) -> None:
        self.frame.set_value(frame)
        self.lanes.show_frame(frame)

    def _show_progress(self) -> None:
        runner = self._runner
        if runner.computing:
            self._kept_folder = None
        self.progress.setVisible(runner.computing)
        text = runner.status
        if runner.computing and not text:
            left = runner.left()
            text = "computing" if left is None else f"about {_duration(left)} left"
        elif not runner.computing and runner.good_up_to(self._bench.scene.run.last):
            text = self._bake_text()
        elif not runner.computing and (cost := runner.expected(self._bench.scene.run.last)) is not None:
            text = f"to bake: about {_duration(cost[0])}, {max(cost[1] / 1e6, 1):.0f} MB"
        self.status.setText(text)
        waits = runner.computing and bool(runner.status)
        self.progress.setRange(0, 0 if waits else 1000)
        if not waits:
            self.progress.setValue(round(1000 * runner.share()))

    def _bake_text(self) -> str:
        """That all is computed, and of a kept bake how old and how large it is."""
        store = self._runner.store
        kept = bake_folder(self._runner.bakes(), self._runner.key)
        if store is None or store.folder != kept:
            return "all frames are computed"
        if kept != self._kept_folder:           # looking through a folder is not for every frame
            self._kept_folder = kept
            self._kept = next((bake for bake in bakes_in(kept.parent) if bake.folder == kept), None)
        if self._kept is None:
            return "all frames are baked"
        return f"baked {age(time.time() - self._kept.made)} · {size(self._kept.bytes)}"

    def _show_lanes(self) -> None:
        run, runner = self._bench.scene.run, self._runner
        stamps = runner.stamps()
        states = np.where(stamps == 0, 0, np.where(stamps == runner.key, GOOD, KNOWN)).astype(np.int8)
        rows = runner.readings(self._reading_piece())
        values = rows.T if rows.size else np.full((6, 1), np.nan)
        lanes = [Lane("volume", style.LEAF, values[0], 0.9, 1.05, lambda part: f"{100 * part:.0f} %"),
                 Lane("motion", style.SLATE, values[3], 0.0, 0.2, lambda speed: f"{speed:.2g} m/s"),
                 Lane("contact", style.CLAY, values[2], 0.0, 1.0, lambda part: f"{100 * part:.0f} %"),
                 Lane("time", style.SOFT_INK, runner.seconds(), 0.0, 0.1, lambda seconds: f"{1000 * seconds:.0f} ms")]
        keyed = key_lanes(self._bench.keyed, self._bench.scene)
        lanes = keyed + lanes[: max(FEWEST - len(keyed), 1)]
        self.lanes.show_run(run.first, run.last, states, lanes)
        self.lanes.show_frame(self._player.frame)

    def _reading_piece(self) -> str:
        """The chosen piece if it moves, or the first that does."""
        chosen = self._bench.chosen
        if chosen is not None and chosen.moves:
            return chosen.id
        return next((p.id for p in self._bench.scene.pieces if p.moves), "")

    def _scrub(self, frame: int) -> None:
        if self._player.playing:
            self._player.pause()
        self._player.go(frame)

    def _set(self, what: str, path: str, value: object) -> None:
        self._bench.set_value(what, path, value)
        self.refresh()


def _bare(mark: str, tip: str, go: Callable[[int], None], bench: Bench) -> QPushButton:
    button = QPushButton(icon(mark, 14), "")
    button.setObjectName("bare")
    button.setFixedSize(28, 28)
    button.setIconSize(QSize(14, 14))
    button.setAccessibleName(tip)
    button.setToolTip(tip)
    button.clicked.connect(lambda: go(bench.scene.run.first))
    return button


def _duration(seconds: float) -> str:
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5400 else f"{seconds / 3600:.1f} h"
