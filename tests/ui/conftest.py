"""The real window, with small scenes, and how to wait for what it does by itself."""

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMessageBox

from handling import checked
from rubberquince.document.document import Document
from rubberquince.ui import files as files_module
from rubberquince.ui.style import dress
from rubberquince.ui.window import MainWindow


@pytest.fixture
def answers(monkeypatch):
    """What the question about an unsaved scene is answered with; asked tells how often it came."""
    class Answers:
        button = QMessageBox.StandardButton.Discard
        asked = 0

        def __call__(self, *_):
            self.asked += 1
            return self.button

    made = Answers()
    monkeypatch.setattr(files_module, "ask_about_unsaved", made)
    return made


@pytest.fixture(scope="session", autouse=True)
def dressed(qapp):
    dress(qapp)


@pytest.fixture
def window(qtbot, own_folders, answers):
    """An empty window of the usual size."""
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(own_folders))
    made = MainWindow()
    made.show()
    qtbot.waitExposed(made)
    yield made
    answers.button = QMessageBox.StandardButton.Discard
    made.close()
    made.deleteLater()
    QTest.qWait(10)


@pytest.fixture
def show(window, qtbot):
    """Open a scene in the window as if it had come from a file."""
    def do(scene, meshes=None):
        window.files._show(Document(scene, meshes), None)
        window.view_zone.frame_solids()
        window.checks.refresh()
        checked(window, qtbot)
        return window
    return do
