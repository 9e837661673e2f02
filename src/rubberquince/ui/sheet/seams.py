"""Seams: what the chosen piece is sewn to, how strongly and over how many frames."""

from functools import partial

from PySide6.QtWidgets import QComboBox, QPushButton

from rubberquince.document.scene import Piece, Scene, Seam
from rubberquince.document.values import SeamValues, about
from rubberquince.errors import SceneError
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Field, Value
from rubberquince.ui.parts import calm, column, empty, label, row
from rubberquince.ui.sheet.section import Section, named_row


class SeamsSection(Section):
    """A few rows for each seam of the piece."""

    title = "Seams"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._rows = column(gap=5)
        self.rows.addLayout(self._rows)
        self._lines: list[tuple[object, ...]] = []
        self.fields: list[Field] = []

    def applies(self, piece: Piece) -> bool:
        return bool(_seams_of(piece, self.bench.scene))

    def summary(self, piece: Piece) -> str:
        others = [_other(piece, seam, self.bench.scene) for seam in _seams_of(piece, self.bench.scene)]
        names = dict.fromkeys("itself" if other.id == piece.id else other.name for other in others)
        return "sewn to " + " and ".join(names)

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        seams = _seams_of(piece, self.bench.scene)
        lines = [_lines(seam, self.bench.scene) for seam in seams]
        if lines != self._lines or not self.fields:
            self._make(piece, seams)
        self._lines, usual = lines, SeamValues()
        shown = [(seam, name) for seam in seams for name in about(SeamValues)]
        for field, (seam, name) in zip(self.fields, shown):
            field.show_value(getattr(seam.values, name), getattr(usual, name))

    def _make(self, piece: Piece, seams: tuple[Seam, ...]) -> None:
        empty(self._rows)
        self.fields = []
        for seam in seams:
            apart = QPushButton("Take apart")
            apart.clicked.connect(partial(self._take_apart, seam.id))
            line = row(label(f"To {_other(piece, seam, self.bench.scene).name}", "head"))
            line.addStretch(1)
            line.addWidget(apart)
            self._rows.addLayout(line)
            self._rows.addLayout(named_row("Along", *(self._along(seam, k) for k in (0, 1))))
            for name, said in about(SeamValues).items():
                value = Value(said.name, name, said.unit, said.low, said.high, said.tip, said.log)
                field = Field(value, partial(self._change_seam, seam.id, name))
                field.swept.connect(lambda begins: self.bench.document.begin_gesture() if begins
                                    else self.bench.document.end_gesture())
                field.refused.connect(self.bench.say)
                self.fields.append(field)
                self._rows.addWidget(field)

    def _along(self, seam: Seam, side: int) -> QComboBox:
        """A choice of the lines of one of its pieces."""
        piece, box = self.bench.scene.piece((seam.one, seam.two)[side]), calm(QComboBox())
        box.setAccessibleName(f"Line of {piece.name}")
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(4)
        for key, name in (("", "the outline"), *((curve.id, curve.name) for curve in piece.curves)):
            box.addItem(name, key)
        box.setToolTip(f"Which line of {piece.name} is sewn")
        box.setCurrentIndex(max(box.findData(seam.along[side]), 0))
        box.activated.connect(lambda _: self._sew_along(seam.id, side, box.currentData()))
        return box

    def _sew_along(self, seam_id: str, side: int, curve: str) -> None:
        scene = self.bench.scene
        seams = tuple(seam.model_copy(update={"along": (curve, seam.along[1]) if side == 0 else (seam.along[0], curve)})
                      if seam.id == seam_id else seam for seam in scene.seams)
        self.bench.document.push("sew along another line", scene.model_copy(update={"seams": seams}))

    def _change_seam(self, seam_id: str, name: str, number: float) -> bool:
        said = about(SeamValues)[name]
        try:
            scene = self.bench.scene.with_seam(seam_id, name, number)
        except SceneError as error:
            self.bench.say(str(error))
            return False
        self.bench.document.push(f"change {said.name.lower()}", scene)
        return True

    def _take_apart(self, seam_id: str) -> None:
        scene = self.bench.scene
        kept = tuple(seam for seam in scene.seams if seam.id != seam_id)
        self.bench.document.push("take a seam apart", scene.model_copy(update={"seams": kept}))


def _lines(seam: Seam, scene: Scene) -> tuple[object, ...]:
    """What the rows of a seam are made for: its pieces, and all their lines."""
    curves = [(c.id, c.name) for key in (seam.one, seam.two) for c in scene.piece(key).curves]
    return seam.id, seam.one, seam.two, seam.along, curves


def _seams_of(piece: Piece, scene: Scene) -> tuple[Seam, ...]:
    return tuple(seam for seam in scene.sewn() if piece.id in (seam.one, seam.two))


def _other(piece: Piece, seam: Seam, scene: Scene) -> Piece:
    return scene.piece(seam.two if seam.one == piece.id else seam.one)
