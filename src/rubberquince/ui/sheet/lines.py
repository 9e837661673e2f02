"""Lines: the curves on the skin of the chosen piece, by name."""

from functools import partial

import numpy as np
from PySide6.QtWidgets import QCheckBox, QLineEdit, QMenu, QPushButton

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.lines import line_of, mirrored, on_the_far_side, smoothed
from rubberquince.document.scene import Curve, Piece, Seam
from rubberquince.errors import QuinceError
from rubberquince.shapes.repair import holes
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, empty, label, row
from rubberquince.ui.sheet.section import Section
from rubberquince.ui.tools.lines import put, without
from rubberquince.units import show


class LinesSection(Section):
    """A row for each curve: its name, whether it is closed, how long it is."""

    title = "Lines"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._rows = column(gap=5)
        self.rows.addLayout(self._rows)
        self.outline = QPushButton("Its outline as a line")
        self.outline.setToolTip("A line along the rim of an open skin")
        self.outline.clicked.connect(self._from_outline)
        self.rows.addWidget(self.outline)
        self.rows.addWidget(label("Draw more with “draw lines” in the view.", "small", wrap=True))
        self._shown: tuple[str, ...] | None = None
        self.names: list[QLineEdit] = []
        self.closed: list[QCheckBox] = []
        self._lengths: list[object] = []

    def applies(self, piece: Piece) -> bool:
        return piece.moves or bool(piece.curves)

    def summary(self, piece: Piece) -> str:
        return " · ".join(curve.name for curve in piece.curves) or "none"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        ids = (piece.id, *(curve.id for curve in piece.curves))
        if ids != self._shown:
            self._shown = ids
            self._make(piece)
        unit = self.bench.scene.length_unit
        for curve, name, closed, said in zip(piece.curves, self.names, self.closed, self._lengths):
            name.setText(curve.name)
            closed.setChecked(curve.closed)
            said.setText(_length(piece, curve, self.bench, unit))       # type: ignore[attr-defined]

    def _make(self, piece: Piece) -> None:
        empty(self._rows)
        self.names, self.closed, self._lengths = [], [], []
        for k, curve in enumerate(piece.curves):
            name, closed, remove = QLineEdit(), QCheckBox("closed"), QPushButton("✕")
            name.setAccessibleName(f"Name of {curve.name}")
            name.setMaxLength(60)
            name.editingFinished.connect(partial(self._rename, k))
            closed.clicked.connect(lambda on, k=k: self._close(k, on))
            remove.setObjectName("bare")
            remove.setAccessibleName(f"Take {curve.name} away")
            remove.setFixedSize(22, 22)
            remove.clicked.connect(partial(self._remove, curve.id))
            more = QPushButton("more")
            more.setAccessibleName(f"More with {curve.name}")
            menu = QMenu(more)
            for text, do in (("A mirrored one", self._mirror), ("One on the far side", self._far_side),
                             ("Stitch it through", self._stitch), ("Smooth it", self._smooth)):
                menu.addAction(text, partial(do, k))
            more.setMenu(menu)
            self._rows.addLayout(row(name, closed, more, remove, gap=5))
            length = label("", "small")
            self._rows.addWidget(length)
            self.names.append(name)
            self.closed.append(closed)
            self._lengths.append(length)

    def _rename(self, k: int) -> None:
        piece, text = self.bench.chosen, self.names[k].text().strip()
        if piece is not None and k < len(piece.curves) and text and text != piece.curves[k].name:
            put(self.bench, "rename a line", piece, piece.curves[k].model_copy(update={"name": text}))

    def _close(self, k: int, on: bool) -> None:
        piece = self.bench.chosen
        if piece is not None and k < len(piece.curves):
            put(self.bench, "close a line", piece, piece.curves[k].model_copy(update={"closed": on}))

    def _remove(self, curve_id: str) -> None:
        piece = self.bench.chosen
        if piece is not None:
            without(self.bench, piece, curve_id)

    def _smooth(self, k: int) -> None:
        piece = self.bench.chosen
        if piece is not None and k < len(piece.curves):
            put(self.bench, "smooth a line", piece, smoothed(piece.curves[k]))

    def _mirror(self, k: int) -> None:
        piece = self.bench.chosen
        if piece is not None and k < len(piece.curves):
            self._add("mirror a line", piece, mirrored(piece.curves[k]), "mirrored")

    def _far_side(self, k: int) -> Curve | None:
        """A copy of a line where it comes out on the far side; None, and a sentence, where there is no such side."""
        piece = self.bench.chosen
        if piece is None or k >= len(piece.curves):
            return None
        far = on_the_far_side(piece, piece.curves[k], self.bench.document.meshes)
        if far is None:
            self.bench.say(f"{piece.name} has no far side behind {piece.curves[k].name}.")
            return None
        return self._add("project a line", piece, far, "far side")

    def _stitch(self, k: int) -> None:
        """Sew a line to where it comes out on the far side."""
        piece, document = self.bench.chosen, self.bench.document
        if piece is None or k >= len(piece.curves):
            return
        near = piece.curves[k]
        document.begin_gesture()
        far = self._far_side(k)
        if far is not None:
            seam = Seam(id=document.new_id(), one=piece.id, two=piece.id, along=(near.id, far.id))
            document.push(f"stitch {near.name} through",
                          self.bench.scene.model_copy(update={"seams": (*self.bench.scene.seams, seam)}))
        document.end_gesture()

    def _add(self, what: str, piece: Piece, curve: Curve, how: str) -> Curve:
        names = {one.name for one in piece.curves}
        base = f"{curve.name[:45]}, {how}"
        name = next(n for n in (base, *(f"{base} {k}" for k in range(2, 1000))) if n not in names)
        fresh = curve.model_copy(update={"id": self.bench.document.new_id(), "name": name})
        put(self.bench, what, piece, fresh)
        return fresh

    def _from_outline(self) -> None:
        piece = self.bench.chosen
        if piece is None:
            return
        mesh = unit_mesh(piece.shape, self.bench.document.meshes)
        loops = holes(mesh)
        if not loops:
            self.bench.say(f"{piece.name} has no outline: it is closed.")
            return
        for loop in loops:
            names = {curve.name for curve in piece.curves}
            name = next(n for n in ("outline", *(f"outline {k}" for k in range(2, 1000))) if n not in names)
            beads = tuple((float(x), float(y), float(z)) for x, y, z in mesh.points[loop][:: len(loop) // 4000 + 1])
            put(self.bench, "take the outline", piece,
                Curve(id=self.bench.document.new_id(), name=name, beads=beads, closed=True))
            piece = self.bench.chosen or piece


def _length(piece: Piece, curve: Curve, bench: Bench, unit: str) -> str:
    try:
        way = line_of(piece, curve.id, bench.document.meshes)
        points = unit_mesh(piece.shape, bench.document.meshes).points
    except QuinceError:
        return ""
    place = points[np.append(way, way[:1]) if curve.closed else way] * np.array(piece.place.size)
    length = float(np.linalg.norm(np.diff(place, axis=0), axis=1).sum())
    return f"{show(length, unit)} long, past {len(way)} points"
