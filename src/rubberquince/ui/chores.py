"""Work that may take longer than a second, done in a thread while the window stays awake."""

import threading
import time
from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import QEventLoop, Qt, QTimer
from PySide6.QtWidgets import QProgressDialog, QWidget

QUIET = 600                 # ms before it is said that something takes time
LOOK = 15                   # ms between looks at whether it is done

T = TypeVar("T")


def awake(window: QWidget, sentence: str, do: Callable[[Callable[[], bool]], T]) -> T:
    """The result of ``do(stopped)``, or its error raised here.

    ``do`` runs in a thread; it may ask ``stopped()`` and end early when the artist pressed Stop.
    """
    results: list[T] = []
    errors: list[BaseException] = []
    box = QProgressDialog(sentence, "Stop", 0, 0)       # no child of the window, which is disabled meanwhile
    box.setWindowTitle("Rubber Quince")
    box.setWindowModality(Qt.WindowModality.ApplicationModal)
    box.setMinimumDuration(10 ** 8)          # shown by us: Qt would guess from progress there is none of
    stop = threading.Event()
    box.canceled.connect(stop.set)

    def work() -> None:
        try:
            results.append(do(stop.is_set))
        except BaseException as error:       # raised again in the window's thread
            errors.append(error)

    thread = threading.Thread(target=work, name=sentence, daemon=True)
    began, loop, timer = time.monotonic(), QEventLoop(), QTimer()

    def look() -> None:
        if not thread.is_alive():
            loop.quit()
        elif box.isHidden() and not stop.is_set() and time.monotonic() - began > QUIET / 1000:
            box.move(window.geometry().center() - box.rect().center())
            box.show()

    timer.timeout.connect(look)
    timer.start(LOOK)
    thread.start()
    window.setEnabled(False)                 # until it is done, nothing may change what it works on
    loop.exec()
    window.setEnabled(True)
    timer.stop()
    box.close()
    box.deleteLater()
    if errors:
        raise errors[0]
    return results[0]
