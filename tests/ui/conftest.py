"""The real window, with small scenes, and how to wait for what it does by itself."""

from functools import partial

import pytest
from PySide6.QtCore import QSettings
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMessageBox

from handling import checked
from leftovers import KEPT
from rubberquince.document.document import Document
from rubberquince.jobs.link import Link
from rubberquince.ui import files as files_module
from rubberquince.ui.style import dress
from rubberquince.ui.window import MainWindow
from rubberquince.view import renderer, widget


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
    renderer.MAP_PIXELS = (64, 32, 32, 16, 32)      # nothing here is about soft shadows and smooth edges, which take
    widget.SAMPLES = 2                              # most of the time that the view needs


class HelperHere:
    """A helper without a process of its own, which takes a second to start: most tests are about other things."""

    def __init__(self, on_done):
        self._on_done = on_done

    def ask(self, kind, errand):
        self._on_done(kind, errand.do())

    def close(self):
        pass


@pytest.fixture(scope="session")
def solver():
    """One solver process for all tests that are not about its coming and going: it takes seconds to wake."""
    link = Link(lambda event: None)
    yield link
    link.close()


class SharedLink:
    """What a runner holds in place of a link of its own."""

    def __init__(self, link, on_event):
        self._link = link
        link._on_event = on_event
        KEPT.add(lambda: link.pid)

    def __getattr__(self, name):
        return getattr(self._link, name)

    def close(self):
        self._link._on_event = lambda event: None
        self._link.stop()


@pytest.fixture
def window(qtbot, own_folders, answers, request, solver, monkeypatch):
    """An empty window of the usual size; what is about how processes come and go asks for its own ones."""
    if request.node.get_closest_marker("own_processes") is None:
        monkeypatch.setattr("rubberquince.ui.assistant.Helper", HelperHere)
        monkeypatch.setattr("rubberquince.ui.runner.Link", partial(SharedLink, solver))
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
        window.view_zone.frame_moving()
        window.checks.refresh()
        checked(window, qtbot)
        return window
    return do
