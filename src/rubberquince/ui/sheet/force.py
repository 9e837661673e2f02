"""A force: what it is, how far it reaches, what it acts on and when."""

from PySide6.QtWidgets import QCheckBox, QComboBox, QPushButton, QVBoxLayout

from rubberquince.document.scene import Piece
from rubberquince.document.values import ForceValues
from rubberquince.solver.own_air import offered
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import calm, column, empty, framed, label
from rubberquince.ui.sheet.section import Section, named_row
from rubberquince.units import show

KINDS = {"wind": "air that blows along its arrow", "turbulence": "air that whirls every way",
         "vortex": "air that goes round its axis", "puller": "draws to itself, or pushes away"}
DRAWS = {"its middle": "To one point", "its axis": "To the line along its y", "a piece": "To the nearest place of it"}
FADES = {"soft": "Fades slowly at first", "steep": "Fades quickly at first", "even": "As strong up to its reach"}
SHOWN = {"wind": ("speed", "gusts", "period", "seed"), "turbulence": ("speed", "size", "period", "seed"),
         "own": ("speed", "size", "period", "seed"),
         "vortex": ("speed", "size", "inflow", "lift"), "puller": ("pull", "rest", "limit")}
EVER, OWN = 100_000, "own"


class ForceSection(Section):
    """Kind and strength."""

    title = "Force"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.kind = _box("Kind of force", KINDS)
        for name in offered():
            self.kind.addItem(name, f"{OWN} {name}")
            self.kind.setItemData(self.kind.count() - 1, "air of your own, from a package that is installed", 3)
        self.kind.activated.connect(self._set_kind)
        self.rows.addLayout(named_row("Kind", self.kind))
        names = [name for name in ForceValues.model_fields if any(name in shown for shown in SHOWN.values())]
        self.add_values("force", ForceValues(), *names)
        self.draws = _box("Draws to", DRAWS)
        self.draws.activated.connect(lambda _: self._set("change what it draws to", "force.draws_to",
                                                         self.draws.currentData()))
        self.piece = calm(QComboBox())
        self.piece.setAccessibleName("Piece that draws")
        self.piece.activated.connect(lambda _: self._set("change what it draws to", "force.piece",
                                                         self.piece.currentData()))
        self._draws_row = framed(column(named_row("Draws to", self.draws), named_row("Piece", self.piece)), "plain")
        self.rows.addWidget(self._draws_row)
        self.arrows = QCheckBox("Show arrows")
        self.arrows.setToolTip("Arrows on a grid: which way it pushes, and how hard")
        self.arrows.clicked.connect(lambda on: bench.show_threads("force", on))
        self.rows.addWidget(self.arrows)

    def applies(self, piece: Piece) -> bool:
        return piece.role == "force"

    def shows(self, piece: Piece, path: str) -> bool:
        return path.rpartition(".")[2] in SHOWN[piece.force.kind]

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        force = piece.force
        kind = f"{OWN} {force.own}" if force.kind == OWN else force.kind
        if self.kind.findData(kind) < 0:
            self.kind.addItem(f"{force.own}, which is not installed", kind)
        self.kind.setCurrentIndex(self.kind.findData(kind))
        self.draws.setCurrentIndex(self.draws.findData(force.draws_to))
        self.piece.clear()
        for other in self.bench.scene.pieces:
            if other.moves or other.role == "collider":
                self.piece.addItem(other.name, other.id)
        if self.piece.findData(force.piece) < 0:
            self.piece.addItem("a piece that is gone" if force.piece else "none yet", force.piece)
        self.piece.setCurrentIndex(self.piece.findData(force.piece))
        self.piece.setEnabled(force.draws_to == "a piece")
        self._draws_row.setVisible(force.kind == "puller")
        self.arrows.setChecked("force" in self.bench.threads)

    def _set_kind(self) -> None:
        piece, (kind, _, own) = self.bench.chosen, self.kind.currentData().partition(" ")
        if piece is not None:
            self._set("change the kind of force", "force", piece.force.model_copy(update={"kind": kind, "own": own}))

    def summary(self, piece: Piece) -> str:
        force = piece.force
        strength = show(force.pull, "m/s²") if force.kind == "puller" else show(force.speed, "m/s")
        return f"{force.own or force.kind} · {strength}"


class ReachSection(Section):
    """How far it goes, and in which frames."""

    title = "Reach"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.add_values("force", ForceValues(), "reach")
        self.fade = _box("How it fades", FADES)
        self.fade.activated.connect(lambda _: self._set("change how it fades", "force.fade", self.fade.currentData()))
        self.rows.addLayout(named_row("Fades", self.fade))
        self.add_values("force", ForceValues(), "first", "last")

    def applies(self, piece: Piece) -> bool:
        return piece.role == "force"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.fade.setCurrentIndex(self.fade.findData(piece.force.fade))

    def summary(self, piece: Piece) -> str:
        force = piece.force
        where = show(force.reach, self.bench.scene.length_unit) if force.reach else "everywhere"
        return where if force.last >= EVER and not force.first else f"{where} · frames {force.first} – {force.last}"


class ActsSection(Section):
    """On which pieces."""

    title = "Acts on"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self.boxes: dict[str, QCheckBox] = {}
        self._ticks: QVBoxLayout = column(gap=3)
        self._none = label("Nothing in the scene moves.", "small")
        self.everything = QPushButton("All pieces")
        self.everything.clicked.connect(lambda _: self._set("act on all pieces", "force.acts_on", ()))
        self.rows.addLayout(self._ticks)
        self.rows.addWidget(self._none)
        self.rows.addWidget(self.everything)
        self._made_for: tuple[tuple[str, str], ...] = ()

    def applies(self, piece: Piece) -> bool:
        return piece.role == "force"

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        moving = tuple((p.id, p.name) for p in self.bench.scene.pieces if p.moves)
        if moving != self._made_for:
            self._made_for = moving
            empty(self._ticks)
            self.boxes = {key: QCheckBox(name) for key, name in moving}
            for key, box in self.boxes.items():
                box.clicked.connect(lambda on, key=key: self._tick(key, on))
                self._ticks.addWidget(box)
        for key, box in self.boxes.items():
            box.setChecked(not piece.force.acts_on or key in piece.force.acts_on)
        self._none.setVisible(not moving)
        self.everything.setEnabled(bool(piece.force.acts_on))

    def _tick(self, key: str, on: bool) -> None:
        piece = self.bench.chosen
        if piece is None:
            return
        now = set(piece.force.acts_on or self.boxes) & set(self.boxes)
        now = now | {key} if on else now - {key}
        if not now:
            self.bench.say("It has to act on something; hide or remove it to be without it.")
            self.refresh(piece)
            return
        chosen = () if now == set(self.boxes) else tuple(sorted(now))
        self._set("change what it acts on", "force.acts_on", chosen)

    def summary(self, piece: Piece) -> str:
        names = [p.name for p in self.bench.scene.pieces if p.id in piece.force.acts_on]
        return ", ".join(names) if piece.force.acts_on else "all pieces"


def _box(name: str, choices: dict[str, str]) -> QComboBox:
    box = calm(QComboBox())
    box.setAccessibleName(name)
    for key, tip in choices.items():
        box.addItem(key, key)
        box.setItemData(box.count() - 1, tip, 3)
    return box

