"""The window: puts the zones together and wires their menus."""

from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeySequence
from PySide6.QtWidgets import QLabel, QMainWindow, QWidget

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Piece
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.checks.checks import Checks
from rubberquince.ui.files import DEMOS, Files
from rubberquince.ui.handing import Handing
from rubberquince.ui.lineup.lineup import LineUp
from rubberquince.ui.menus import Menus, Shortcuts
from rubberquince.ui.parts import column, framed, row
from rubberquince.ui.pieces import SHAPES, Pieces
from rubberquince.ui.readings.readings import Readings
from rubberquince.ui.runner import Runner
from rubberquince.ui.sheet.sheet import Sheet
from rubberquince.ui.strip.player import Player
from rubberquince.ui.strip.strip import Strip
from rubberquince.ui.view_zone import DIRECTIONS, ViewZone
from rubberquince.view.portrait import portrait
from rubberquince.view.stage import DISPLAYS

ADD_KEYS = {"block": "Ctrl+B", "sphere": "Ctrl+Shift+B"}
UNITS = ("mm", "cm", "m", "in")


class MainWindow(QMainWindow):
    """One open scene."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Rubber Quince")
        self.resize(1280, 800)
        self.bench = Bench()
        self.runner = Runner(self.bench)
        self.player = Player(self.bench, self.runner)
        self.files = Files(self, self.bench, self.runner)
        self.pieces = Pieces(self, self.bench)
        self.handing = Handing(self, self.bench, self.runner)
        self.menus = Menus(self.menuBar())
        self.view_zone = ViewZone(self.bench, self.runner, self.player)
        self._make_menus()
        self.line_up = LineUp(self.bench, self._add_menu, self._portrait)
        self.sheet = Sheet(self.bench, self.pieces)
        self.checks, self.readings = Checks(self.bench), Readings(self.bench)
        self.strip = Strip(self.bench, self.runner, self.player)
        self._lay_out()
        self.checks.found.connect(self.view_zone.show_spots)
        for signal in (self.bench.scene_changed, self.bench.chose, self.player.shown, self.runner.progressed):
            signal.connect(self._refresh)
        self._settings = QSettings("rubberquince", "rubberquince")
        geometry = self._settings.value("window")
        if geometry is not None:
            self.restoreGeometry(geometry)
        self._refresh()
        self.strip.refresh()
        self.checks.refresh()

    def _lay_out(self) -> None:
        facts = column(self.checks, self.readings, margins=(12, 14, 12, 12), gap=18)
        facts.addStretch(1)
        side = framed(facts, "facts")
        side.setFixedWidth(232)
        middle = row(self.sheet, self.view_zone, side, gap=0)
        middle.setStretch(1, 1)
        whole = column(self.line_up, middle, self.strip, gap=0)
        whole.setStretch(1, 1)
        page = QWidget()
        page.setObjectName("page")
        page.setLayout(whole)
        self.setCentralWidget(page)
        self._corner = QLabel()
        self._corner.setObjectName("soft")
        self._corner.setContentsMargins(0, 6, 14, 0)
        self.menuBar().setCornerWidget(self._corner, Qt.Corner.TopRightCorner)

    def _make_menus(self) -> None:
        add, files, bench, key = self.menus.add, self.files, self.bench, QKeySequence.StandardKey
        scene = self.menus.menu("Scene")
        add(scene, "New", files.new, key.New)
        add(scene, "Open…", files.open, key.Open)
        self._again = scene.addMenu("Open again")
        scene.aboutToShow.connect(self._list_recent)
        fair = scene.addMenu("Open the harvest fair")
        for name in DEMOS:
            add(fair, f"The {name}", partial(self._open_demo, name))
        scene.addSeparator()
        add(scene, "Save", files.save, key.Save)
        add(scene, "Save as…", files.save_as, key.SaveAs)
        scene.addSeparator()
        add(scene, "Export this frame…", lambda: self.handing.export_frame(self.player.frame), "Ctrl+Shift+E")
        add(scene, "Export the run…", self.handing.export_run, "Ctrl+E")
        scene.addSeparator()
        add(scene, "Quit", self.close, key.Quit)
        edit = self.menus.menu("Edit")
        self._undo = add(edit, "Undo", lambda: bench.document.undo(), key.Undo)
        self._redo = add(edit, "Redo", lambda: bench.document.redo(), key.Redo)
        piece = self._add_menu = self.menus.menu("Piece")
        for name in SHAPES:
            add(piece, f"Add a {name}", partial(self.pieces.add, name), ADD_KEYS.get(name))
        add(piece, "Import a mesh…", self.pieces.import_mesh, "Ctrl+I")
        piece.addSeparator()
        add(piece, "Refine the chosen piece", self.pieces.refine)
        self._remove = add(piece, "Remove the chosen piece", self._remove_chosen, key.Delete)
        run = self.menus.menu("Run")
        add(run, "Play or pause", self.player.toggle, "Space")
        add(run, "Stop", self.player.halt, "Ctrl+.")
        add(run, "To the first frame", lambda: self.player.go(bench.scene.run.first), "Ctrl+Home")
        add(run, "Bake the range", self.player.bake, "Ctrl+Return")
        run.addSeparator()
        self._ground = add(run, "The ground stops things", self._turn_ground)
        self._ground.setCheckable(True)
        view = self.menus.menu("View")
        add(view, "Frame all", self.view_zone.frame_all, "A")
        add(view, "Frame the chosen piece", self.view_zone.frame_chosen, "C")
        for name, (key_of, *_) in DIRECTIONS.items():
            add(view, f"Look {name}", partial(self.view_zone.look, name), key_of)
        view.addSeparator()
        for k, name in enumerate(DISPLAYS):
            add(view, f"Show {name}", partial(self.view_zone.set_display, name), f"Alt+{k + 1}")
        view.addSeparator()
        units = view.addMenu("Lengths in")
        for unit in UNITS:
            add(units, unit, partial(bench.set_value, f"show lengths in {unit}", "length_unit", unit))
        guide = self.menus.menu("Help")
        add(guide, "Keys and mouse", lambda: Shortcuts(self, self.menus.actions).exec(), "F1")

    # --- what the menus do ----------------------------------------------------------------------------

    def _open_demo(self, name: str) -> None:
        self.files.demo(name)
        self.view_zone.frame_solids()

    def _remove_chosen(self) -> None:
        if self.bench.chosen_id is not None:
            self.bench.document.remove_piece(self.bench.chosen_id)

    def _list_recent(self) -> None:
        self._again.clear()
        for path in self.files.recent():
            self._again.addAction(path.name, partial(self.files.open, path)).setToolTip(str(path))
        self._again.setEnabled(not self._again.isEmpty())

    def _turn_ground(self) -> None:
        self.bench.set_value("turn the ground on or off", "run.ground", not self.bench.scene.run.ground)

    def _portrait(self, piece: Piece, pixels: int) -> np.ndarray | None:
        renderer = self.view_zone.view.renderer()
        try:
            mesh = unit_mesh(piece.shape, self.bench.document.meshes)
            return portrait(renderer, piece, mesh, pixels) if renderer else None
        except QuinceError:
            return None

    def _refresh(self) -> None:
        bench, document = self.bench, self.bench.document
        self._corner.setText(bench.title)
        self.setWindowTitle(f"{bench.title} – Rubber Quince")
        for action, label, what in ((self._undo, document.undo_label, "Undo"),
                                    (self._redo, document.redo_label, "Redo")):
            action.setEnabled(label is not None)
            action.setText(f"{what} {label}" if label else what)
        self._remove.setEnabled(bench.chosen is not None)
        self._ground.setChecked(bench.scene.run.ground)
        chosen, frame = bench.chosen, self.player.frame
        rows = self.runner.readings(chosen.id) if chosen else np.zeros((0, 0))
        known = self.runner.known(frame) and frame < len(rows)
        effort = self.runner.store.efforts[frame] if known and self.runner.store else np.full(2, np.nan)
        self.readings.show_frame(frame, rows[frame] if known else None, effort, known and not self.runner.good(frame))

    def open_first(self, path: Path | None, demo: bool) -> None:
        """What the window opens with."""
        if self.files.offer_recovery():
            pass                            # what was nearly lost goes before what was asked for
        elif demo:
            self.files.demo()
        elif path is not None:
            self.files.open(path)
        self.view_zone.frame_solids()
        self.checks.refresh()
        self.view_zone.view.setFocus()      # so that keys mean playing, not typing
        QTimer.singleShot(0, self.runner.wake)      # when there is something to see

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.player.halt()
        self.files.leave()
        self._settings.setValue("window", self.saveGeometry())
        self.runner.close()
        self.view_zone.view.close_renderer()
        event.accept()
