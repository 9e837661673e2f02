"""Figures of the chosen solid at the shown frame, each with its course up to there."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from rubberquince.ui import style
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, label
from rubberquince.units import show

NOTHING = "–"
BEFORE, AFTER = 48, 24      # frames that a trend shows before and after the one that is shown
MEANINGS = (
    ("Volume", "How much room it takes, against how much at rest: 100 % is as it was made"),
    ("Largest stretch", "How much longer the most stretched cell is than at rest, along its longest way"),
    ("Contact", "How much of its gap the deepest contact uses up: 0 % touches nothing, 100 % would be skin on skin"),
    ("Fastest point", "Speed of the point that moves fastest: what has settled is below 0.01 m/s"),
    ("Middle height", "Height of its centre of mass above the ground"),
    ("Middle speed", "Speed of its centre of mass"),
    ("Computed in", "Time that the frame took, all pieces together"),
    ("Solver steps", "Iterations of the linear solver in the frame: many of them mean a hard frame"))


class Trend(QWidget):
    """A small curve of a reading around the shown frame."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(46, 16)
        self._values, self._now = np.zeros(0), 0

    def show_values(self, values: np.ndarray, frame: int) -> None:
        """``values`` (frames,) by frame number."""
        first = max(frame - BEFORE, 0)
        self._values, self._now = values[first:frame + AFTER], frame - first
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        real = np.isfinite(self._values)
        if real.sum() < 2:
            return
        low, high = float(self._values[real].min()), float(self._values[real].max())
        across = (self.width() - 6) / max(BEFORE + AFTER, 1)
        left = 3 + across * max(BEFORE - self._now, 0)
        points = [QPointF(left + across * k, 3 + (self.height() - 6) * (1 - (v - low) / max(high - low, 1e-12)))
                  for k, v in enumerate(self._values) if np.isfinite(v)]
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(style.SOFT_INK), 1.2))
        painter.drawPolyline(QPolygonF(points))
        here = int(real[: self._now + 1].sum()) - 1
        if 0 <= here < len(points):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(style.QUINCE))
            painter.drawEllipse(points[here], 2.4, 2.4)
        painter.end()


class Readings(QWidget):
    """One line a reading; see bake.layout.READINGS."""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self._bench = bench
        self._title = label("READINGS", "caption")
        self._grid = QGridLayout()
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setVerticalSpacing(7)
        self._values: dict[str, QLabel] = {}
        self._trends: list[Trend] = []
        for line, (name, meaning) in enumerate(MEANINGS):
            title, value, trend = label(name), label(NOTHING, "head"), Trend()
            value.setAccessibleName(name)
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            for place, widget in enumerate((title, trend, value)):
                widget.setToolTip(meaning)
                self._grid.addWidget(widget, line, place)
            self._values[name] = value
            self._trends.append(trend)
        self._grid.setColumnStretch(1, 1)
        self.setLayout(column(self._title, self._grid, gap=7))

    def show_frame(self, number: int, rows: np.ndarray, efforts: np.ndarray, stale: bool) -> None:
        """``rows`` (frames, columns) are the readings of the chosen solid, ``efforts`` (frames, 2) of the run."""
        self._title.setText(f"READINGS · FRAME {number}{' · OUT OF DATE' if stale else ''}")
        texts = [NOTHING] * len(self._values)
        if number < len(rows) and np.isfinite(rows[number]).all():
            volume, stretch, contact, speed, height, centre = map(float, rows[number])
            texts[:6] = (f"{100 * volume:.1f} %", f"{100 * stretch:+.0f} %", f"{100 * contact:.0f} %",
                         f"{speed:.2f} m/s", show(height, self._bench.scene.length_unit), f"{centre:.2f} m/s")
            if number < len(efforts) and efforts[number, 1] > 0:
                texts[6:] = f"{1000 * efforts[number, 1]:.0f} ms", f"{efforts[number, 0]:.0f}"
        for value, text in zip(self._values.values(), texts):
            value.setText(text)
        columns = [*rows.T, efforts[: len(rows), 1], efforts[: len(rows), 0]] if len(rows) else []
        for k, trend in enumerate(self._trends):
            trend.show_values(columns[k] if k < len(columns) else np.zeros(0), number)
