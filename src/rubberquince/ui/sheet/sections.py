"""The sections of the sheet that are little more than their fields, in the order of the work."""

from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton

from rubberquince.document.bodies import piece_points, resting_height, unit_mesh
from rubberquince.document.feels import usual
from rubberquince.document.scene import ContactValues, Piece
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Value
from rubberquince.ui.parts import calm, framed
from rubberquince.ui.sheet.section import Section, named_row
from rubberquince.units import show

SIDES = {"both": ("both sides", "What starts outside stays outside, what starts inside stays inside"),
         "outside": ("outside only", "Pushes out what starts inside a closed shape")}
USUAL_BOUNCE = 0.5


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
        self.sides = calm(QComboBox())
        self.sides.setAccessibleName("Sides")
        for key, (name, tip) in SIDES.items():
            self.sides.addItem(name, key)
            self.sides.setItemData(self.sides.count() - 1, tip, 3)
        self.sides.activated.connect(lambda _: self._set("change sides", "contact.sides", self.sides.currentData()))
        self._sides_row = framed(named_row("Blocks", self.sides), "plain")
        self.rows.addWidget(self._sides_row)
        self.add_field(Value("Gap", "contact.gap", "mm", 1e-4, 0.02,
                             "Distance kept to what it touches, in mm; two pieces keep the greater of theirs",
                             log=True, usual=usual.gap))
        self.add_field(Value("Friction", "contact.friction", "", 0.0, 2.0,
                             "0 slides like ice, 0.4 like jelly on a plate, 1 hardly slides", usual=usual.friction))
        self.by_number = QCheckBox("Set the bounce")
        self.by_number.setToolTip("Off: the material decides. When two pieces meet, the larger bounce wins.")
        self.by_number.clicked.connect(
            lambda on: self._set("change bounce", "contact.bounce", USUAL_BOUNCE if on else None))
        self.rows.addWidget(self.by_number)
        self.add_field(Value("Bounce", "contact.bounce", "%", 0.0, 0.95,
                             "Part of the speed it comes back with: 0 % stays, 90 % like a rubber ball",
                             usual=USUAL_BOUNCE))

    def applies(self, piece: Piece) -> bool:
        return piece.role in ("solid", "collider")

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.by_number.setChecked(piece.contact.bounce is not None)
        self._sides_row.setVisible(piece.role == "collider")
        self.sides.setCurrentIndex(self.sides.findData(piece.contact.sides))

    def summary(self, piece: Piece) -> str:
        bounce = "" if piece.contact.bounce is None else f" · bounce {show(piece.contact.bounce, '%')}"
        return f"gap {show(piece.contact.gap, 'mm')} · friction {show(piece.contact.friction, '')}{bounce}"


class ForcesSection(Section):
    """What pulls at a solid."""

    title = "Forces"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_field(Value("Gravity", "solid.weight", "%", -1.0, 2.0,
                             "How strongly gravity pulls: 100 % as it does, 0 % floats, below 0 % rises", usual=1.0))

    def applies(self, piece: Piece) -> bool:
        return piece.role == "solid"

    def summary(self, piece: Piece) -> str:
        return f"gravity {show(piece.solid.weight, '%')}"
