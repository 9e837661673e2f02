"""The checks of the scene as it stands, each as a sentence with its button."""

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QWidget

from rubberquince.bake.check import Check
from rubberquince.document.scene import Scene
from rubberquince.jobs.errands import Errand
from rubberquince.ui.assistant import Assistant
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, empty, label, mark, row

CALM = 150                  # ms after the last change, so that a drag is not held up


class Card(QFrame):
    """A sentence that is about a piece chooses it when clicked."""

    def __init__(self, piece: str | None, bench: Bench) -> None:
        super().__init__()
        self._piece, self._bench = piece, bench
        self.setObjectName("check")
        if piece is not None:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setToolTip("Choose the piece")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._piece is not None:
            self._bench.choose(self._piece)


class Checks(QWidget):
    """Looks again some time after every change.  ``found(spots)``: places (3,) in the world where troubles are."""

    found = Signal(list)

    def __init__(self, bench: Bench, helper: Assistant) -> None:
        super().__init__()
        self._bench, self._helper = bench, helper
        self.settled = True                 # do the sentences belong to the scene as it is?
        helper.done.connect(self._on_done)
        self._rows = column(gap=6)
        self.setLayout(column(label("CHECKS", "caption"), self._rows, gap=7))
        self.setAccessibleName("Checks")
        self._timer = QTimer(self, singleShot=True, interval=CALM)
        self._timer.timeout.connect(self.refresh)
        self.shown: list[Check] = []
        bench.scene_changed.connect(self._on_scene)

    def _on_scene(self, before: Scene, after: Scene) -> None:
        if after is not before:
            self.settled = False
            for button in self.findChildren(QPushButton, "mend"):
                button.setEnabled(False)    # what it would mend may be otherwise now
        self._timer.start()

    def refresh(self) -> None:
        """Look at the scene as it is; what is found is shown when it has been."""
        self.settled = False
        self._helper.ask("checks", Errand("bake.checks:checks_of", (self._bench.scene, self._bench.document.meshes)))

    def _on_done(self, kind: str, found: list[Check] | None) -> None:
        if kind != "checks" or self._timer.isActive():
            return
        self.settled, self.shown = True, found or []
        self.found.emit([check.spot for check in self.shown if check.trouble and check.spot is not None])
        empty(self._rows)
        for check in self.shown:
            self._rows.addWidget(self._card(check))

    def _card(self, check: Check) -> QFrame:
        sign = QLabel()
        sign.setPixmap(mark("trouble" if check.trouble else "well", 14))
        sign.setAlignment(Qt.AlignmentFlag.AlignTop)
        sentence = label(check.sentence, wrap=True)
        texts = column(sentence, gap=6)
        if check.mend is not None:
            button = QPushButton(check.button)
            button.setObjectName("mend")
            button.clicked.connect(lambda: self._mend(check))
            texts.addLayout(row(button))
        line = row(sign, margins=(8, 7, 8, 7), gap=7)
        line.addLayout(texts, 1)
        card = Card(check.piece, self._bench)
        card.setLayout(line)
        card.setProperty("trouble", check.trouble)
        card.setAccessibleName(check.sentence)
        return card

    def _mend(self, check: Check) -> None:
        if check.mend is not None:
            if check.mesh is not None:
                self._bench.document.meshes[check.mesh.key] = check.mesh
            self._bench.document.push(check.button.lower(), check.mend(self._bench.scene))
            self.refresh()
