"""Figures of the chosen piece at the shown frame, each with its course up to there."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QGridLayout, QLabel, QWidget

from rubberquince.bake.layout import READINGS
from rubberquince.document.scene import Role
from rubberquince.ui import style
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, label
from rubberquince.units import show

NOTHING = "–"
BEFORE, AFTER = 48, 24      # frames that a trend shows before and after the one that is shown
EVERY: tuple[Role, ...] = ("solid", "shell", "net", "cage", "rigid", "pellets")


@dataclass(frozen=True)
class _Line:
    """A reading: its name and meaning, how it is written, and of which roles it is; ``column`` as in bake.layout."""

    name: str
    meaning: str
    column: str
    write: Callable[[float, str], str]
    roles: tuple[Role, ...] = EVERY


LINES = (
    _Line("Volume", "How much room it takes, against how much at rest: 100 % is as it was made", "volume",
          lambda part, _: f"{100 * part:.1f} %"),
    _Line("Area", "How large the skin is, against how large at rest", "area", lambda part, _: f"{100 * part:.1f} %",
          ("shell",)),
    _Line("Largest stretch", "How much longer its most stretched part is than at rest, along its longest way",
          "stretch", lambda part, _: f"{100 * part:+.0f} %", ("solid", "cage")),
    _Line("Most stretched", "How much longer the most stretched triangle is than at rest", "stretch",
          lambda part, _: f"{100 * part:+.1f} %", ("shell",)),
    _Line("Most squeezed", "How much shorter the most squeezed triangle is than at rest", "squeeze",
          lambda part, _: f"{-100 * part:+.1f} %", ("shell",)),
    _Line("Sharpest fold", "How far the sharpest edge is turned from how it was made", "fold",
          lambda angle, _: f"{math.degrees(angle):.0f}°", ("shell",)),
    _Line("Pressure", "What presses inside at this frame", "pressure", lambda pressure, _: show(pressure, "Pa"),
          ("shell",)),
    _Line("Contact", "How much of its gap the deepest contact uses up: 0 % touches nothing, at 100 % skins would meet",
          "contact", lambda part, _: f"{100 * part:.0f} %"),
    _Line("Fastest point", "Speed of the point that moves fastest: what has settled is below 0.01 m/s", "speed",
          lambda speed, _: f"{speed:.2f} m/s"),
    _Line("Middle height", "Height of its centre of mass above the ground", "height", show),
    _Line("Middle speed", "Speed of its centre of mass", "centre", lambda speed, _: f"{speed:.2f} m/s"),
    _Line("Computed in", "Time that the frame took, all pieces together", "seconds",
          lambda seconds, _: f"{1000 * seconds:.0f} ms" if seconds > 0 else NOTHING),
    _Line("Solver steps", "Iterations of the linear solver in the frame: many of them mean a hard frame", "steps",
          lambda count, _: f"{count:.0f}" if count > 0 else NOTHING))


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
        self._rows: list[tuple[QLabel, Trend, QLabel]] = []
        for number, line in enumerate(LINES):
            title, value, trend = label(line.name), label(NOTHING, "head"), Trend()
            value.setAccessibleName(line.name)
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            for place, widget in enumerate((title, trend, value)):
                widget.setToolTip(line.meaning)
                self._grid.addWidget(widget, number, place)
            self._rows.append((title, trend, value))
        self._grid.setColumnStretch(1, 1)
        self.setLayout(column(self._title, self._grid, gap=7))

    def texts(self) -> dict[str, str]:
        """What is shown, by name."""
        return {line.name: value.text() for line, (_, _, value) in zip(LINES, self._rows) if not value.isHidden()}

    def show_frame(self, number: int, role: Role, rows: np.ndarray, efforts: np.ndarray, stale: bool) -> None:
        """``rows`` (frames, columns) are the readings of the chosen piece in its ``role``, ``efforts`` (frames, 2) of
        the run.
        """
        self._title.setText(f"READINGS · FRAME {number}{' · OUT OF DATE' if stale else ''}")
        columns = dict(zip(READINGS, rows.T)) if len(rows) else {}
        if len(efforts):
            columns |= {"steps": efforts[: len(rows), 0], "seconds": efforts[: len(rows), 1]}
        for line, (title, trend, value) in zip(LINES, self._rows):
            for widget in (title, trend, value):
                widget.setVisible(role in line.roles)
            values = columns.get(line.column, np.zeros(0))
            known = number < len(rows) and number < len(values) and np.isfinite(rows[number]).all()
            value.setText(line.write(float(values[number]), self._bench.scene.length_unit) if known else NOTHING)
            trend.show_values(values, number)
