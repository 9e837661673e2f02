"""The window: puts the zones together and wires their menus."""

from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QCloseEvent, QKeySequence
from PySide6.QtWidgets import QLabel, QMainWindow, QSplitter

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.own_feels import find_own
from rubberquince.document.scene import Piece
from rubberquince.errors import QuinceError
from rubberquince.logs import log_folder
from rubberquince.ui.assistant import Assistant
from rubberquince.ui.bakes import BakesDialog
from rubberquince.ui.bench import Bench
from rubberquince.ui.checks.checks import Checks
from rubberquince.ui.dialogs import ask_about_cells
from rubberquince.ui.files import DEMOS, Files
from rubberquince.ui.handing import Handing
from rubberquince.ui.lineup.lineup import LineUp
from rubberquince.ui.menus import Menus, Shortcuts
from rubberquince.ui.parts import column, framed
from rubberquince.ui.pieces import FORCES, SHAPES, SPREAD, Pieces
from rubberquince.ui.readings.readings import Readings
from rubberquince.ui.runner import Runner
from rubberquince.ui.sheet.sheet import Sheet
from rubberquince.ui.strip.player import Player
from rubberquince.ui.strip.strip import Strip
from rubberquince.ui.view_zone import DIRECTIONS, ViewZone
from rubberquince.view.portrait import portrait
from rubberquince.view.stage import DISPLAYS

ADD_KEYS = {"block": "Ctrl+B", "sphere": "Ctrl+Shift+B"}
ACROSS, DOWN = [360, 680, 240], [86, 530, 158]      # px, of the zones at first
TOOL_KEYS = {"draw lines": ("Draw lines on the chosen piece", "L"), "paint": ("Paint into the open map", "P"),
             "choose": ("Choose points of the piece", "E"), "tug": ("Tug at the chosen piece", "U")}
UNITS = ("mm", "cm", "m", "in")


class MainWindow(QMainWindow):
    """One open scene."""

    def __init__(self) -> None:
        super().__init__()
        self.setWindowTitle("Rubber Quince")
        self.resize(1280, 800)
        self.bench = Bench()
        self.runner = Runner(self.bench)
        self.runner.confirm = lambda cells: ask_about_cells(self, cells)
        self.player = Player(self.bench, self.runner)
        self.files = Files(self, self.bench, self.runner)
        self.pieces = Pieces(self, self.bench)
        self.handing = Handing(self, self.bench, self.runner)
        self.menus = Menus(self.menuBar())
        self.assistant = Assistant()
        self.view_zone = ViewZone(self.bench, self.runner, self.player, self.assistant)
        self._make_menus()
        self.line_up = LineUp(self.bench, self._add_menu, self._piece_menu, self._portrait)
        self.sheet = Sheet(self.bench, self.pieces)
        self.checks, self.readings = Checks(self.bench, self.assistant), Readings(self.bench)
        self.strip = Strip(self.bench, self.runner, self.player)
        self._lay_out()
        self.checks.found.connect(self.view_zone.show_spots)
        self.view_zone.refine_asked.connect(self.pieces.refine_there)
        for signal in (self.bench.scene_changed, self.bench.chose, self.player.shown, self.runner.progressed):
            signal.connect(self._refresh)
        self._settings = QSettings("rubberquince", "rubberquince")
        for name, restore in (("window", self.restoreGeometry), ("across", self._across.restoreState),
                              ("down", self._down.restoreState)):
            kept = self._settings.value(name)
            if kept is not None:
                restore(kept)
        for trouble in find_own():
            self.bench.say(trouble)
        self._refresh()
        self.strip.refresh()
        self.checks.refresh()

    def _lay_out(self) -> None:
        facts = column(self.checks, self.readings, margins=(12, 14, 12, 12), gap=18)
        facts.addStretch(1)
        side = framed(facts, "facts")
        side.setMinimumWidth(200)
        self._across, self._down = QSplitter(Qt.Orientation.Horizontal), QSplitter(Qt.Orientation.Vertical)
        # from the window inwards: what is put into something anew is styled anew, with all that is in it
        self.setCentralWidget(framed(column(self._down), "page"))
        for splitter, parts, wanted in ((self._down, (self.line_up, self._across, self.strip), DOWN),
                                        (self._across, (self.sheet, self.view_zone, side), ACROSS)):
            splitter.setHandleWidth(5)
            splitter.setChildrenCollapsible(False)
            for part in parts:
                splitter.addWidget(part)
            splitter.setStretchFactor(1, 1)
            splitter.setSizes(wanted)
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
        edit.addSeparator()
        add(edit, "Choose all", self._choose_all, key.SelectAll)
        fresh = self._add_menu = self.menus.menu("Add")
        for name in SHAPES:
            add(fresh, f"Add a {name}", partial(self.pieces.add, name), ADD_KEYS.get(name))
        fresh.addSeparator()
        for kind in FORCES:
            add(fresh, "Add turbulence" if kind == "turbulence" else f"Add a {kind}",
                partial(self.pieces.add_force, kind))
        fresh.addSeparator()
        add(fresh, "Import a mesh…", self.pieces.import_mesh, "Ctrl+I")
        add(fresh, "Import a mesh that moves…", lambda: self.pieces.import_mesh(moving=True))
        piece = self._piece_menu = self.menus.menu("Piece")
        add(piece, "Rename", self._rename_chosen, "F2")
        add(piece, "Duplicate", self.pieces.duplicate, "Ctrl+D")
        add(piece, "Copy", self.pieces.copy, key.Copy)
        add(piece, "Paste", self.pieces.paste, key.Paste)
        piece.addSeparator()
        add(piece, "Hide the others, or show all", self.pieces.hide_others, "H")
        add(piece, "Refine the chosen piece", self.pieces.refine)
        add(piece, "Keep this frame as its shape", lambda: self.pieces.keep_frame(self.runner.skins(self.player.frame)))
        add(piece, "Sew together", self.pieces.sew)
        add(piece, "Weld what is sewn, as it lies", lambda: self.pieces.weld(self.runner.skins(self.player.frame)))
        others = piece.addMenu("Put on the others that are chosen")
        for name in SPREAD:
            add(others, f"Its {name}", partial(self.pieces.spread, name))
        piece.addSeparator()
        self._remove = add(piece, "Remove the chosen piece", self.pieces.remove, key.Delete)
        run = self.menus.menu("Run")
        add(run, "Play or pause", self.player.toggle, "Space")
        add(run, "Stop", self.player.halt, "Ctrl+.")
        add(run, "To the first frame", lambda: self.player.go(bench.scene.run.first), "Ctrl+Home")
        add(run, "Bake the range", self.player.bake, "Ctrl+Return")
        add(run, "Kept bakes…", lambda: BakesDialog(self, self.bench, self.runner).exec())
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
        for name, (text, key_of) in TOOL_KEYS.items():
            add(view, text, partial(self.view_zone.take_up, name), key_of)
        view.addSeparator()
        units = view.addMenu("Lengths in")
        for unit in UNITS:
            add(units, unit, partial(bench.set_value, f"show lengths in {unit}", "length_unit", unit))
        guide = self.menus.menu("Help")
        add(guide, "Keys and mouse", lambda: Shortcuts(self, self.menus.actions).exec(), "F1")
        add(guide, "Where the logs are", lambda: bench.say(f"Faults are written down in {log_folder()}.", False))
        for text, do in (("Add a block", partial(self.pieces.add, "block")),
                         ("Import a mesh…", self.pieces.import_mesh),
                         ("Open the harvest fair", partial(self._open_demo, "pudding"))):
            self.view_zone.offer(text, do)

    # --- what the menus do ----------------------------------------------------------------------------

    def _open_demo(self, name: str) -> None:
        self.files.demo(name)

    def _choose_all(self) -> None:
        for k, piece in enumerate(self.bench.scene.pieces):
            if k == 0 or piece.id not in self.bench.chosen_ids:
                self.bench.choose(piece.id, also=k > 0)

    def _rename_chosen(self) -> None:
        card = next((c for c in self.line_up.cards if c.piece is self.bench.chosen), None)
        if card is not None:
            card.rename()

    def on_fault(self, sentence: str) -> None:
        """Something in the program went wrong: keep the scene safe, and say so."""
        self.files.keep_copy()
        self.bench.say(sentence)

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
        chosen, frame, store = bench.chosen, self.player.frame, self.runner.store
        known = self.runner.known(frame) and chosen is not None
        rows = self.runner.readings(chosen.id) if known and chosen else np.zeros((0, 0))
        efforts = store.efforts if known and store else np.zeros((0, 2))
        role = chosen.role if chosen else "solid"
        self.readings.show_frame(frame, role, rows, efforts, known and not self.runner.good(frame))

    def open_first(self, path: Path | None, demo: bool) -> None:
        """What the window opens with."""
        if self.files.offer_recovery():
            pass                            # what was nearly lost goes before what was asked for
        elif demo:
            self.files.demo()
        elif path is not None:
            self.files.open(path)
        self.view_zone.frame_moving()
        self.checks.refresh()
        self.view_zone.view.setFocus()      # so that keys mean playing, not typing
        QTimer.singleShot(0, self.runner.wake)      # when there is something to see

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.player.halt()
        self.assistant.close()
        self.runner.close()
        self.files.leave()
        for name, state in (("window", self.saveGeometry()), ("across", self._across.saveState()),
                            ("down", self._down.saveState())):
            self._settings.setValue(name, state)
        self.view_zone.view.close_renderer()
        event.accept()
