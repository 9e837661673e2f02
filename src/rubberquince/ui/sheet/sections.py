"""The sections of the sheet that are little more than their fields, in the order of the work."""

from PySide6.QtWidgets import QCheckBox, QComboBox, QMenu, QPushButton

from rubberquince.document.bodies import local_points, piece_points, piece_triangles, resting_height, unit_mesh
from rubberquince.document.feels import usual
from rubberquince.document.scene import GROUND, LED, RESHAPED, Piece
from rubberquince.document.values import (
    BraceValues,
    ContactValues,
    HoldValues,
    NetValues,
    PressureValues,
    ReleaseValues,
    ReshapeValues,
    RigidValues,
    ShellValues,
    SolidValues,
    about,
)
from rubberquince.errors import QuinceError
from rubberquince.solver.carriers.rigid import equal_masses
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Value
from rubberquince.ui.parts import calm, framed
from rubberquince.ui.sheet.section import Section, named_row
from rubberquince.units import show

MADE_OF: tuple[tuple[str, SolidValues | ShellValues | NetValues | RigidValues], ...] = (
    ("solid", SolidValues()), ("shell", ShellValues()), ("net", NetValues()), ("rigid", RigidValues()))
SIDES = {"both": ("both sides", "What starts outside stays outside, what starts inside stays inside"),
         "outside": ("outside only", "Pushes out what starts inside a closed shape")}
USUAL_BOUNCE = 0.5
KINDS = {"steady": ("its pressure", "It presses as hard whatever the volume, as if blown on"),
         "gas": ("its air", "Air that is shut in: squeezed together it presses harder")}
HOLDS = {"nothing": ("nothing", "Everything moves"),
         "outline": ("the outline", "The rim of an open skin"),
         "corners": ("the corners", "Where the rim of an open skin turns"),
         "everything": ("everything", "All points; choose below which part of its height")}
CURVE = "curve"
GRAINS = {"shape": ("its shape", "Along its x, as it was made, turned about its y"),
          "texture": ("its texture", "Along the u of its texture coordinates")}
USUAL_LIMIT, USUAL_YIELD = 1.1, 0.05
ELSEWHERE = {"cells", "weight", "limit", "yields", "flow_time", "stays"}         # values that other sections show


class PlaceSection(Section):
    """Where the piece starts, and how it is turned."""

    title = "Place"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        unit = bench.scene.length_unit
        for k, (axis, tip) in enumerate(zip("xyz", ("to the right", "upwards, from the ground", "to the front"))):
            self.add_field(Value(f"Position {axis}", f"place.position.{k}", unit, -1.0, 1.0,
                                 f"Where the middle of the piece starts, {tip}, in {unit}"), keyed=True)
        for k, axis in enumerate("xyz"):
            self.add_field(Value(f"Turn {axis}", f"place.turn.{k}", "°", -180.0, 180.0,
                                 f"Turned about {axis}, in degrees", usual=0.0), keyed=True)
        stand = QPushButton("Stand on the ground")
        stand.setToolTip("Lower or lift the piece until its lowest point touches the ground")
        stand.clicked.connect(self._stand)
        self.rows.addWidget(stand)
        self.mount = calm(QComboBox())
        self.mount.setAccessibleName("Rides on")
        self.mount.setToolTip("Takes part in the keyed motion of another piece; a force also in what moves by itself")
        self.mount.activated.connect(lambda _: self._set("change what it rides on", "rides_on",
                                                         self.mount.currentData()))
        self.rows.addLayout(named_row("Rides on", self.mount))
        self.line = calm(QComboBox())
        self.line.setAccessibleName("Moves along")
        self.line.setToolTip("Goes the way of a line that is drawn on a piece; key how far it has gone")
        self.line.activated.connect(lambda _: self._set("change what it moves along", "moves_along",
                                                        self.line.currentData()))
        self.rows.addLayout(named_row("Moves along", self.line))
        self.add_field(Value("Gone so far", "place.along", "%", 0.0, 1.0,
                             "What part of the line it has gone: key 0 % here and 100 % there", usual=0.0), keyed=True)
        self.turns = QCheckBox("Turns with the line")
        self.turns.setToolTip("Faces along the line as it does at the start, and leans neither way by itself")
        self.turns.clicked.connect(lambda on: self._set("turn with the line", "turns_along", on))
        self.rows.addWidget(self.turns)

    def shows(self, piece: Piece, path: str) -> bool:
        return path != "place.along" or bool(piece.moves_along)

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.turns.setVisible(bool(piece.moves_along))
        self.turns.setChecked(piece.turns_along)
        self.line.clear()
        lines = {"": "nothing", **{f"{p.id} {curve.id}": f"{curve.name} of {p.name}"
                                   for p in self.bench.scene.pieces for curve in p.curves}}
        lines.setdefault(piece.moves_along, "a line that is gone")
        for key, name in lines.items():
            self.line.addItem(name, key)
        self.line.setCurrentIndex(self.line.findData(piece.moves_along))
        self.mount.clear()
        others = [(p.id, p.name) for p in self.bench.scene.pieces
                  if p.id != piece.id and (p.role in LED or (piece.role == "force" and p.carries))]
        known = {"", *(key for key, _ in others)}
        gone = [] if piece.rides_on in known else [(piece.rides_on, "a piece that is gone")]
        for key, name in (("", "nothing"), *others, *gone):
            self.mount.addItem(name, key)
        self.mount.setCurrentIndex(self.mount.findData(piece.rides_on))

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
    """How a body resists: the values of its role."""

    title = "Springs"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        for role, values in MADE_OF:
            self.add_values(role, values, *(name for name in about(type(values)) if name not in ELSEWHERE
                                            and getattr(values, name) is not None))
        self.weighed = QCheckBox("Give its mass, not its density")
        self.weighed.clicked.connect(lambda on: self._set("give its mass", "rigid.mass", self._mass() if on else None))
        self.rows.addWidget(self.weighed)
        self.add_values("rigid", RigidValues(mass=1.0), "mass")
        self.grain_by = _choice("Grain by", GRAINS)
        self.grain_by.activated.connect(
            lambda _: self._set("change grain", "shell.grain_by", self.grain_by.currentData()))
        self._grain_row = framed(named_row("Grain by", self.grain_by), "plain")
        self.rows.addWidget(self._grain_row)
        self.limited = QCheckBox("Limit the stretch")
        self.limited.setToolTip("Off: it stretches as far as it is pulled")
        self.limited.clicked.connect(
            lambda on: self._set("limit the stretch", "shell.limit", USUAL_LIMIT if on else None))
        self.rows.addWidget(self.limited)
        self.add_values("shell", ShellValues(limit=USUAL_LIMIT), "limit")
        self.flat = QCheckBox("Flat at rest")
        self.flat.setToolTip("Every edge wants to lie flat, however the Shell was made: a curved skin uncurls")
        self.flat.clicked.connect(lambda on: self._set("change rest angles", "shell.flat", on))
        self.rows.addWidget(self.flat)

    def applies(self, piece: Piece) -> bool:
        return piece.moves

    def shows(self, piece: Piece, path: str) -> bool:
        if path == "rigid.density" and piece.rigid.mass is not None:
            return False
        return path.partition(".")[0] == piece.made_of_name

    def _mass(self) -> float:
        """What the chosen piece weighs by its density, kg."""
        piece = self.bench.chosen
        assert piece is not None
        points, triangles = (of(piece, self.bench.document.meshes) for of in (local_points, piece_triangles))
        return float(f"{piece.rigid.density * equal_masses(points, triangles)[1]:.4g}")

    def usual(self, piece: Piece, path: str) -> float | None:
        return usual(piece).get(path.rpartition(".")[2])

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        for widget in (self.flat, self.limited, self._grain_row):
            widget.setVisible(piece.role == "shell")
        self.weighed.setVisible(piece.made_of_name == "rigid")
        self.weighed.setChecked(piece.rigid.mass is not None)
        self.grain_by.setCurrentIndex(self.grain_by.findData(piece.shell.grain_by))
        self.limited.setChecked(piece.shell.limit is not None)
        self.flat.setChecked(piece.shell.flat)

    def summary(self, piece: Piece) -> str:
        values = piece.made_of
        if isinstance(values, RigidValues):
            return show(values.density, "kg/l") if values.mass is None else show(values.mass, "kg")
        stiffness = show(values.stiffness, "kPa") if isinstance(values, SolidValues) else show(values.stretch, "N/m")
        return f"{stiffness} · halves in {show(piece.made_of.wobble_halves, 's')}"


class DentsSection(Section):
    """Whether a Solid comes back from everything, or keeps dents and flows."""

    title = "Dents"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.keeps = QCheckBox("Keeps dents")
        self.keeps.setToolTip("Off: it comes back to its shape, however far it was squeezed or stretched")
        self.keeps.clicked.connect(lambda on: self._set("keep dents", "solid.yields", USUAL_YIELD if on else None))
        self.rows.addWidget(self.keeps)
        self.add_values("solid", SolidValues(yields=USUAL_YIELD), "yields", "flow_time", "stays")

    def applies(self, piece: Piece) -> bool:
        return piece.in_cells

    def shows(self, piece: Piece, path: str) -> bool:
        return piece.solid.yields is not None

    def usual(self, piece: Piece, path: str) -> float | None:
        return usual(piece).get(path.rpartition(".")[2])

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.keeps.setChecked(piece.solid.yields is not None)

    def summary(self, piece: Piece) -> str:
        values = piece.solid
        if values.yields is None:
            return "comes back"
        beyond = f" beyond {show(values.yields, '%')}" if values.yields else ""
        return f"flows in {show(values.flow_time, 's')}{beyond}"


class ReshapeSection(Section):
    """What shape a piece wants to have: key it, and the piece is carried by that and wobbles about it."""

    title = "Reshape"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.axis = _choice("Reshaped along", {key: (f"its {key}", f"From the lower end of its {key} to the upper")
                                               for key in "xyz"})
        self.axis.activated.connect(lambda _: self._set("change axis", "reshape.axis", self.axis.currentData()))
        self.rows.addLayout(named_row("Along", self.axis))
        self.add_values("reshape", ReshapeValues())
        self.follows = QCheckBox("Its lengths follow its frames")
        self.follows.setToolTip("Its mesh moves: what that stretches or bends is then at rest as it is in each frame")
        self.follows.clicked.connect(lambda on: self._set("let its lengths follow", "reshape.follows", on))
        self.rows.addWidget(self.follows)

    def applies(self, piece: Piece) -> bool:
        return piece.role in RESHAPED

    def shows(self, piece: Piece, path: str) -> bool:
        return path != "reshape.toward" or piece.reshape.bend != 0.0 or piece.track_of("reshape.bend") is not None

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.axis.setCurrentIndex(self.axis.findData(piece.reshape.axis))
        self.follows.setVisible(piece.shape_moves and piece.moves)
        self.follows.setChecked(piece.reshape.follows)

    def summary(self, piece: Piece) -> str:
        if not piece.reshapes:
            return "as it was made"
        values, keyed = piece.reshape, {track.of for track in piece.tracks}
        said = about(ReshapeValues)
        shown = [f"{said[name].name.lower()} {show(getattr(values, name), said[name].unit)}"
                 for name in ("bend", "twist", "taper", "swell", "squash")
                 if getattr(values, name) != getattr(ReshapeValues(), name) or f"reshape.{name}" in keyed]
        return " · ".join(shown)


class ReleaseSection(Section):
    """When Pellets are let go."""

    title = "Release"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_values("release", ReleaseValues())
        self.again = QCheckBox("Again and again")
        self.again.setToolTip("After its life each is let go anew, without end")
        self.again.clicked.connect(lambda on: self._set("let go again", "release.again", on))
        self.rows.addWidget(self.again)

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.again.setChecked(piece.release.again)
        self.again.setEnabled(piece.release.life > 0.0)

    def applies(self, piece: Piece) -> bool:
        return piece.role == "pellets"

    def summary(self, piece: Piece) -> str:
        release = piece.release
        over = f" over {release.frames:.3g} frames" if release.frames else ""
        speed = f" at {show(release.speed, 'm/s')}" if release.speed else ""
        life = f" for {release.life:.3g} frames" if release.life else ""
        return f"from frame {release.first}{over}{speed}{life}{', again' if life and release.again else ''}"


class BracesSection(Section):
    """Springs across the inside of a skin."""

    title = "Braces"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_values("braces", BraceValues())
        self.seen = QCheckBox("Show them")
        self.seen.clicked.connect(lambda on: bench.show_threads("braces", on))
        self.rows.addWidget(self.seen)

    def applies(self, piece: Piece) -> bool:
        return piece.of_skin

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.seen.setChecked("braces" in self.bench.threads)

    def summary(self, piece: Piece) -> str:
        braces = piece.braces
        return f"{braces.count}, each {show(braces.stiffness, 'N/m')}" if braces.count else "none"


class PressureSection(Section):
    """What presses on the skin from inside."""

    title = "Pressure"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_values("pressure", PressureValues(), "pressure", "frames")
        self.kind = _choice("Kind of pressure", KINDS)
        self.kind.activated.connect(lambda _: self._set("change pressure", "pressure.kind", self.kind.currentData()))
        self.rows.addLayout(named_row("Keeps", self.kind))
        self.add_values("pressure", PressureValues(), "backing")

    def applies(self, piece: Piece) -> bool:
        return piece.moves and piece.made_of_name != "rigid"

    def shows(self, piece: Piece, path: str) -> bool:
        return path != "pressure.backing" or piece.pressure.kind == "gas"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.kind.setCurrentIndex(self.kind.findData(piece.pressure.kind))

    def summary(self, piece: Piece) -> str:
        values = piece.pressure
        if not values.pressure:
            return "none"
        grows = f", grows over {values.frames:.3g} frames" if values.frames else ""
        return f"{show(values.pressure, 'Pa')}{grows}{' · gas' if values.kind == 'gas' else ''}"


class HoldSection(Section):
    """Which points never move."""

    title = "Hold"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.what = _choice("What is held", HOLDS)
        self.what.activated.connect(self._hold)
        self.rows.addLayout(named_row("Holds", self.what))
        self.add_values("hold", HoldValues())

    def applies(self, piece: Piece) -> bool:
        return piece.moves

    def shows(self, piece: Piece, path: str) -> bool:
        return piece.hold.what != "nothing"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        while self.what.count() > len(HOLDS):
            self.what.removeItem(len(HOLDS))
        for key, name in piece.lines_and_sets().items() if piece.of_skin else ():
            self.what.addItem(name, f"{CURVE}:{key}")
        hold = piece.hold
        self.what.setCurrentIndex(max(self.what.findData(
            f"{CURVE}:{hold.curve}" if hold.what == CURVE else hold.what), 0))

    def _hold(self) -> None:
        piece, (what, _, curve) = self.bench.chosen, self.what.currentData().partition(":")
        if piece is not None:
            update = {"what": what, "curve": curve}
            self._set("change what is held", "hold", piece.hold.model_copy(update=update))

    def summary(self, piece: Piece) -> str:
        hold = piece.hold
        if hold.what == "nothing":
            return "nothing"
        among = "" if (hold.above, hold.below) == (0.0, 1.0) else f", {hold.above:.0%} – {hold.below:.0%} of its height"
        name = piece.lines_and_sets().get(hold.curve, "a line that is gone")
        held = name if hold.what == CURVE else HOLDS[hold.what][0]
        return held + among


class ContactSection(Section):
    """What distance the piece keeps, and how it slides."""

    title = "Contact"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.sides = _choice("Sides", SIDES)
        self.sides.activated.connect(lambda _: self._set("change sides", "contact.sides", self.sides.currentData()))
        self._sides_row = framed(named_row("Blocks", self.sides), "plain")
        self.rows.addWidget(self._sides_row)
        self.touched = QPushButton()
        self.touched.setAccessibleName("What it touches")
        self.touched.setToolTip("What is not ticked is passed through")
        self._others = QMenu(self.touched)
        self._others.aboutToShow.connect(self._list_others)
        self.touched.setMenu(self._others)
        self.rows.addLayout(named_row("Touches", self.touched))
        self.add_values("contact", ContactValues(), "gap", "friction")
        self.by_number = QCheckBox("Set the bounce")
        self.by_number.setToolTip("Off: the material decides. When two pieces meet, the larger bounce wins.")
        self.by_number.clicked.connect(
            lambda on: self._set("change bounce", "contact.bounce", USUAL_BOUNCE if on else None))
        self.rows.addWidget(self.by_number)
        self.add_values("contact", ContactValues(bounce=USUAL_BOUNCE), "bounce")

    def applies(self, piece: Piece) -> bool:
        return piece.role not in ("scenery", "carried", "force")

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.by_number.setChecked(piece.contact.bounce is not None)
        self._sides_row.setVisible(piece.role == "collider")
        passed = len(self.bench.scene.passes(piece.id) & {key for key, _ in self._touchable(piece)})
        self.touched.setText("everything" if not passed else f"all but {passed}")
        self.sides.setCurrentIndex(self.sides.findData(piece.contact.sides))

    def summary(self, piece: Piece) -> str:
        bounce = "" if piece.contact.bounce is None else f" · bounce {show(piece.contact.bounce, '%')}"
        return f"gap {show(piece.contact.gap, 'mm')} · friction {show(piece.contact.friction, '')}{bounce}"


    def _touchable(self, piece: Piece) -> list[tuple[str, str]]:
        """What it could touch: ids and names."""
        others = [(other.id, other.name) for other in self.bench.scene.pieces
                  if other.id != piece.id and other.role not in ("scenery", "carried")
                  and (piece.moves or other.moves)]
        return [(piece.id, "itself"), (GROUND, "the ground"), *others] if piece.moves else others

    def _list_others(self) -> None:
        self._others.clear()
        piece = self.bench.chosen
        if piece is None:
            return
        passed = self.bench.scene.passes(piece.id)
        for key, name in self._touchable(piece):
            action = self._others.addAction(name)
            action.setCheckable(True)
            action.setChecked(key not in passed)
            action.triggered.connect(lambda on, key=key: self._touch(key, on))

    def _touch(self, key: str, on: bool) -> None:
        """Let the chosen piece touch another one or pass through it; both forget what they said about it before."""
        scene, piece = self.bench.scene, self.bench.chosen
        if piece is None:
            return
        for one, other in ((piece, key), *((p, piece.id) for p in scene.pieces if p.id == key)):
            scene = scene.with_piece(one.model_copy(update={"passes": tuple(k for k in one.passes if k != other)}))
        if not on:
            mine = scene.piece(piece.id)
            scene = scene.with_piece(mine.model_copy(update={"passes": (*mine.passes, key)}))
        self.bench.document.push("change what it touches", scene)


class ForcesSection(Section):
    """What pulls at a body."""

    title = "Forces"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        for role, values in MADE_OF:
            self.add_values(role, values, "weight")

    def applies(self, piece: Piece) -> bool:
        return piece.moves

    def shows(self, piece: Piece, path: str) -> bool:
        return path.partition(".")[0] == piece.made_of_name

    def summary(self, piece: Piece) -> str:
        return f"gravity {show(piece.made_of.weight, '%')}"


def _choice(name: str, choices: dict[str, tuple[str, str]]) -> QComboBox:
    """A box of choices: key → (what it is called, a sentence)."""
    box = calm(QComboBox())
    box.setAccessibleName(name)
    for key, (called, tip) in choices.items():
        box.addItem(called, key)
        box.setItemData(box.count() - 1, tip, 3)
    return box
