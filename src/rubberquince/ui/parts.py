"""Small pieces that several zones are built of."""

from functools import cache
from importlib.resources import files
from typing import TypeVar

from PySide6.QtCore import QByteArray, QEvent, QObject, QRectF, Qt
from PySide6.QtGui import QIcon, QPainter, QPaintEvent, QPixmap
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import (
    QAbstractScrollArea,
    QApplication,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QVBoxLayout,
    QWidget,
)

L = TypeVar("L", QHBoxLayout, QVBoxLayout)
W = TypeVar("W", bound=QWidget)
SCALE = 3                   # marks are drawn larger and scaled down, for dense screens


@cache
def mark(name: str, size: int = 16) -> QPixmap:
    """A mark drawn for this program, from the package."""
    data = (files("rubberquince") / "assets" / "marks" / f"{name}.svg").read_bytes()
    pixmap = QPixmap(size * SCALE, size * SCALE)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(data)).render(painter, QRectF(0, 0, size * SCALE, size * SCALE))
    painter.end()
    pixmap.setDevicePixelRatio(SCALE)
    return pixmap


@cache
def icon(name: str, size: int = 16) -> QIcon:
    return QIcon(mark(name, size))


class Elided(QLabel):
    """A line of text that ends in an ellipsis where its room ends."""

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        text = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        painter.setPen(self.palette().color(self.foregroundRole()))
        painter.drawText(self.rect(), int(self.alignment()), text)
        painter.end()


class CalmWheel(QObject):
    """Lets the wheel scroll the page: what it is installed on takes it only with the focus and the pointer."""

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() != QEvent.Type.Wheel or not isinstance(watched, QWidget) or watched.hasFocus():
            return False
        page = watched.parentWidget()
        while page is not None and not isinstance(page, QAbstractScrollArea):
            page = page.parentWidget()
        if page is not None:
            QApplication.sendEvent(page.viewport(), event)
        return True


def calm(widget: W) -> W:
    """A widget that does not change when the page under the pointer is scrolled."""
    widget.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    widget.installEventFilter(CalmWheel(widget))
    return widget


def label(text: str = "", name: str = "", wrap: bool = False) -> QLabel:
    """A line of text; ``name`` is its style."""
    made = QLabel(text)
    made.setObjectName(name)
    made.setWordWrap(wrap)
    made.setTextFormat(Qt.TextFormat.PlainText)
    return made


def column(*items: QWidget | QLayout, margins: tuple[int, int, int, int] = (0, 0, 0, 0), gap: int = 6) -> QVBoxLayout:
    return _filled(QVBoxLayout(), items, margins, gap)


def row(*items: QWidget | QLayout, margins: tuple[int, int, int, int] = (0, 0, 0, 0), gap: int = 6) -> QHBoxLayout:
    return _filled(QHBoxLayout(), items, margins, gap)


def framed(layout: QLayout, name: str) -> QFrame:
    frame = QFrame()
    frame.setObjectName(name)
    frame.setLayout(layout)
    return frame


def empty(layout: QLayout) -> None:
    """Take out and delete everything in a layout."""
    while (item := layout.takeAt(0)) is not None:
        widget, inner = item.widget(), item.layout()
        if widget is not None:
            widget.hide()
            widget.deleteLater()
        elif inner is not None:
            empty(inner)


def _filled(layout: L, items: tuple[QWidget | QLayout, ...],
            margins: tuple[int, int, int, int], gap: int) -> L:
    layout.setContentsMargins(*margins)
    layout.setSpacing(gap)
    for item in items:
        if isinstance(item, QWidget):
            layout.addWidget(item)
        else:
            layout.addLayout(item)
    return layout
