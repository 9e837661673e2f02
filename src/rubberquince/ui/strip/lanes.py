"""The frame ruler and the curves under it: which frames there are, how the chosen solid fared in them, and how
long they took."""

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QWidget

from rubberquince.ui import style

LEFT, RIGHT, RULER, LANE = 66, 84, 16, 21
MOST_LANES = 4
SCALE_INK = "#9A9180"
KNOWN, GOOD = 1, 2          # states of a frame; 0 = not there


@dataclass(frozen=True)
class Lane:
    """A curve: its name, colour, values (frames,) by frame number, and the range that is always shown."""

    name: str
    colour: str
    values: np.ndarray
    low: float
    high: float
    show: Callable[[float], str] = str

    def bounds(self, first: int, last: int) -> tuple[float, float]:
        """The values at its foot and its head between two frames."""
        values = self.values[first:last + 1]
        real = values[np.isfinite(values)]
        return min(self.low, float(real.min(initial=self.low))), max(self.high, float(real.max(initial=self.high)))


class Lanes(QWidget):
    """``scrubbed(frame)`` when the pointer or a key asks for another frame."""

    scrubbed = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.first, self.last, self.frame = 1, 120, 1
        self.states = np.zeros(0, np.int8)
        self.lanes: list[Lane] = []
        self._picture: QPixmap | None = None
        self._under: int | None = None                  # the frame under the pointer
        self.setMouseTracking(True)
        self.setMinimumHeight(RULER + MOST_LANES * LANE + 4)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Frames")
        self.setToolTip("Inked frames are computed, hatched ones are out of date. Drag to scrub.")

    def show_run(self, first: int, last: int, states: np.ndarray, lanes: list[Lane]) -> None:
        """``states`` (frames,) by frame number from 0 on."""
        self.first, self.last, self.states, self.lanes = first, max(last, first), states, lanes
        self._picture = None
        self.update()

    def show_frame(self, frame: int) -> None:
        self.frame = frame
        self.update()

    def _x(self, frame: float) -> float:
        return LEFT + (self.width() - LEFT - RIGHT) * (frame - self.first + 0.5) / (self.last - self.first + 1)

    # --- painting -------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._picture is None or self._picture.deviceIndependentSize().toSize() != self.size():
            self._picture = self._paint_all()
        painter = QPainter(self)
        painter.drawPixmap(0, 0, self._picture)
        _write_small(painter)
        self._paint_playhead(painter)
        if self._under is not None:
            self._paint_values(painter, self._under)
        painter.end()

    def _paint_all(self) -> QPixmap:
        """All but the playhead; kept, as it changes far less often."""
        ratio = self.devicePixelRatioF()
        picture = QPixmap(self.size() * ratio)
        picture.setDevicePixelRatio(ratio)
        picture.fill(Qt.GlobalColor.transparent)
        painter = QPainter(picture)
        _write_small(painter)
        self._paint_ruler(painter)
        for k, lane in enumerate(self.lanes):
            self._paint_lane(painter, lane, RULER + 2 + k * LANE)
        painter.end()
        return picture

    def _paint_ruler(self, painter: QPainter) -> None:
        left, right = self._x(self.first - 0.5), self._x(self.last + 0.5)
        painter.setPen(QColor(style.SOFT_INK))
        painter.drawText(QRectF(12, 0, LEFT - 18, RULER), Qt.AlignmentFlag.AlignVCenter, "frames")
        painter.fillRect(QRectF(left, 1, right - left, RULER - 3), QColor("#EDE8DC"))
        states = np.zeros(self.last + 1, np.int8)
        states[: min(len(self.states), self.last + 1)] = self.states[: self.last + 1]
        states = states[self.first:]
        edges = np.flatnonzero(np.diff(states, prepend=-1, append=-1))
        for a, b in pairwise(edges):
            begin, end = self._x(self.first + a - 0.5), self._x(self.first + b - 0.5)
            box = QRectF(begin, 1, end - begin, RULER - 3)
            if states[a] == GOOD:
                painter.fillRect(box, QColor("#DCC484"))
            elif states[a] == KNOWN:
                painter.fillRect(box, QColor("#F4EBD0"))
                painter.fillRect(box, QBrush(QColor("#C8AC63"), Qt.BrushStyle.BDiagPattern))
        painter.setPen(QColor("#8A8272"))
        step = next(s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000, 100_000)
                    if s * (right - left) / (self.last - self.first + 1) > 44)
        for frame in range(-(-self.first // step) * step, self.last + 1, step):
            left = min(self._x(frame) - 20, self.width() - RIGHT - 30)
            painter.drawText(QRectF(left, 0, 40, RULER - 1), Qt.AlignmentFlag.AlignCenter, str(frame))

    def _paint_lane(self, painter: QPainter, lane: Lane, top: float) -> None:
        painter.setPen(QColor(style.SOFT_INK))
        painter.drawText(QRectF(12, top, LEFT - 14, LANE), Qt.AlignmentFlag.AlignVCenter, lane.name)
        painter.setPen(QPen(QColor("#E9E3D5"), 1))
        painter.drawLine(QPointF(LEFT, top + LANE - 0.5), QPointF(self.width() - RIGHT, top + LANE - 0.5))
        values = lane.values[self.first:self.last + 1]
        real = np.isfinite(values)
        if not real.any():
            return
        low, high = lane.bounds(self.first, self.last)
        painter.setPen(QColor(SCALE_INK))
        right = QRectF(self.width() - RIGHT + 6, top, RIGHT - 8, LANE)
        number = lane.show(low).split(" ")[0]
        painter.drawText(right, Qt.AlignmentFlag.AlignVCenter, f"{number} – {lane.show(high)}")
        path, pen_down = QPainterPath(), False
        for k, value in enumerate(values):
            if not real[k]:
                pen_down = False
                continue
            share = (float(value) - low) / max(high - low, 1e-12)
            at = QPointF(self._x(self.first + k), top + 3 + (LANE - 6) * (1 - share))
            path.lineTo(at) if pen_down else path.moveTo(at)
            pen_down = True
        painter.setPen(QPen(QColor(lane.colour), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)

    def _paint_playhead(self, painter: QPainter) -> None:
        x = self._x(self.frame)
        painter.setPen(QPen(QColor(style.INK), 1.4))
        painter.drawLine(QPointF(x, RULER - 2), QPointF(x, self.height() - 2))
        box = QRectF(min(max(x - 15, 0), self.width() - 30), 0, 30, RULER - 1)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(style.INK))
        painter.drawRoundedRect(box, 3, 3)
        painter.setPen(QColor("white"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(self.frame))

    def _paint_values(self, painter: QPainter, frame: int) -> None:
        """The value of each lane at the frame under the pointer."""
        x = self._x(frame)
        painter.setPen(QPen(QColor(style.SOFT_INK), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, RULER), QPointF(x, self.height() - 2))
        for k, lane in enumerate(self.lanes):
            value = lane.values[frame] if frame < len(lane.values) else np.nan
            if np.isfinite(value):
                text = f"{frame}: {lane.show(float(value))}"
                wide = painter.fontMetrics().horizontalAdvance(text) + 10
                left = x + 5 if x + 5 + wide < self.width() - RIGHT else x - 5 - wide
                box = QRectF(left, RULER + 6 + k * LANE, wide, 16)
                painter.setPen(QColor(style.LINE))
                painter.setBrush(QColor(style.CARD))
                painter.drawRoundedRect(box, 4, 4)
                painter.setPen(QColor(style.INK))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    # --- scrubbing ------------------------------------------------------------------------------------

    def _scrub(self, x: float) -> None:
        self.scrubbed.emit(self._frame_at(x))

    def _frame_at(self, x: float) -> int:
        width = max(self.width() - LEFT - RIGHT, 1)
        frame = self.first + int(np.floor((x - LEFT) / width * (self.last - self.first + 1)))
        return min(max(frame, self.first), self.last)

    def leaveEvent(self, event: QEvent) -> None:
        self._under = None
        self.update()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._scrub(event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._under = self._frame_at(event.position().x())
        self.update()
        if event.buttons() & Qt.MouseButton.LeftButton:
            self._scrub(event.position().x())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_PageUp: -10, Qt.Key.Key_PageDown: 10}
        key = Qt.Key(event.key())
        if key in steps:
            self.scrubbed.emit(min(max(self.frame + steps[key], self.first), self.last))
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.scrubbed.emit(self.first if key == Qt.Key.Key_Home else self.last)
        else:
            super().keyPressEvent(event)


def _write_small(painter: QPainter) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    font = painter.font()
    font.setPixelSize(11)
    painter.setFont(font)
