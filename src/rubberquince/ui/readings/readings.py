"""Figures of the chosen solid at the shown frame."""

import numpy as np
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, label
from rubberquince.units import show

NOTHING = "–"


class Readings(QWidget):
    """One line a reading; see bake.cache.READINGS."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self._title = label("READINGS", "caption")
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(7)
        self._values: dict[str, QLabel] = {}
        for line, (name, tip) in enumerate((
                ("Volume", "relative to rest"), ("Largest stretch", "of any cell, along any direction"),
                ("Contact", "part of the gap used up by the deepest contact"),
                ("Fastest point", "speed of the fastest point"), ("Middle height", "of its centre of mass"),
                ("Middle speed", "of its centre of mass"),
                ("Computed in", "time for the frame, all solids together"),
                ("Solver steps", "iterations of the linear solver in the frame"))):
            title, value = label(name), label(NOTHING, "head")
            value.setAccessibleName(name)
            title.setToolTip(tip)
            self._grid.addWidget(title, line, 0)
            self._grid.addWidget(value, line, 1)
            self._grid.setColumnStretch(0, 1)
            self._values[name] = value
        self.setLayout(column(self._title, self._grid, gap=7))

    def show_frame(self, number: int, row: np.ndarray | None, effort: np.ndarray, stale: bool) -> None:
        """``row`` are the readings (columns,) of the chosen solid, None where there are none."""
        self._title.setText(f"READINGS · FRAME {number}{' · OUT OF DATE' if stale else ''}")
        texts = [NOTHING] * len(self._values)
        if row is not None and np.isfinite(row).all():
            volume, stretch, contact, speed, height, centre = map(float, row)
            texts = [f"{100 * volume:.1f} %", f"{100 * stretch:+.0f} %", f"{100 * contact:.0f} % of gap",
                     f"{speed:.2f} m/s", show(height, self._bench.scene.length_unit), f"{centre:.2f} m/s",
                     NOTHING, NOTHING]
        if row is not None and np.isfinite(effort).all() and effort[1] > 0:
            texts[-2:] = f"{1000 * effort[1]:.0f} ms", f"{effort[0]:.0f}"
        for value, text in zip(self._values.values(), texts):
            value.setText(text)
