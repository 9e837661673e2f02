"""Pictures of the window and of its frames, for documentation and for looking at runs."""

import time
from collections.abc import Callable

from PySide6.QtGui import QColor, QPainter, QPixmap
from PySide6.QtWidgets import QApplication

from rubberquince.ui import style

COLUMNS = 4


def wait(app: QApplication, seconds: float, until: Callable[[], bool] = lambda: False) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end and not until():
        app.processEvents()
        time.sleep(0.003)


def contact_sheet(pictures: list[tuple[str, QPixmap]], scale: float = 0.5) -> QPixmap:
    """All pictures, of one size, in rows of four with their captions."""
    width, height = (round(side * scale) for side in (pictures[0][1].width(), pictures[0][1].height()))
    sheet = QPixmap(width * min(COLUMNS, len(pictures)), height * -(-len(pictures) // COLUMNS))
    sheet.fill(QColor(style.PAPER))
    painter = QPainter(sheet)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.setPen(QColor(style.INK))
    for k, (caption, picture) in enumerate(pictures):
        x, y = k % COLUMNS * width, k // COLUMNS * height
        painter.drawPixmap(x, y, width, height, picture)
        painter.drawText(x + 10, y + 18, caption)
    painter.end()
    return sheet
