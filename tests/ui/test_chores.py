"""Long work leaves the window awake, can be stopped, and hands on its result or its error."""

import time

import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QProgressDialog, QPushButton, QWidget

from rubberquince.errors import ShapeError
from rubberquince.ui.chores import awake


@pytest.fixture
def host(qtbot):
    widget = QWidget()
    qtbot.addWidget(widget)
    widget.show()
    return widget


def test_the_result_comes_back_and_timers_run_meanwhile(host):
    beats = []
    timer = QTimer(host, interval=5)
    timer.timeout.connect(lambda: beats.append(host.isEnabled()))
    timer.start()

    def slowly(_):
        time.sleep(0.2)
        return 42

    assert awake(host, "Counting", slowly) == 42
    assert len(beats) > 1 and not any(beats) and host.isEnabled()


def test_an_error_is_raised_in_the_window(host):
    def fail(_):
        raise ShapeError("No.")

    with pytest.raises(ShapeError, match=r"No\."):
        awake(host, "Failing", fail)
    assert host.isEnabled()


def test_what_takes_long_is_said_and_can_be_stopped(host):
    def press_stop():
        for box in QApplication.topLevelWidgets():
            if isinstance(box, QProgressDialog) and box.isVisible():
                assert box.labelText() == "Waiting for ever"
                box.findChild(QPushButton).click()

    timer = QTimer(host, interval=50)
    timer.timeout.connect(press_stop)
    timer.start()

    def wait(stopped):
        while not stopped():
            time.sleep(0.01)
        return "stopped"

    assert awake(host, "Waiting for ever", wait) == "stopped"
