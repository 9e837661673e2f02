"""The view with what lies over it: the display switch and the sentences that come and go."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QFrame, QPushButton, QVBoxLayout, QWidget

from rubberquince.document.maps import Map
from rubberquince.document.scene import LED, Place, Scene
from rubberquince.document.tracks import at_frame
from rubberquince.document.values import about
from rubberquince.document.weights import weights_of
from rubberquince.ui.assistant import Assistant
from rubberquince.ui.bench import Bench
from rubberquince.ui.cells import ShownCells, faces_of_skins
from rubberquince.ui.over_view import Legend, Notice
from rubberquince.ui.parts import column, framed, label, row
from rubberquince.ui.runner import Runner
from rubberquince.ui.strip.player import Player
from rubberquince.ui.threads import placed_points, threads_of
from rubberquince.ui.tools.brush import Brush
from rubberquince.ui.tools.choosing import Chooser
from rubberquince.ui.tools.lines import LineTool, lines_of
from rubberquince.ui.tools.tool import Tool
from rubberquince.ui.tools.tug import Tug
from rubberquince.units import show
from rubberquince.view.stage import DISPLAYS, Display
from rubberquince.view.widget import View

DIRECTIONS = {"from the front": ("F", 0.0, 0.0), "from the side": ("S", 90.0, 0.0), "from above": ("T", 0.0, 89.0),
              "from a corner": ("D", 30.0, 24.0)}        # key, turn and lift of the camera in degrees
TOOLS: tuple[type[Tool], ...] = (LineTool, Brush, Chooser, Tug)
TIPS = {"smooth": "The skin as it will be seen",
        "cells": "The cells that carry solids, and the triangles of shells and nets",
        "stretch": "Where the skin is pressed (slate) and pulled (clay)",
        "holds": "Which points never move", "gap": "The distance that pieces keep to what they touch",
        "map": "The map of a value of the chosen piece: the square at the end of its row opens it"}


class ViewZone(QWidget):
    """Shows the scene at the player's frame and turns drags into changes of the document.

    ``refine_asked`` (n,) bool: the mesh of the chosen piece is to be refined between these points.
    """

    refine_asked = Signal(object)

    def __init__(self, bench: Bench, runner: Runner, player: Player, helper: Assistant) -> None:
        super().__init__()
        self._bench, self._runner, self._player = bench, runner, player
        self._weighed: tuple[object, np.ndarray] = None, np.zeros(0)     # the last weights, and of what
        self.shown_cells = ShownCells(bench, helper)
        self.shown_cells.came.connect(self.show_frame)
        self.view = View()
        self.view.place_of = self._place_of
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.view)
        self.tools: dict[str, Tool] = {kind.name: kind(bench, self.view, self) for kind in TOOLS}
        self.tool_pills: dict[str, QPushButton] = {}
        self._bar, self.displays = self._make_bar()
        self.notice = Notice(self)
        self._legend = Legend(self)
        self._hint = self._make_hint()
        bench.opened.connect(self.frame_moving)
        bench.scene_changed.connect(self._on_scene)
        bench.chose.connect(self._on_chose)
        bench.said.connect(self.notice.say)
        bench.map_shown.connect(self._on_map)
        player.shown.connect(lambda _: self.show_frame())
        runner.frame_came.connect(self._on_frame)
        self.view.clicked.connect(bench.choose)
        tug, chooser = self.tools[Tug.name], self.tools[Chooser.name]
        assert isinstance(tug, Tug) and isinstance(chooser, Chooser)
        chooser.refine_asked.connect(self.refine_asked)
        tug.asked.connect(self._tug)
        runner.frame_came.connect(lambda number: tug.on_frame(number, runner.pull))
        self.view.drag_began.connect(lambda _: bench.document.begin_gesture())
        self.view.drag_ended.connect(lambda: bench.document.end_gesture())
        self.view.dragged.connect(
            lambda piece_id, place: bench.set_value("move, turn or size", "place", place, piece_id))
        self._on_scene(bench.scene, bench.scene)

    def _make_bar(self) -> tuple[QFrame, dict[str, QPushButton]]:
        group = QButtonGroup(self)
        line = row(gap=0)
        buttons: dict[str, QPushButton] = {}
        for name in DISPLAYS:
            button = QPushButton(name)
            button.setObjectName("part")
            button.setCheckable(True)
            button.setToolTip(TIPS[name])
            button.setAccessibleName(f"Show {name}")
            button.clicked.connect(lambda _, name=name: self.set_display(name))
            group.addButton(button)
            line.addWidget(button)
            buttons[name] = button
        buttons["smooth"].setChecked(True)
        line.addWidget(framed(column(), "rule"))
        for called, tool in self.tools.items():
            pill = QPushButton(called)
            pill.setObjectName("part")
            pill.setCheckable(True)
            pill.setToolTip(tool.tip)
            pill.clicked.connect(lambda on, called=called: self.take_up(called, on))
            tool.turned.connect(lambda on, called=called: self._on_tool(called, on))
            line.addWidget(pill)
            self.tool_pills[called] = pill
            if tool.panel is not None:
                tool.panel.setParent(self)
                tool.panel.hide()
        bar = framed(line, "bar")
        bar.setParent(self)
        bar.move(12, 12)
        return bar, buttons

    def take_up(self, name: str, on: bool | None = None) -> None:
        """Take a tool up by its name, or put it away; the one that was in hand is put away."""
        on = not self.tools[name].on if on is None else on
        for other in self.tools.values():
            if other.on:
                other.turn(False)
        if on:
            self.tools[name].turn(True)
        self.tool_pills[name].setChecked(self.tools[name].on)

    def _on_tool(self, name: str, on: bool) -> None:
        self.tool_pills[name].setChecked(on)
        self.show_frame()
        panel = self.tools[name].panel
        if panel is not None:
            panel.setVisible(on)
            panel.adjustSize()
            panel.move(12, 12 + self._bar.height() + 8)
            panel.raise_()

    def _make_hint(self) -> QFrame:
        """What an empty bench offers."""
        said = label("Nothing here yet.", "head")
        said.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.offers = row(gap=8)
        hint = framed(column(said, self.offers, margins=(20, 14, 20, 16), gap=12), "bar")
        hint.setParent(self)
        return hint

    def offer(self, text: str, do: Callable[[], object]) -> None:
        """A button that an empty bench shows."""
        button = QPushButton(text)
        button.clicked.connect(lambda _: do())
        self.offers.addWidget(button)

    def set_display(self, display: Display) -> None:
        self.view.stage.display = display
        self.displays[display].setChecked(True)
        self.show_frame()

    def frame_all(self) -> None:
        self.view.frame()

    def frame_chosen(self) -> None:
        self.view.frame([self._bench.chosen_id] if self._bench.chosen_id else None, 1.5)

    def look(self, direction: str) -> None:
        """One of DIRECTIONS, at the same thing from the same distance."""
        _, turn, lift = DIRECTIONS[direction]
        self.view.camera = replace(self.view.camera, turn=float(np.radians(turn)), lift=float(np.radians(lift)))
        self.view.redraw()

    def show_spots(self, spots: list[np.ndarray]) -> None:
        """Mark places (3,), m, where the start will make trouble."""
        self.view.spots = spots
        self.view.update()

    def frame_moving(self) -> None:
        """A first look: what moves and what lies close about it."""
        moving = [p.id for p in self._bench.scene.pieces if p.moves]
        self.view.frame(moving or None, 2.0)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._bar.adjustSize()
        self._bar.raise_()
        if not self.notice.isHidden():
            self.notice.place()
        self._hint.adjustSize()
        self._hint.move((self.width() - self._hint.width()) // 2, (self.height() - self._hint.height()) // 2)
        self._legend.move(12, self.height() - self._legend.height() - 12)

    # --- what is shown --------------------------------------------------------------------------------

    def _place_of(self, piece_id: str) -> Place | None:
        piece = next((p for p in self._bench.scene.pieces if p.id == piece_id), None)
        place: Place | None = at_frame(piece, self._bench.frame).place if piece is not None else None
        return place

    def _on_scene(self, before: Scene, after: Scene) -> None:
        self._hint.setVisible(not after.pieces)
        if after is not before:
            self.notice.hide()              # what it said was of the scene before
        self.view.stage.show(after, self._bench.document.meshes)
        self.view.stage.chosen = self._bench.chosen_id
        self.show_frame()
        fresh = {p.id for p in after.pieces} - {p.id for p in before.pieces}
        if any(not self.view.shows(piece_id) for piece_id in fresh):
            self.frame_all()

    def _on_chose(self, piece_id: str) -> None:
        self.view.stage.chosen = piece_id or None
        self.show_frame()

    def _tug(self, piece: str, place: np.ndarray, target: np.ndarray | None) -> None:
        self._runner.tug(piece, place, target, self._player.frame)
        if target is not None:
            self._player.follow()

    def _on_frame(self, number: int) -> None:
        if not self._player.playing and number == self._player.frame:
            self.show_frame()

    def show_frame(self) -> None:
        """The player's frame, or the pieces as placed where there is none of it."""
        stage, frame, scene = self.view.stage, self._player.frame, self._bench.scene
        if stage.scene is not scene:        # who heard of the new scene first moves the player; it is shown in a moment
            return
        at_start = frame == scene.run.first
        computed = None if at_start else self._runner.skins(frame)
        led = self._bench.chosen is not None and self._bench.chosen.role in LED
        self.view.handles_shown = at_start or computed is None or led
        stage.weights = self._weights() if stage.display == "map" else {}
        self._legend.show_display(stage.display, self._map_words() if stage.display == "map" else ())
        skins = computed or {}
        placed = placed_points(scene, self._bench.document.meshes, frame, stage.bodies.keys() - skins.keys(), skins)
        stage.show_frame({**placed, **skins})
        chosen = stage.bodies.get(stage.chosen or "")
        drawn = self.view.handles_shown or self.tools[LineTool.name].on     # a finished frame is looked at by itself
        self.view.lines = lines_of(self._bench, chosen.points if chosen is not None and drawn else None)
        self.view.threads = threads_of(self._bench, chosen.points if chosen is not None else None)
        stage.cells = {}
        if stage.display == "cells":
            stage.cells = {**self.shown_cells.surfaces(scene, {} if at_start else self._runner.nodes(frame)),
                           **faces_of_skins(scene, self._bench.document.meshes, stage.bodies)}
        self.view.redraw()

    def _weights(self) -> dict[str, np.ndarray]:
        """What the open map of the chosen piece says, or its first one, by the piece's id."""
        piece, a_map = self._bench.chosen, self._shown_map()
        if piece is None or a_map is None:
            return {}
        if self._weighed[0] != (piece, self._bench.scene.pieces, a_map):
            weights = weights_of(a_map, piece, self._bench.scene, self._bench.document.meshes).astype(np.float32)
            self._weighed = (piece, self._bench.scene.pieces, a_map), weights
        return {piece.id: self._weighed[1]}

    def _shown_map(self) -> Map | None:
        """The map of the chosen piece that is open, or its first one."""
        piece = self._bench.chosen
        return None if piece is None else piece.map_of(self._bench.map_path or "") or next(iter(piece.maps), None)

    def _map_words(self) -> tuple[str, ...]:
        """What the ends of the open map are, and of what."""
        a_map = self._shown_map()
        if a_map is None:
            return "", "no map is open", ""
        head, _, name = a_map.of.partition(".")
        said = about(type(getattr(self._bench.chosen, head)))[name]
        return show(a_map.low, said.unit), said.name, show(a_map.high, said.unit)

    def _on_map(self) -> None:
        """Show the map that was opened; where it was closed, the skin."""
        opened = self._bench.map_path is not None
        self.show_frame()
        if opened or self.view.stage.display == "map":
            self.set_display("map" if opened else "smooth")
