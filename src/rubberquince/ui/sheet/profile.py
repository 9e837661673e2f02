"""A small picture of a profile that is turned about an axis, whose points are dragged."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from rubberquince.shapes.primitives import rounded
from rubberquince.ui import style

Profile = tuple[tuple[float, float, float], ...]
REACH = 9.0                 # px about a point, within which it is taken
MOST_SHOWN = 24             # points: a profile of more is a drawing, not a handful to drag
EDGE = 12                   # px around the picture


class ProfileEdit(QWidget):
    """Shows (radius, height, flute depth), bottom to top, to the right of its axis.

    ``changed(profile)`` while a point is dragged, after one was added (double click on nothing) or taken out (right
    click); ``took(True)`` when a drag begins, ``took(False)`` when it ends.
    """

    changed = Signal(object)
    took = Signal(bool)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Profile")
        self.setToolTip("Drag a point; double-click for another one; right-click takes one out")
        self._points = np.zeros((0, 3))
        self._passes = 0
        self._held: int | None = None
        self._span = 1.0, 0.0, 1.0          # widest radius, lowest and highest point, while a drag lasts

    def sizeHint(self) -> QSize:
        return QSize(200, 150)

    def show_profile(self, profile: Profile, passes: int) -> None:
        """``passes`` is how often its corners are cut."""
        self._points, self._passes = np.array(profile, float), passes
        if self._held is None:
            radius, height = self._points[:, 0], self._points[:, 1]
            self._span = max(float(radius.max()), 1e-6), float(height.min()), float(height.max())
        self.update()

    @property
    def handles(self) -> bool:
        """Are its points few enough to be dragged?"""
        return len(self._points) <= MOST_SHOWN

    def place_of(self, k: int) -> QPointF:
        """Where a point is in the picture."""
        return self._to_pixels(self._points[k])

    # --- between the picture and the profile ----------------------------------------------------------

    def _scale(self) -> float:
        wide, low, high = self._span
        across, up = self.width() / 2 - EDGE, self.height() - 2 * EDGE
        return min(across / (1.25 * wide), up / (1.1 * max(high - low, 1e-6)))

    def _to_pixels(self, point: np.ndarray) -> QPointF:
        _, low, high = self._span
        scale = self._scale()
        return QPointF(self.width() / 2 + scale * point[0], self.height() / 2 - scale * (point[1] - (low + high) / 2))

    def _to_profile(self, at: QPointF) -> tuple[float, float]:
        _, low, high = self._span
        scale = self._scale()
        return (max((at.x() - self.width() / 2) / scale, 0.0),
                (self.height() / 2 - at.y()) / scale + (low + high) / 2)

    def _nearest(self, at: QPointF) -> int | None:
        away = [(self.place_of(k) - at).manhattanLength() for k in range(len(self._points))]
        return int(np.argmin(away)) if self.handles and away and min(away) <= REACH else None

    def _tell(self) -> None:
        self.changed.emit(tuple((round(float(r), 5), round(float(h), 5), float(d)) for r, h, d in self._points))

    # --- hands ----------------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = self._nearest(event.position())
        if event.button() == Qt.MouseButton.LeftButton and at is not None:
            self._held = at
            self.took.emit(True)
        elif event.button() == Qt.MouseButton.RightButton and at is not None and len(self._points) > 3 \
                and 0 < at < len(self._points) - 1:
            self._points = np.delete(self._points, at, axis=0)
            self._tell()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            radius, height = self._to_profile(event.position())
            if self._held in (0, len(self._points) - 1):
                radius = 0.0                # the ends stay on the axis, so that the shape stays closed
            self._points[self._held, :2] = radius, height
            self._tell()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._held is not None:
            self._held = None
            self.took.emit(False)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if not self.handles or self._nearest(event.position()) is not None:
            return
        here = np.array([*self._to_profile(event.position()), 0.0])
        a, b = self._points[:-1, :2], self._points[1:, :2]
        along = np.clip(((here[:2] - a) * (b - a)).sum(axis=1) / np.maximum(((b - a) ** 2).sum(axis=1), 1e-12), 0, 1)
        side = int(np.linalg.norm(a + along[:, None] * (b - a) - here[:2], axis=1).argmin())
        self._points = np.insert(self._points, side + 1, here, axis=0)
        self._tell()

    # --- the picture ----------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QColor(style.LINE))
        painter.setBrush(QColor("#FDFCFA"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)
        middle = self.width() / 2
        painter.setPen(QPen(QColor(style.LINE), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(middle, 6), QPointF(middle, self.height() - 6))
        course = [self._to_pixels(point) for point in rounded(self._points, self._passes)]
        mirrored = [QPointF(2 * middle - point.x(), point.y()) for point in reversed(course)]
        painter.setPen(QPen(QColor(style.QUINCE), 1.6))
        painter.setBrush(QColor(style.QUINCE_PALE))
        painter.drawPolygon(QPolygonF(course + mirrored))
        painter.setPen(QPen(QColor(style.QUINCE), 1.4))
        painter.setBrush(QColor(style.CARD))
        for k in range(len(self._points) if self.handles else 0):
            painter.drawEllipse(self.place_of(k), 4.0, 4.0)
        painter.end()
