"""The window program."""

import argparse
import signal
import sys
from importlib.resources import as_file, files
from pathlib import Path

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from rubberquince.logs import start_logging
from rubberquince.ui.faults import watch_for_faults
from rubberquince.ui.style import dress
from rubberquince.ui.window import MainWindow


class Faults(QObject):
    """Brings what went wrong in any thread to the window's."""

    came = Signal(str)


def make_app(arguments: list[str]) -> QApplication:
    """The dressed application object."""
    app = QApplication([sys.argv[0], *arguments])
    app.setApplicationName("Rubber Quince")
    app.setDesktopFileName("rubberquince")
    with as_file(files("rubberquince") / "assets" / "icons" / "rubberquince.svg") as path:
        app.setWindowIcon(QIcon(str(path)))
    dress(app)
    return app


def main(arguments: list[str]) -> int:
    parser = argparse.ArgumentParser(prog="quince", description="A workbench for soft things.")
    parser.add_argument("scene", nargs="?", type=Path, help="a .quince scene to open")
    parser.add_argument("--demo", action="store_true", help="open the harvest fair")
    given, rest = parser.parse_known_args(arguments)
    start_logging()
    app = make_app(rest)
    window = MainWindow()
    faults = Faults(window)
    faults.came.connect(window.on_fault, Qt.ConnectionType.QueuedConnection)
    watch_for_faults(faults.came.emit)
    window.show()
    window.open_first(given.scene, given.demo)
    signal.signal(signal.SIGINT, lambda *_: QTimer.singleShot(0, window.close))     # it may come amid a picture
    beat = QTimer(window, interval=200)     # lets Python see signals while Qt waits
    beat.timeout.connect(lambda: None)
    beat.start()
    return app.exec()


def main_from_shell() -> int:
    return main(sys.argv[1:])
