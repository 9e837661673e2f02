"""The frame ruler and the curves under it: which frames there are, how the chosen solid fared in them, and how
long they took."""

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QBrush,
    QColor,
    QContextMenuEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PySide6.QtWidgets import QWidget

from rubberquince.document.tracks import Key, Track
from rubberquince.ui import style
from rubberquince.ui.strip.beads import TALL, Grip, Plot, dragged, grip_at, paint_beads

LEFT, RIGHT, RULER, LANE = 78, 84, 16, 21
FEWEST, LEAST_LANE = 4, 14  # lanes that there is room for, and px of one where there are more
SCALE_INK = "#9A9180"
TAKES = (Qt.Key.Key_Delete, Qt.Key.Key_Backspace)       # a key away
KNOWN, GOOD = 1, 2          # states of a frame; 0 = not there


@dataclass(frozen=True)
class Lane:
    """A curve: its name, colour, values (frames,) by frame number, and the range that is always shown.

    ``track`` has the keys that made it, where they can be changed here.
    """

    name: str
    colour: str
    values: np.ndarray
    low: float
    high: float
    show: Callable[[float], str] = str
    track: Track | None = None

    def bounds(self, first: int, last: int) -> tuple[float, float]:
        """The values at its foot and its head between two frames."""
        values = self.values[first:last + 1]
        real = values[np.isfinite(values)]
        return min(self.low, float(real.min(initial=self.low))), max(self.high, float(real.max(initial=self.high)))


class Lanes(QWidget):
    """``scrubbed(frame)`` when the pointer or a key asks for another frame.

    ``keyed(track)`` when keys were changed, between ``swept(True)`` and ``swept(False)`` while they are dragged;
    ``asked(track, key number, at)`` for the menu or the value of a key; ``dropped(track, frame)`` takes one away.
    """

    scrubbed = Signal(int)
    keyed = Signal(object)
    swept = Signal(bool)
    asked = Signal(object, int, QPoint, bool)
    dropped = Signal(object, float)

    def __init__(self) -> None:
        super().__init__()
        self.first, self.last, self.frame = 1, 120, 1
        self.states = np.zeros(0, np.int8)
        self.lanes: list[Lane] = []
        self._picture: QPixmap | None = None
        self._under: int | None = None                  # the frame under the pointer
        self._grip: tuple[Grip, Plot, QPointF] | None = None        # what is dragged, and from where
        self._held: tuple[str, float] | None = None     # path and frame of the key that was last clicked
        self.setMouseTracking(True)
        self.setMinimumHeight(RULER + FEWEST * LANE + 4)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Frames")
        self.setToolTip("Inked frames are computed, hatched ones are out of date. Drag to scrub; beads are keys.")

    def show_run(self, first: int, last: int, states: np.ndarray, lanes: list[Lane]) -> None:
        """``states`` (frames,) by frame number from 0 on."""
        self.first, self.last, self.states, self.lanes = first, max(last, first), states, lanes
        self._picture = None
        self.update()

    def show_frame(self, frame: int) -> None:
        self.frame = frame
        self.update()

    def _height(self) -> float:
        """Of a lane, px: they share what room there is."""
        return max((self.height() - RULER - 4) / max(len(self.lanes), 1), LEAST_LANE)

    def _top(self, k: int) -> float:
        return RULER + 2 + k * self._height()

    def _plot(self, k: int) -> Plot:
        lane, top, tall = self.lanes[k], self._top(k), self._height()
        low, high = lane.bounds(self.first, self.last)
        room, span = tall - 6.0, max(high - low, 1e-12)
        return Plot(self._x, lambda value: top + 3.0 + room * (1.0 - (value - low) / span), self._frame_at,
                    lambda y: low + span * (1.0 - (y - top - 3.0) / room), tall >= TALL, self.first, self.last)

    def _grip_at(self, at: QPointF) -> tuple[Grip, Plot] | None:
        for k, lane in enumerate(self.lanes):
            if lane.track is not None:
                plot = self._plot(k)
                grip = grip_at(plot, lane.track, at)
                if grip is not None:
                    return grip, plot
        return None

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
            self._paint_lane(painter, lane, k)
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

    def _paint_lane(self, painter: QPainter, lane: Lane, k: int) -> None:
        top, tall = self._top(k), self._height()
        painter.setPen(QColor(style.PLUM if lane.track is not None else style.SOFT_INK))
        name = painter.fontMetrics().elidedText(lane.name, Qt.TextElideMode.ElideRight, LEFT - 16)
        painter.drawText(QRectF(12, top, LEFT - 14, tall), Qt.AlignmentFlag.AlignVCenter, name)
        painter.setPen(QPen(QColor("#E9E3D5"), 1))
        painter.drawLine(QPointF(LEFT, top + tall - 0.5), QPointF(self.width() - RIGHT, top + tall - 0.5))
        values = lane.values[self.first:self.last + 1]
        real = np.isfinite(values)
        if not real.any():
            return
        low, high = lane.bounds(self.first, self.last)
        painter.setPen(QColor(SCALE_INK))
        right = QRectF(self.width() - RIGHT + 6, top, RIGHT - 8, tall)
        number = lane.show(low).split(" ")[0]
        painter.drawText(right, Qt.AlignmentFlag.AlignVCenter, f"{number} – {lane.show(high)}")
        path, pen_down = QPainterPath(), False
        for f, value in enumerate(values):
            if not real[f]:
                pen_down = False
                continue
            share = (float(value) - low) / max(high - low, 1e-12)
            at = QPointF(self._x(self.first + f), top + 3 + (tall - 6) * (1 - share))
            path.lineTo(at) if pen_down else path.moveTo(at)
            pen_down = True
        painter.setPen(QPen(QColor(lane.colour), 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        if lane.track is not None:
            held = self._held[1] if self._held is not None and self._held[0] == lane.track.of else None
            paint_beads(painter, self._plot(k), lane.track, held)

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
                box = QRectF(left, self._top(k) + 0.5 * self._height() - 8, wide, 16)
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
        found = self._grip_at(event.position())
        if found is None:
            self._hold(None)
            self._scrub(event.position().x())
            return
        grip, plot = found
        self._hold((grip.track.of, grip.track.keys[grip.key].frame))
        if event.button() == Qt.MouseButton.LeftButton:
            self._grip = grip, plot, event.position()
            self.swept.emit(True)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._under = self._frame_at(event.position().x())
        self.update()
        if self._grip is not None:
            grip, plot, start = self._grip
            copies = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier) and not grip.arm
            self._under = None
            self.keyed.emit(dragged(plot, grip, start, event.position(), copies))
        elif event.buttons() & Qt.MouseButton.LeftButton:
            self._scrub(event.position().x())
        else:
            self.setCursor(Qt.CursorShape.PointingHandCursor if self._grip_at(event.position())
                           else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._grip is not None:
            self._grip = None
            self.swept.emit(False)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Type the value of a key, or put one where there is none yet."""
        found = self._grip_at(event.position())
        if found is not None:
            self.asked.emit(found[0].track, found[0].key, event.globalPosition().toPoint(), False)
            return
        k = int((event.position().y() - RULER - 2) // self._height())
        track = self.lanes[k].track if 0 <= k < len(self.lanes) else None
        if track is not None and event.position().x() > LEFT:
            frame = float(self._frame_at(event.position().x()))
            self.keyed.emit(track.with_key(Key(frame=frame, value=track.at(frame))))

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        found = self._grip_at(QPointF(event.pos()))
        if found is not None:
            self.asked.emit(found[0].track, found[0].key, event.globalPos(), True)

    def _hold(self, key: tuple[str, float] | None) -> None:
        if key != self._held:
            self._held, self._picture = key, None
            self.update()

    def _drop(self) -> None:
        """Take the key away that was last clicked."""
        for lane in self.lanes:
            if lane.track is not None and self._held is not None and lane.track.of == self._held[0]:
                self.dropped.emit(lane.track, self._held[1])
        self._hold(None)

    def event(self, event: QEvent) -> bool:
        """While a key is held, Delete takes that, not the chosen piece."""
        keyed = event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent)
        if keyed and self._held is not None and Qt.Key(event.key()) in TAKES:      # type: ignore[attr-defined]
            event.accept()
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_PageUp: -10, Qt.Key.Key_PageDown: 10}
        key = Qt.Key(event.key())
        if key in steps:
            self.scrubbed.emit(min(max(self.frame + steps[key], self.first), self.last))
        elif key in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.scrubbed.emit(self.first if key == Qt.Key.Key_Home else self.last)
        elif key in TAKES and self._held is not None:
            self._drop()
        else:
            super().keyPressEvent(event)


def _write_small(painter: QPainter) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    font = painter.font()
    font.setPixelSize(11)
    painter.setFont(font)
