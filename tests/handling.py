"""Hands on the window: typing, dragging, choosing, and reading what it says."""

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest

LONG = 60_000               # ms
LEFT = Qt.MouseButton.LeftButton


def field(window, section, name):
    part = window.sheet.section(section)
    part.fold.setChecked(True)
    named = [f for f, _ in part._fields if f.value.name == name]            # one for each role that has it
    return next((f for f in named if not f.isHidden()), named[0])


def type_into(edit, text):
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, text)
    QTest.keyClick(edit, Qt.Key.Key_Return)


def sentence(window):
    notice = window.view_zone.notice
    return "" if notice.isHidden() else notice.sentence.text()


def checked(window, qtbot):
    """The checks of the scene as it is, once they are there."""
    qtbot.waitUntil(lambda: window.checks.settled, timeout=LONG)
    return window.checks.shown


def drag(view, start, end, steps=6):
    QTest.mousePress(view, LEFT, pos=start)
    for k in range(1, steps + 1):
        QTest.mouseMove(view, start + (end - start) * k / steps)
    QTest.mouseRelease(view, LEFT, pos=end)


def pixel_of(view, point):
    x, y, _ = view.camera.project(np.asarray(point), view.width(), view.height())[0]
    return QPoint(round(x), round(y))


def play_to_end(window, qtbot):
    window.player.toggle()
    qtbot.waitUntil(lambda: not window.player.playing and not window.runner.computing, timeout=LONG)


def pick(box, text):
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())
