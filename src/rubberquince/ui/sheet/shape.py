"""Shape: name, real size, how finely it is divided, and tools that give it another mesh."""

from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton

from rubberquince.bake.balls import width_of
from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import (
    BlockShape,
    ImportedShape,
    PelletsShape,
    Piece,
    RevolvedShape,
    SuperellipsoidShape,
)
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import NumberEdit, Value, WholeEdit
from rubberquince.ui.parts import column, framed, label, row
from rubberquince.ui.pieces import Pieces
from rubberquince.ui.sheet.profile import ProfileEdit
from rubberquince.ui.sheet.section import NAME_WIDTH, Section, named_row
from rubberquince.units import show

ROUND = (("around", (6, 400)), ("rings", (3, 200)))
DIVISIONS = {"sphere": ROUND, "superellipsoid": ROUND, "torus": (("around", (6, 400)), ("sides", (3, 200))),
             "revolved": (("around", (6, 800)), ("bands", (2, 400))),
             "cushion": (("divisions", (2, 200)), ("panels", (1, 20))),
             "pellets": (("count", (1, 5000)), ("around", (6, 24))),
             "sheet": (("across", (1, 200)), ("along", (1, 200)))}
SIDES, AXES = ("Width", "Height", "Depth"), ("wide", "high", "deep")
USUAL_SHARE, USUAL_FACE, USUAL_BALL = 0.5, 0.005, 0.012         # of a thinning; m, of a remesh, of pellets


def shape_name(piece: Piece) -> str:
    shape = piece.shape
    if isinstance(shape, (RevolvedShape, ImportedShape)):
        return shape.name
    return shape.kind


class ShapeSection(Section):
    """Name, real size and how finely the shape is divided."""

    title = "Shape"

    def __init__(self, bench: Bench, pieces: Pieces) -> None:
        super().__init__(bench)
        self._pieces = pieces
        self.name = QLineEdit()
        self.name.setAccessibleName("Name")
        self.name.setMaxLength(60)
        self.name.editingFinished.connect(self._rename)
        self.rows.addLayout(named_row("Name", self.name))
        unit = bench.scene.length_unit
        for k, side in enumerate(SIDES):
            self.add_field(Value(side, f"place.size.{k}", unit, 0.01, 2.0,
                                 f"{side} of the shape along its own axis, in {unit}", log=True))
        self.divisions = [WholeEdit(f"Divisions {axis}", 1, 200) for axis in AXES]
        self._divisions_row = row(*self.divisions, gap=4)
        self._divided = label("Divided in")
        for k, box in enumerate(self.divisions):
            box.chosen.connect(lambda count, k=k: self._divide(k, count))
            box.refused.connect(bench.say)
        line = row(self._divided, gap=5)
        self._divided.setFixedWidth(NAME_WIDTH)
        line.addLayout(self._divisions_row)
        self.rows.addLayout(line)
        self._count = label("", "small")
        self.rows.addWidget(self._count)
        self._add_seed()
        self._add_profile()
        self._add_tools(unit)
        self._add_filling(unit)

    def _add_seed(self) -> None:
        self.seed = WholeEdit("Seed", 0, 1_000_000)
        self.seed.setFixedWidth(56)
        self.seed.setToolTip("Every seed gives another form, always the same one")
        self.seed.chosen.connect(lambda seed: self._set_seed(seed))
        self.seed.refused.connect(self.bench.say)
        self.surprise = QPushButton("Surprise me")
        self.surprise.setToolTip("The form of the next seed")
        self.surprise.clicked.connect(lambda: self._set_seed(None))
        line = row(label("Seed"), self.seed, self.surprise, gap=7)
        line.insertStretch(1, 1)
        self._seed_row = framed(line, "plain")
        self.rows.addWidget(self._seed_row)

    def _add_profile(self) -> None:
        """The profile of a turned shape, and the numbers that belong to it."""
        self.profile = ProfileEdit()
        self.profile.took.connect(lambda begins: self.bench.document.begin_gesture() if begins
                                  else self.bench.document.end_gesture())
        self.profile.changed.connect(lambda profile: self._set("change profile", "shape.profile", profile))
        self.rounded, self.flutes = WholeEdit("Corners rounded", 0, 4), WholeEdit("Flutes", 0, 60)
        self.rounded.setToolTip("How often the corners of the profile are cut: 0 leaves them sharp")
        self.flutes.setToolTip("How often the radius swells around, where the profile has flutes")
        self.rounded.chosen.connect(lambda count: self._set("round corners", "shape.rounded", count))
        self.flutes.chosen.connect(lambda count: self._set("change flutes", "shape.flutes", count))
        for edit in (self.rounded, self.flutes):
            edit.setFixedWidth(46)
            edit.refused.connect(self.bench.say)
        line = row(label("Rounded"), self.rounded, label("Flutes"), self.flutes, gap=7)
        line.addStretch(1)
        self._profile_rows = framed(column(self.profile, line, gap=5), "plain")
        self.rows.addWidget(self._profile_rows)

    def _add_tools(self, unit: str) -> None:
        """Buttons that give the piece another mesh, with the number they go by."""
        self.share, self.face = NumberEdit("Share of the triangles to keep", "%"), NumberEdit("Width of a face", unit)
        self.share.set_value(USUAL_SHARE)
        self.face.set_value(USUAL_FACE)
        for edit in (self.share, self.face):
            edit.setFixedWidth(64)
            edit.typed.connect(edit.set_value)
            edit.refused.connect(self.bench.say)
        self.refine, self.thin, self.remesh = (QPushButton(text) for text in ("Refine", "Thin", "Remesh"))
        self.refine.clicked.connect(self._pieces.refine)
        self.thin.clicked.connect(lambda: self._pieces.thin(self.share.value))
        self.remesh.clicked.connect(lambda: self._pieces.remesh(self.face.value))
        for button, tip, *rest in (
                (self.refine, "Four faces where one was; the form stays", label("each face in four", "soft")),
                (self.thin, "Fewer triangles, flat parts first", label("keep", "soft"), self.share),
                (self.remesh, f"A closed mesh of even faces, in {unit}; mends open and tangled ones",
                 label("faces of", "soft"), self.face)):
            button.setFixedWidth(NAME_WIDTH - 18)
            button.setToolTip(tip)
            line = row(button, *rest, gap=7)
            line.addStretch(1)
            self.rows.addLayout(line)

    def _add_filling(self, unit: str) -> None:
        """What Pellets are to fill, or to lie on, and how wide they are then."""
        self.filled, self.how, self.ball = QComboBox(), QComboBox(), NumberEdit("Width of a ball", unit)
        self.filled.setAccessibleName("Piece to be filled")
        self.how.setAccessibleName("Inside or on its skin")
        self.how.addItems(["inside", "on the skin of"])
        self.ball.set_value(USUAL_BALL)
        self.ball.setFixedWidth(64)
        self.ball.typed.connect(self.ball.set_value)
        self.ball.refused.connect(self.bench.say)
        self.fill = QPushButton("Fill")
        self.fill.setToolTip("Put as many balls there as fit without touching")
        self.fill.setFixedWidth(NAME_WIDTH - 18)
        self.fill.clicked.connect(lambda: self._pieces.heap(
            self.filled.currentData() or "", self.how.currentIndex() == 1, self.ball.value))
        line = row(self.fill, label("balls of", "soft"), self.ball, gap=7)
        line.addStretch(1)
        self._filling = framed(column(line, row(self.how, self.filled, gap=5), gap=5), "plain")
        self.rows.addWidget(self._filling)

    def applies(self, piece: Piece) -> bool:
        return piece.role != "force"

    def summary(self, piece: Piece) -> str:
        unit = self.bench.scene.length_unit
        return f"{shape_name(piece)} · {show(max(piece.place.size), unit)}"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        if not self.name.hasFocus():
            self.name.setText(piece.name)
        self._seed_row.setVisible(isinstance(piece.shape, SuperellipsoidShape))
        if isinstance(piece.shape, SuperellipsoidShape):
            self.seed.set_value(piece.shape.seed)
        self._profile_rows.setVisible(isinstance(piece.shape, RevolvedShape))
        if isinstance(piece.shape, RevolvedShape):
            self.profile.show_profile(piece.shape.profile, piece.shape.rounded)
            self.rounded.set_value(piece.shape.rounded)
            self.flutes.set_value(piece.shape.flutes)
        self._filling.setVisible(piece.role == "pellets")
        if piece.role == "pellets":
            chosen = self.filled.currentData()
            self.filled.clear()
            for other in self.bench.scene.pieces:
                if other.id != piece.id and other.role != "force":
                    self.filled.addItem(other.name, other.id)
            self.filled.setCurrentIndex(max(self.filled.findData(chosen), 0))
        counts = _divisions(piece)
        self._divided.setVisible(bool(counts))
        self._divided.setText("Balls, around" if isinstance(piece.shape, PelletsShape) else "Divided in")
        for k, box in enumerate(self.divisions):
            box.setVisible(k < len(counts))
            if k < len(counts):
                count, bounds, name = counts[k]
                box.set_bounds(*bounds)
                box.set_value(count)
                box.setToolTip(name)
        try:
            mesh = unit_mesh(piece.shape, self.bench.document.meshes)
            counted = f"{len(mesh.face_sizes):,} faces"
            if piece.role == "pellets":
                balls, width = width_of(piece, self.bench.document.meshes)
                counted = f"{balls:,} balls about {show(width, self.bench.scene.length_unit)} wide"
            text = f"{len(mesh.points):,} vertices · {counted}".replace(",", " ")
        except QuinceError as error:
            text = str(error)
        self._count.setText(text)

    def _rename(self) -> None:
        piece, name = self.bench.chosen, self.name.text().strip()
        if piece is not None and name and name != piece.name:
            self.bench.set_value("rename", "name", name, piece.id)
        elif piece is not None:
            self.name.setText(piece.name)

    def _set_seed(self, seed: int | None) -> None:
        """Another seed; the next one with None."""
        piece = self.bench.chosen
        if piece is not None and isinstance(piece.shape, SuperellipsoidShape):
            self.bench.set_value("change seed", "shape.seed", piece.shape.seed + 1 if seed is None else seed, piece.id)

    def _divide(self, k: int, count: int) -> None:
        piece = self.bench.chosen
        if piece is None:
            return
        if isinstance(piece.shape, BlockShape):
            counts = [*piece.shape.divisions]
            counts[k] = count
            self.bench.set_value("change divisions", "shape.divisions", tuple(counts), piece.id)
        else:
            self.bench.set_value("change divisions", f"shape.{DIVISIONS[piece.shape.kind][k][0]}", count, piece.id)


def _divisions(piece: Piece) -> list[tuple[int, tuple[int, int], str]]:
    """(count, its bounds, what is counted) for each direction that a shape is divided in."""
    if isinstance(piece.shape, BlockShape):
        return [(count, (1, 200), f"Divisions {axis}") for count, axis in zip(piece.shape.divisions, AXES)]
    return [(getattr(piece.shape, name), bounds, name.capitalize())
            for name, bounds in DIVISIONS.get(piece.shape.kind, ())]
