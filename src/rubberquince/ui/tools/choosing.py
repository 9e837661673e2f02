"""The tool that chooses points of a piece: by click, box, loop or row.  They are given values, or kept as a set."""

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QInputDialog, QPushButton, QWidget

from rubberquince.document.lines import line_of
from rubberquince.document.maps import Layer, Map, TypedRule
from rubberquince.document.scene import Piece, PointSet
from rubberquince.document.weights import weights_of
from rubberquince.shapes.paths import row_of, side_near
from rubberquince.shapes.polymesh import edges_of
from rubberquince.shapes.rings import grown, in_loop, shrunk
from rubberquince.shapes.surface import point_normals
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import NumberEdit
from rubberquince.ui.parts import calm, column, framed, label, row
from rubberquince.ui.sheet.stack import put_map
from rubberquince.ui.tools.table import PointTable
from rubberquince.ui.tools.tool import Tool
from rubberquince.view.widget import View

LEAST_SWEEP = 4.0           # px: less is a click
REACH = 0.4                 # of an edge: how far around its place a typed value holds
NO_SET = "sets…"


class Chooser(Tool):
    """``chosen`` (n,) bool are points of the piece that is chosen, on the mesh that it has now.

    ``refine_asked`` (n,) bool: its mesh is to be refined between these points.
    """

    refine_asked = Signal(object)

    name = "choose"
    tip = "Choose points of the piece, give them values, keep them as a set"
    hint = ("Click a point of {}, drag a box, or a loop with Shift; Ctrl adds; double-click an edge for its row; "
            "+ and - grow and shrink.")

    def __init__(self, bench: Bench, view: View, parent: QWidget) -> None:
        super().__init__(bench, view, parent)
        self.chosen = np.zeros(0, bool)
        self._mesh_key = ""
        self._corner, self._loop, self._adds, self._free = QPointF(), list[QPointF](), False, False
        self.count = label("no points chosen")
        self.value = NumberEdit("Value of the chosen points", "%")
        self.value.setFixedWidth(64)
        self.value.typed.connect(self.type_value)
        self.value.refused.connect(bench.say)
        self.through = QCheckBox("through")
        self.through.setToolTip("Also what lies behind, and what is turned away")
        self.sets = calm(QComboBox())
        self.sets.setAccessibleName("Sets of points")
        self.sets.setToolTip("Choose the points of a set that was kept")
        self.sets.activated.connect(lambda _: self._take_set(self.sets.currentData()))
        keep, table, refine = QPushButton("keep as a set…"), QPushButton("table…"), QPushButton("refine there")
        refine.setToolTip("Four faces where one was, between the chosen points only; the form stays")
        refine.clicked.connect(self._refine)
        keep.clicked.connect(self._keep_set)
        table.clicked.connect(self.open_table)
        self.panel = framed(column(row(self.count, label("value"), self.value, self.through, gap=6),
                                   row(self.sets, keep, table, refine, gap=6), margins=(10, 5, 10, 6), gap=4), "bar")
        self.hear(view.aimed_twice, self._take_row)
        self.hear(view.sweep_began, self._begin)
        self.hear(view.swept, self._go_on)
        self.hear(view.sweep_ended, self._end)
        self.hear(view.keyed, self._on_key)
        bench.chose.connect(lambda _: self.refresh())
        bench.scene_changed.connect(lambda *_: self.refresh())

    def turn(self, on: bool) -> None:
        super().turn(on)
        self.refresh()

    def grabs(self, at: QPointF) -> bool:
        return True

    def put_away(self) -> None:
        self._loop, self._view.frame_drawn, self._view.dots = [], [], np.zeros((0, 3))

    def refresh(self) -> None:
        """Show what is chosen; points of another mesh are no longer."""
        piece = self._bench.chosen
        if not self.on or piece is None:
            return
        mesh = self.mesh(piece)
        if mesh.key != self._mesh_key:
            self._mesh_key, self.chosen = mesh.key, np.zeros(len(mesh.points), bool)
        count, points = int(self.chosen.sum()), self.skin_now()
        self.count.setText(f"{count} points chosen" if count != 1 else "1 point chosen")
        if points is not None and len(points) == len(self.chosen):
            self._view.dots = points[self.chosen]
        self.sets.clear()
        self.sets.addItem(NO_SET, "")
        for kept in piece.sets:
            self.sets.addItem(kept.name, kept.id)
        self._view.update()

    def choose(self, points: np.ndarray, adds: bool = False) -> None:
        """Choose ``points`` (n,) bool, or these besides."""
        self.chosen = self.chosen | points if adds else points
        self.refresh()

    # --- by the hand ----------------------------------------------------------------------------------

    def _begin(self, at: QPointF, keys: Qt.KeyboardModifier) -> None:
        self._adds = bool(keys & Qt.KeyboardModifier.ControlModifier)
        self._free = bool(keys & Qt.KeyboardModifier.ShiftModifier)
        self._corner, self._loop = at, [at]

    def _go_on(self, at: QPointF) -> None:
        if not self._loop:
            return
        a, b = self._corner, at
        self._loop = [*self._loop, at] if self._free else [a, QPointF(b.x(), a.y()), b, QPointF(a.x(), b.y())]
        self._view.frame_drawn = self._loop
        self._view.update()

    def _end(self, at: QPointF) -> None:
        loop, self._loop, self._view.frame_drawn = self._loop, [], []
        gone = max(((way - self._corner).manhattanLength() for way in loop), default=0.0)   # it may end where it began
        if gone > LEAST_SWEEP and len(loop) > 2:
            self.choose(self._within(np.array([(corner.x(), corner.y()) for corner in loop])), self._adds)
        elif loop:
            self._click(at)

    def _click(self, at: QPointF) -> None:
        spot, points = self._view.spot(at), np.zeros(len(self.chosen), bool)
        if spot is None:
            self.choose(points, self._adds)
            return
        points[spot.corners[spot.weights.argmax()]] = True
        self.choose(self.chosen ^ points if self._adds else points)

    def _within(self, loop: np.ndarray) -> np.ndarray:
        """Points (n,) bool in a loop (k, 2) of pixels; unless through, those that look here and that nothing hides."""
        points, piece = self.skin_now(), self._bench.chosen
        if points is None or piece is None:
            return np.zeros(len(self.chosen), bool)
        at = self._view.camera.project(points, self._view.width(), self._view.height())
        inside = (at[:, 2] > 0.0) & in_loop(at[:, :2], loop)
        if not self.through.isChecked():
            eye = np.array(self._view.camera.eye)
            inside &= (point_normals(points, self.mesh(piece).triangles) * (eye - points)).sum(axis=1) > 0.0
            inside[inside] = self._view.stage.seen(eye, points[inside])
        return inside

    def _take_row(self, at: QPointF) -> None:
        spot, piece = self._view.spot(at), self._bench.chosen
        if spot is None or piece is None:
            return
        mesh, points = self.mesh(piece), np.zeros(len(self.chosen), bool)
        points[row_of(mesh, *side_near(mesh, piece.place.size, spot.corners, spot.weights))[0]] = True
        self.choose(points, self._adds)

    def _on_key(self, key: int) -> None:
        piece = self._bench.chosen
        if key == Qt.Key.Key_Escape:
            self.turn(False)
        elif piece is not None and key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            change = grown if key == Qt.Key.Key_Plus else shrunk
            self.choose(change(self.chosen, self.mesh(piece).triangles))

    # --- values and sets ------------------------------------------------------------------------------

    def type_value(self, value: float) -> None:
        """Give the chosen points a value 0 .. 1 of the open map."""
        if not 0.0 <= value <= 1.0:
            self._bench.say("The value of points in a map should be between 0 and 100 %.")
        elif self._bench.map_path is None:
            self._bench.say("Open a map first: click the square at the end of a row of the sheet.")
        elif not self.chosen.any():
            self._bench.say("Choose points first: click them, or drag a box around them.")
        else:
            self.set_values(np.flatnonzero(self.chosen), np.full(int(self.chosen.sum()), value))
            self.value.set_value(value)

    def set_values(self, points: np.ndarray, values: np.ndarray) -> None:
        """Give points (k,) values (k,) of the open map, on a layer of typed values on top of it."""
        piece, path = self._bench.chosen, self._bench.map_path
        if piece is None or path is None:
            return
        mesh = self.mesh(piece)
        a_map = piece.map_of(path) or Map(of=path)
        layers = a_map.layers
        if not layers or not isinstance(layers[-1].rule, TypedRule):
            layers = (*layers, Layer(rule=TypedRule(reach=self._reach(piece))))
        rule = layers[-1].rule
        if not isinstance(rule, TypedRule):
            return
        known = dict(zip(rule.places, rule.values))
        places = [(float(x), float(y), float(z)) for x, y, z in mesh.points[points]]
        known.update(zip(places, values.tolist()))
        typed = rule.model_copy(update={"places": tuple(known), "values": tuple(known.values())})
        layers = (*layers[:-1], layers[-1].model_copy(update={"rule": typed}))
        put_map(self._bench, "type values", a_map.model_copy(update={"layers": layers}))

    def open_table(self) -> None:
        """A table of the chosen points with their values in the open map."""
        piece, path = self._bench.chosen, self._bench.map_path
        if piece is None or path is None or not self.chosen.any():
            self._bench.say("Open a map and choose points first; the table shows their values.")
            return
        a_map = piece.map_of(path) or Map(of=path)
        weights = weights_of(a_map, piece, self._bench.scene, self._bench.document.meshes)
        points = np.flatnonzero(self.chosen)
        skin = self.mesh(piece).points * np.array(piece.place.size)
        PointTable(self._view, self._bench, points, skin[points], weights[points], self.set_values).exec()

    def _refine(self) -> None:
        """Ask for finer faces between the chosen points, and choose what is there then, to be refined once more."""
        before = self.chosen
        if not before.any():
            self._bench.say("Choose points first: the faces between them are refined.")
            return
        self.refine_asked.emit(before)
        if len(self.chosen) > len(before):
            self.choose(np.concatenate([before, np.ones(len(self.chosen) - len(before), bool)]))

    def _reach(self, piece: Piece) -> float:
        """How far around its place a typed value holds, m: on this mesh just the point itself."""
        mesh, size = self.mesh(piece), np.array(piece.place.size)
        edges = edges_of(mesh.triangles)
        length = np.linalg.norm((mesh.points[edges[:, 0]] - mesh.points[edges[:, 1]]) * size, axis=1)
        return max(REACH * float(np.median(length)), 1e-6)

    def _keep_set(self) -> None:
        piece = self._bench.chosen
        if piece is None or not self.chosen.any():
            self._bench.say("Choose the points that are to be kept as a set first.")
            return
        name, meant = QInputDialog.getText(self._view, "Keep as a set", "Name of the set:", text="set")
        if meant and name.strip():
            places = tuple((float(x), float(y), float(z)) for x, y, z in self.mesh(piece).points[self.chosen])
            same = [s.id for s in piece.sets if s.name == name.strip()]
            fresh = PointSet(id=same[0] if same else self._bench.document.new_id(), name=name.strip()[:60],
                             places=places, reach=self._reach(piece))
            others = tuple(s for s in piece.sets if s.id != fresh.id)
            self._bench.set_value("keep a set of points", "sets", (*others, fresh), piece.id)

    def _take_set(self, set_id: str) -> None:
        piece, points = self._bench.chosen, np.zeros(len(self.chosen), bool)
        if piece is not None and set_id:
            points[line_of(piece, set_id, self._bench.document.meshes)] = True
            self.choose(points)
