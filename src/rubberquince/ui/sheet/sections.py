"""The sections of the sheet, in the order of the work."""

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QComboBox, QHBoxLayout, QLineEdit, QPushButton, QWidget

from rubberquince.document.bodies import piece_points, resting_height, unit_mesh
from rubberquince.document.feels import FEELS, OWN, usual, with_feel
from rubberquince.document.scene import (
    BlockShape,
    ContactValues,
    FeelChoice,
    ImportedShape,
    Piece,
    RevolvedShape,
)
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import NumberEdit, Value, WholeEdit
from rubberquince.ui.parts import column, framed, label, row
from rubberquince.ui.sheet.section import Section
from rubberquince.units import show

ROLES = {"solid": ("Solid", "moves and deforms: jelly, foam, rubber"),
         "collider": ("Collider", "stands still; solids meet it"),
         "scenery": ("Scenery", "is only seen")}
DIVISIONS = {"sphere": (("around", (6, 400)), ("rings", (3, 200))),
             "torus": (("around", (6, 400)), ("sides", (3, 200))), "cushion": (("divisions", (2, 200)),)}
SIDES = ("Width", "Height", "Depth")


def shape_name(piece: Piece) -> str:
    shape = piece.shape
    if isinstance(shape, (RevolvedShape, ImportedShape)):
        return shape.name
    return shape.kind


class ShapeSection(Section):
    """Name, real size and how finely the shape is divided."""

    title = "Shape"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.name = QLineEdit()
        self.name.setAccessibleName("Name")
        self.name.setMaxLength(60)
        self.name.editingFinished.connect(self._rename)
        self.rows.addLayout(_line("Name", self.name))
        unit = bench.scene.length_unit
        for k, side in enumerate(SIDES):
            self.add_field(Value(side, f"place.size.{k}", unit, 0.01, 2.0,
                                 f"{side} of the shape along its own axis, in {unit}", log=True))
        self.divisions = [WholeEdit(f"Divisions {axis}", 1, 200) for axis in ("wide", "high", "deep")]
        self._divisions_row = row(*self.divisions, gap=4)
        self._divided = label("Divided in")
        for k, box in enumerate(self.divisions):
            box.chosen.connect(lambda count, k=k: self._divide(k, count))
            box.refused.connect(bench.say)
        line = row(self._divided, gap=5)
        self._divided.setFixedWidth(108)
        line.addLayout(self._divisions_row)
        self.rows.addLayout(line)
        self._count = label("", "small")
        self.rows.addWidget(self._count)

    def summary(self, piece: Piece) -> str:
        unit = self.bench.scene.length_unit
        return f"{shape_name(piece)} · {show(max(piece.place.size), unit)}"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        if not self.name.hasFocus():
            self.name.setText(piece.name)
        counts = _divisions(piece)
        self._divided.setVisible(bool(counts))
        for k, box in enumerate(self.divisions):
            box.setVisible(k < len(counts))
            if k < len(counts):
                box.set_bounds(*counts[k][1])
                box.set_value(counts[k][0])
        try:
            mesh = unit_mesh(piece.shape, self.bench.document.meshes)
            text = f"{len(mesh.points):,} vertices · {len(mesh.face_sizes):,} faces".replace(",", " ")
        except QuinceError as error:
            text = str(error)
        self._count.setText(text)

    def _rename(self) -> None:
        piece, name = self.bench.chosen, self.name.text().strip()
        if piece is not None and name and name != piece.name:
            self.bench.set_value("rename", "name", name, piece.id)
        elif piece is not None:
            self.name.setText(piece.name)

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


class PlaceSection(Section):
    """Where the piece starts, and how it is turned."""

    title = "Place"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        unit = bench.scene.length_unit
        for k, (axis, tip) in enumerate(zip("xyz", ("to the right", "upwards, from the ground", "to the front"))):
            self.add_field(Value(f"Position {axis}", f"place.position.{k}", unit, -1.0, 1.0,
                                 f"Where the middle of the piece starts, {tip}, in {unit}"))
        for k, axis in enumerate("xyz"):
            self.add_field(Value(f"Turn {axis}", f"place.turn.{k}", "°", -180.0, 180.0,
                                 f"Turned about {axis}, in degrees", usual=0.0))
        stand = QPushButton("Stand on the ground")
        stand.setToolTip("Lower or lift the piece until its lowest point touches the ground")
        stand.clicked.connect(self._stand)
        self.rows.addWidget(stand)

    def summary(self, piece: Piece) -> str:
        unit = self.bench.scene.length_unit
        try:
            low = piece_points(piece, self.bench.document.meshes)[:, 1].min()
        except QuinceError:
            return ""
        turned = "" if not any(piece.place.turn) else " · turned"
        return f"{show(round(float(low), 4), unit)} above the ground{turned}"

    def _stand(self) -> None:
        piece = self.bench.chosen
        if piece is not None:
            mesh = unit_mesh(piece.shape, self.bench.document.meshes)
            x, _, z = piece.place.position
            height = resting_height(mesh, piece.place, piece.contact.gap)
            self.bench.set_value("stand on the ground", "place.position", (x, height, z), piece.id)


class FeelSection(Section):
    """What the piece is, how it looks, and how finely it is filled."""

    title = "Role and feel"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.role = QComboBox()
        self.role.setAccessibleName("Role")
        for key, (name, tip) in ROLES.items():
            self.role.addItem(name, key)
            self.role.setItemData(self.role.count() - 1, tip, 3)
        self.role.activated.connect(self._set_role)
        self.rows.addLayout(_line("Role", self.role))
        self.feel, self.second = QComboBox(), QComboBox()
        for box, none, name in ((self.feel, "own values", "Feel"), (self.second, "nothing", "Mixed with")):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(4)
            box.addItem(none, OWN)
            for feel in FEELS.values():
                box.addItem(feel.name, feel.name)
                box.setItemData(box.count() - 1, feel.line, 3)
            box.activated.connect(self._set_feel)
        self.feel_line = label("", "small", wrap=True)
        self.share = NumberEdit("Share of the second feel", "%")
        self.share.setFixedWidth(52)
        self.share.typed.connect(lambda share: self._set_feel(share=share))
        self.share.refused.connect(bench.say)
        self._feel_rows = framed(column(_line("Feel", self.feel), _line("Mixed with", self.second, self.share),
                                        self.feel_line, gap=5), "plain")
        self.rows.addWidget(self._feel_rows)
        self.cells = WholeEdit("Cells across", 2, 60)
        self.cells.setFixedWidth(56)
        self.cells.setToolTip("Cells across the smallest side: more bend and fold finer, and take longer")
        self.cells.chosen.connect(lambda count: self._set("change cells", "solid.cells", count))
        self.cells.refused.connect(bench.say)
        self._cells_label = label("Cells across")
        self._cells_count = label("", "small")
        line = row(self._cells_label, self.cells, self._cells_count, gap=5)
        line.addStretch(1)
        self._cells_label.setFixedWidth(108)
        self.rows.addLayout(line)
        self.material = QComboBox()
        self.material.setAccessibleName("Looks like")
        for key in ("jelly", "matte"):
            self.material.addItem(key, key)
        self.material.activated.connect(
            lambda _: self._set("change look", "look.material", self.material.currentData()))
        self.colour = QPushButton()
        self.colour.setAccessibleName("Colour")
        self.colour.setFixedWidth(46)
        self.colour.clicked.connect(self._pick_colour)
        self.rows.addLayout(_line("Looks like", self.material, self.colour))

    def summary(self, piece: Piece) -> str:
        feel = f" · {_feel_name(piece)}" if piece.role == "solid" and piece.feel.name else ""
        return ROLES[piece.role][0] + feel

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.role.setCurrentIndex(self.role.findData(piece.role))
        self.material.setCurrentIndex(self.material.findData(piece.look.material))
        self.colour.setStyleSheet(f"background: {piece.look.colour};")
        self.colour.setToolTip(f"Colour {piece.look.colour}")
        solid = piece.role == "solid"
        for widget in (self._cells_label, self.cells, self._cells_count, self._feel_rows):
            widget.setVisible(solid)
        choice = piece.feel
        self.feel.setCurrentIndex(max(self.feel.findData(choice.name), 0))
        self.second.setCurrentIndex(max(self.second.findData(choice.mixed_with), 0))
        self.second.setEnabled(choice.name in FEELS)
        self.share.setVisible(bool(choice.mixed_with))
        self.share.set_value(choice.share)
        self.feel_line.setText(FEELS[choice.name].line if choice.name in FEELS else "")
        self.feel_line.setVisible(choice.name in FEELS)
        if solid:
            self.cells.set_value(piece.solid.cells)
            self._cells_count.setText(self._cell_text(piece))

    def _cell_text(self, piece: Piece) -> str:
        edge = min(piece.place.size) / piece.solid.cells
        return f"of {show(edge, self.bench.scene.length_unit)}"

    def _set_feel(self, _index: int = 0, share: float | None = None) -> None:
        """Values of the chosen feel, or of the mixture; a second feel starts with an even share."""
        piece = self.bench.chosen
        if piece is None:
            return
        second = self.second.currentData() if self.feel.currentData() else OWN
        if share is None:
            share = piece.feel.share if piece.feel.mixed_with and second else 0.5
        try:
            choice = FeelChoice(name=self.feel.currentData(), mixed_with=second, share=share if second else 0.0)
        except ValueError:
            self.bench.say("The share of the second feel should be between 0 and 100 %.")
            self.refresh(piece)
            return
        self.bench.document.push("change feel", self.bench.scene.with_piece(with_feel(piece, choice)))

    def _set_role(self) -> None:
        self._set("change role", "role", self.role.currentData())

    def _set(self, what: str, path: str, value: object) -> None:
        piece = self.bench.chosen
        if piece is not None:
            self.bench.set_value(what, path, value, piece.id)

    def _pick_colour(self) -> None:
        piece = self.bench.chosen
        if piece is not None:
            colour = QColorDialog.getColor(QColor(piece.look.colour), self, f"Colour of {piece.name}")
            if colour.isValid():
                self._set("change colour", "look.colour", colour.name())


class SpringsSection(Section):
    """How a solid resists: the values that can change while it runs."""

    title = "Springs"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_field(Value("Stiffness", "solid.stiffness", "kPa", 200.0, 1e6,
                             "How hard it is to stretch and squeeze, in kPa: jelly 1 – 10, foam 10 – 50, rubber 500",
                             log=True))
        self.add_field(Value("Keeps its volume", "solid.keeps_volume", "%", 0.0, 1.0,
                             "How much it bulges when squeezed: 0 % like cork, 100 % like water in a skin"))
        self.add_field(Value("Wobble halves in", "solid.wobble_halves", "s", 0.02, 5.0,
                             "Seconds in which a wobble becomes half as wide", log=True))
        self.add_field(Value("Density", "solid.density", "kg/l", 20.0, 5000.0,
                             "Weight of a litre, in kg: water 1, foam 0.05, rubber 1.1", log=True))

    def applies(self, piece: Piece) -> bool:
        return piece.role == "solid"

    def usual(self, piece: Piece, path: str) -> float | None:
        return usual(piece)[path.rpartition(".")[2]]

    def summary(self, piece: Piece) -> str:
        return f"{show(piece.solid.stiffness, 'kPa')} · halves in {show(piece.solid.wobble_halves, 's')}"


class ContactSection(Section):
    """What distance the piece keeps, and how it slides."""

    title = "Contact"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        usual = ContactValues()
        self.add_field(Value("Gap", "contact.gap", "mm", 1e-4, 0.02,
                             "Distance kept to what it touches, in mm; two pieces keep the greater of theirs",
                             log=True, usual=usual.gap))
        self.add_field(Value("Friction", "contact.friction", "", 0.0, 2.0,
                             "0 slides like ice, 0.4 like jelly on a plate, 1 hardly slides", usual=usual.friction))

    def applies(self, piece: Piece) -> bool:
        return piece.role in ("solid", "collider")

    def summary(self, piece: Piece) -> str:
        return f"gap {show(piece.contact.gap, 'mm')} · friction {show(piece.contact.friction, '')}"


def _line(name: str, *widgets: QWidget) -> QHBoxLayout:
    title = label(name)
    title.setFixedWidth(108)
    title.setBuddy(widgets[0])
    return row(title, *widgets, gap=5)


def _feel_name(piece: Piece) -> str:
    """The feel in words; a star says that values were changed since."""
    choice = piece.feel
    name = f"{choice.name} + {choice.share:.0%} {choice.mixed_with}" if choice.mixed_with else choice.name
    values = piece.solid.model_dump()
    return name + ("" if all(values[k] == v for k, v in usual(piece).items()) else " *")


def _divisions(piece: Piece) -> list[tuple[int, tuple[int, int]]]:
    """(count, its bounds) for each direction that a shape is divided in."""
    if isinstance(piece.shape, BlockShape):
        return [(count, (1, 200)) for count in piece.shape.divisions]
    return [(getattr(piece.shape, name), bounds) for name, bounds in DIVISIONS.get(piece.shape.kind, ())]
