"""The bakes that are kept of the open scene: how old and how large they are, and a button to clear each."""

import time

from PySide6.QtWidgets import QDialog, QGridLayout, QPushButton, QWidget

from rubberquince.bake.folders import Bake, bakes_in, throw_away
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, empty, label
from rubberquince.ui.runner import Runner


def age(seconds: float) -> str:
    """How long ago, in words: "5 min ago"."""
    for length, unit in ((86400.0, "days"), (3600.0, "h"), (60.0, "min")):
        if seconds >= length:
            return f"{seconds / length:.0f} {unit} ago"
    return "just now"


def size(count: int) -> str:
    """Bytes in words: "12 MB"."""
    return f"{count / 1e9:.1f} GB" if count >= 1e9 else f"{max(count / 1e6, 0.1):.2g} MB" if count < 1e7 else \
        f"{count / 1e6:.0f} MB"


class BakesDialog(QDialog):
    """One line a bake, the newest first."""

    def __init__(self, parent: QWidget, bench: Bench, runner: Runner) -> None:
        super().__init__(parent)
        self._bench, self._runner = bench, runner
        self.setWindowTitle("Kept bakes")
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(20)
        where = label(f"They are kept in {runner.bakes()}.", "small", wrap=True)
        self.setLayout(column(self._grid, where, margins=(24, 20, 24, 20), gap=14))
        self.setMinimumWidth(440)
        self._show()

    def _show(self) -> None:
        empty(self._grid)
        bakes = bakes_in(self._runner.bakes())
        if not bakes:
            self._grid.addWidget(label("No bake is kept of this scene.", "soft"), 0, 0)
        for line, bake in enumerate(bakes):
            of = "of the scene as it is" if bake.key == self._runner.key else "of an earlier state"
            texts = (f"{bake.frames} frames", of, age(time.time() - bake.made), size(bake.bytes))
            for place, text in enumerate(texts):
                self._grid.addWidget(label(text, "head" if place == 0 else "soft"), line, place)
            clear = QPushButton("Clear")
            clear.setAccessibleName(f"Clear the bake of {bake.frames} frames, {of}")
            clear.clicked.connect(lambda _, bake=bake: self._clear(bake))
            self._grid.addWidget(clear, line, len(texts))

    def _clear(self, bake: Bake) -> None:
        if throw_away(bake.folder):
            self._runner.look_again()
        else:
            self._bench.say("This bake is being computed; stop it first.")
        self._show()
