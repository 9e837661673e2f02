"""The sheet: all sections of the chosen piece under one another."""

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QFrame, QScrollArea, QWidget

from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, label
from rubberquince.ui.pieces import Pieces
from rubberquince.ui.sheet.feel import FeelSection
from rubberquince.ui.sheet.force import ActsSection, ForceSection, ReachSection
from rubberquince.ui.sheet.goal import GoalSection
from rubberquince.ui.sheet.lines import LinesSection
from rubberquince.ui.sheet.seams import SeamsSection
from rubberquince.ui.sheet.section import Section
from rubberquince.ui.sheet.sections import (
    BracesSection,
    ContactSection,
    DentsSection,
    ForcesSection,
    HoldSection,
    PlaceSection,
    PressureSection,
    ReleaseSection,
    ReshapeSection,
    SpringsSection,
)
from rubberquince.ui.sheet.shape import ShapeSection
from rubberquince.ui.sheet.surroundings import Surroundings

LEAST_WIDTH = 320
LATER = 80                  # ms, after which the sheet follows a hasty gesture
KINDS: tuple[Callable[[Bench], Section], ...] = (       # below that of the shape, in the order of the work
    PlaceSection, FeelSection, LinesSection, HoldSection, GoalSection, SeamsSection, SpringsSection, DentsSection,
    ReshapeSection, ReleaseSection, BracesSection, PressureSection, ContactSection, ForcesSection, ForceSection,
    ReachSection, ActsSection)
OPEN_AT_FIRST = {"Role and feel", "Springs", "Release", "Force", "Reach"}


class Sheet(QScrollArea):
    """Shows the sections that apply to the chosen piece; what does not apply is absent."""

    def __init__(self, bench: Bench, pieces: Pieces) -> None:
        super().__init__()
        self._bench, self._pieces = bench, pieces
        self.setObjectName("sheet")
        self.setMinimumWidth(LEAST_WIDTH)
        self.setWidgetResizable(True)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName("Sheet of the chosen piece")
        self.sections: list[Section] = []
        self._hint = label("Choose a piece in the line-up or in the view; its values are shown here.", "soft",
                           wrap=True)
        self._page = QWidget()
        self._page.setObjectName("side")
        self.surroundings = Surroundings(bench)
        self._rows = column(self._hint, self.surroundings, margins=(10, 10, 10, 10), gap=7)
        self._page.setLayout(self._rows)
        self.setWidget(self._page)
        self._unit = ""
        self._later = QTimer(self, singleShot=True, interval=LATER)
        self._later.timeout.connect(self.refresh)
        bench.scene_changed.connect(lambda *_: self._follow())
        bench.chose.connect(lambda _: self.refresh())
        bench.map_shown.connect(self.refresh)
        bench.frame_moved.connect(self.refresh)
        self._make()

    def section(self, title: str) -> Section:
        return next(s for s in self.sections if s.title == title)

    def _make(self) -> None:
        """Sections anew; their fields are made for the display units of the scene."""
        opened = {s.title for s in self.sections if s.fold.isChecked()} if self.sections else OPEN_AT_FIRST
        for section in self.sections:
            section.deleteLater()
        while self._rows.count() > 2:
            self._rows.takeAt(2)
        self._unit = self._bench.scene.length_unit
        bench = self._bench
        self.sections = [kind(bench) for kind in KINDS]
        self.sections.insert(0, ShapeSection(bench, self._pieces))
        for section in self.sections:
            self._rows.addWidget(section)
            section.fold.setChecked(section.title in opened)
        self._rows.addStretch(1)
        self.refresh()

    def _follow(self) -> None:
        """The scene has changed; a brush changes it at each move, and is not to wait for the sheet."""
        if not self._bench.document.in_haste:
            self.refresh()
        elif not self._later.isActive():
            self._later.start()

    def refresh(self) -> None:
        if self._bench.scene.length_unit != self._unit:
            self._make()
            return
        piece = self._bench.seen
        self._hint.setVisible(piece is None and bool(self._bench.scene.pieces))
        self.surroundings.setVisible(piece is None)
        self.surroundings.refresh()
        for section in self.sections:
            applies = piece is not None and section.applies(piece)
            section.setVisible(applies)
            if applies and piece is not None:
                section.refresh(piece)
