"""What is painted over the picture: handles, lines on skins, what a tool shows, places of trouble."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from rubberquince.view.camera import Camera
from rubberquince.view.handles import AXES, Handle
from rubberquince.view.stage import Line, Pull, Ring

TROUBLE_COLOUR = "#B4532A"
LINE_COLOUR = "#6B3E5E"
LEAST_STEP = 3.0            # px, between what is drawn of a line, and between dots
AXIS_COLOURS = ("#B4532A", "#5B7F4B", "#3F6F8A")


def _apart(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Which places (n,) bool of a line in pixels are to be drawn: its ends, and one for each LEAST_STEP of its way."""
    gone = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))]) // LEAST_STEP
    return np.concatenate([[True], np.diff(gone[:-1]) > 0.0, [True]])


class Overlay:
    """Paints places of the world, (n, 3) m, as a camera sees them in a picture of ``size`` pixels."""

    def __init__(self, painter: QPainter, camera: Camera, size: tuple[int, int]) -> None:
        self._painter, self._camera, self._size = painter, camera, size

    def _pixels(self, places: np.ndarray) -> np.ndarray:
        """Pixels and depth (n, 3)."""
        return self._camera.project(places, *self._size)

    def line(self, line: Line) -> None:
        """A line in the world, with its beads."""
        x, y, depth = self._pixels(line.points).T
        if len(x) > 1 and (depth > 0).all():
            kept = _apart(x, y)
            way = QPolygonF([QPointF(*at) for at in zip(x[kept].tolist(), y[kept].tolist())])
            for colour, width in (("#FFFFFF", 4.5), (LINE_COLOUR, 2.2)):
                self._painter.setPen(QPen(QColor(colour), width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
                self._painter.drawPolyline(way)
        self._painter.setPen(QPen(QColor("#FFFFFF"), 1.4))
        self._painter.setBrush(QColor(LINE_COLOUR))
        for x, y, depth in self._pixels(line.beads) if len(line.beads) else ():
            if depth > 0:
                self._painter.drawEllipse(QPointF(x, y), 4.5, 4.5)

    def threads(self, threads: np.ndarray) -> None:
        """Thin lines (k, 2, 3), m."""
        colour = QColor(LINE_COLOUR)
        colour.setAlpha(150)
        self._painter.setPen(QPen(colour, 1.1))
        ends = self._pixels(threads.reshape(-1, 3)).reshape(-1, 2, 3)
        for (x0, y0, d0), (x1, y1, d1) in ends if len(threads) else ():
            if d0 > 0 and d1 > 0:
                self._painter.drawLine(QPointF(x0, y0), QPointF(x1, y1))

    def pull(self, pull: Pull) -> None:
        """A taut line with a grip at both ends, and its words."""
        (x0, y0, d0), (x1, y1, d1) = self._pixels(np.stack([pull.start, pull.end]))
        if min(d0, d1) <= 0:
            return
        for colour, width in (("#FFFFFF", 5.0), (LINE_COLOUR, 2.6)):
            self._painter.setPen(QPen(QColor(colour), width, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            self._painter.drawLine(QPointF(x0, y0), QPointF(x1, y1))
        self._painter.setPen(QPen(QColor("#FFFFFF"), 1.4))
        self._painter.setBrush(QColor(LINE_COLOUR))
        self._painter.drawEllipse(QPointF(x0, y0), 4.0, 4.0)
        self._painter.drawEllipse(QPointF(x1, y1), 6.0, 6.0)
        if pull.text:
            wide = self._painter.fontMetrics().horizontalAdvance(pull.text) + 14
            box = QRectF(x1 + 10, y1 - 12, wide, 22)
            self._painter.setPen(Qt.PenStyle.NoPen)
            self._painter.setBrush(QColor(255, 255, 255, 225))
            self._painter.drawRoundedRect(box, 6, 6)
            self._painter.setPen(QColor(LINE_COLOUR))
            self._painter.drawText(box, Qt.AlignmentFlag.AlignCenter, pull.text)

    def tool(self, ring: Ring | None, frame: list[QPointF], dots: np.ndarray) -> None:
        """The ring of a brush, the frame that is being drawn around points, and the points (k, 3) that are chosen."""
        outline = []
        if ring is not None:
            x, y, depth = self._pixels(ring.points()).T
            outline = [QPointF(*at) for at in zip(x, y)] if (depth > 0).all() else []
        for points in (outline, frame):
            for colour, width in (("#FFFFFF", 4.0), (LINE_COLOUR, 1.8)) if len(points) > 1 else ():
                self._painter.setPen(QPen(QColor(colour), width))
                self._painter.setBrush(Qt.BrushStyle.NoBrush)
                self._painter.drawPolygon(QPolygonF(points))
        if len(dots):
            at = self._pixels(dots)
            _, first = np.unique(np.floor(at[at[:, 2] > 0.0, :2] / LEAST_STEP), axis=0, return_index=True)
            self._painter.setPen(QPen(QColor(LINE_COLOUR), 6.0, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            self._painter.drawPoints(QPolygonF([QPointF(*one) for one in at[at[:, 2] > 0.0][first, :2].tolist()]))

    def trouble(self, spot: np.ndarray) -> None:
        """A place where something is wrong: a ring around it and the mark of a trouble beside it."""
        x, y, depth = self._pixels(spot)[0]
        if depth <= 0:
            return
        self._painter.setBrush(Qt.BrushStyle.NoBrush)
        for colour, width in (("#FFFFFF", 5.0), (TROUBLE_COLOUR, 2.4)):
            self._painter.setPen(QPen(QColor(colour), width))
            self._painter.drawEllipse(QPointF(x, y), 11.0, 11.0)
        self._painter.setBrush(QColor(TROUBLE_COLOUR))
        self._painter.setPen(QPen(QColor("#FFFFFF"), 1.6))
        self._painter.drawEllipse(QPointF(x + 12, y - 12), 8.0, 8.0)
        self._painter.drawText(QRectF(x + 4, y - 20, 16, 16), Qt.AlignmentFlag.AlignCenter, "!")

    def handle(self, handle: Handle, hot: bool) -> None:
        line = self._pixels(handle.line)
        if (line[:, 2] <= 0).any():
            return
        colour = QColor(AXIS_COLOURS[handle.axis] if handle.axis is not None else "#B8860B")
        points = [QPointF(x, y) for x, y, _ in line]
        if handle.kind == "turn":
            colour.setAlpha(230 if hot else 90)
            self._painter.setPen(QPen(colour, 3.0 if hot else 1.4))
            self._painter.drawPolyline(QPolygonF(points))
        elif handle.kind == "move":
            self._painter.setPen(QPen(colour, 4.0 if hot else 2.4, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            self._painter.drawLine(points[0], points[1])
            self._painter.setBrush(QColor("#FFFFFF") if not hot else colour)
            self._painter.setPen(QPen(colour, 1.6))
            self._painter.drawEllipse(points[1], 9.0, 9.0)
            self._painter.setPen(QColor("#FFFFFF") if hot else colour)
            self._painter.drawText(QRectF(points[1].x() - 9, points[1].y() - 10, 18, 18), Qt.AlignmentFlag.AlignCenter,
                             AXES[handle.axis or 0])
        else:
            side = 6.0 if hot else 4.5
            self._painter.setPen(QPen(colour, 1.8))
            self._painter.setBrush(QColor("#FFFFFF"))
            self._painter.drawRect(QRectF(points[0].x() - side, points[0].y() - side, 2 * side, 2 * side))
