"""Role and feel: what a piece is, how it looks, and how finely it is filled."""

from collections.abc import Callable
from functools import partial

from PySide6.QtGui import QColor
from PySide6.QtWidgets import QColorDialog, QComboBox, QInputDialog, QMenu, QPushButton

from rubberquince.bake.assemble import cell_edge, cells_of_edge
from rubberquince.document import own_feels
from rubberquince.document.feels import FEELS, OWN, USUAL, Feel, feels_of, usual, with_feel
from rubberquince.document.scene import Piece
from rubberquince.document.values import FeelChoice
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.dialogs import FileDialogs
from rubberquince.ui.fields import NumberEdit, WholeEdit
from rubberquince.ui.parts import calm, column, framed, label, row
from rubberquince.ui.sheet.section import NAME_WIDTH, Section, named_row
from rubberquince.units import show

ROLES = {"solid": ("Solid", "moves and deforms: jelly, foam, rubber"),
         "shell": ("Shell", "a skin that moves: cloth, balloon, film"),
         "net": ("Net", "springs from point to point: net, drumskin, water"),
         "cage": ("Cage", "any mesh, however dense or open, carried by a soft box"),
         "rigid": ("Rigid", "moves and does not deform: wood, stone, iron"),
         "pellets": ("Pellets", "each part is a ball that moves by itself: peas, beads, popcorn"),
         "carried": ("Carried", "goes where another piece goes, as dense as you like"),
         "collider": ("Collider", "stands still; what moves meets it"),
         "scenery": ("Scenery", "is only seen"),
         "force": ("Force", "moves air, or pulls")}


LOOKS = {"jelly": "clear and full of light", "matte": "wood, clay, chalk", "cloth": "woven, without a shine",
         "film": "seen through, shines on its wrinkles", "latex": "smooth, with a soft shine"}


class FeelSection(Section):
    """What the piece is, how it looks, and how finely it is filled."""

    title = "Role and feel"

    def __init__(self, bench: Bench) -> None:
        super().__init__(bench)
        self._dialogs = FileDialogs(self)
        self.role = calm(QComboBox())
        self.role.setAccessibleName("Role")
        for key, (name, tip) in ROLES.items():
            if key != "force":              # that is what it was made as
                self.role.addItem(name, key)
                self.role.setItemData(self.role.count() - 1, tip, 3)
        self.role.activated.connect(self._set_role)
        self.rows.addLayout(named_row("Role", self.role))
        self.feel, self.second = calm(QComboBox()), calm(QComboBox())
        for box, none, name in ((self.feel, "own values", "Feel"), (self.second, "nothing", "Mixed with")):
            box.setAccessibleName(name)
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
            box.setMinimumContentsLength(4)
            box.addItem(none, OWN)
            box.activated.connect(self._set_feel)
        self._names: list[str] = []
        self.feel_line = label("", "small", wrap=True)
        self.share = NumberEdit("Share of the second feel", "%")
        self.share.setFixedWidth(52)
        self.share.typed.connect(lambda share: self._set_feel(share=share))
        self.share.refused.connect(bench.say)
        self.own = QPushButton("Own feels")
        self._own_menu = QMenu(self.own)
        self._own_menu.aboutToShow.connect(self._list_own)
        self.own.setMenu(self._own_menu)
        self._feel_rows = framed(column(named_row("Feel", self.feel), named_row("Mixed with", self.second, self.share),
                                        self.feel_line, self.own, gap=5), "plain")
        self.rows.addWidget(self._feel_rows)
        self.cells = WholeEdit("Cells across", 2, 60)
        self.cells.setFixedWidth(56)
        self.cells.setToolTip("Cells across the smallest side: more bend and fold finer, and take longer")
        self.cells.chosen.connect(lambda count: self._set("change cells", "solid.cells", count))
        self.cells.refused.connect(bench.say)
        self._cells_label = label("Cells across")
        self._cells_count = label("", "small")
        line = row(self._cells_label, self.cells, gap=5)
        line.addStretch(1)
        self._cells_label.setFixedWidth(NAME_WIDTH)
        self.rows.addLayout(line)
        self.rows.addWidget(self._cells_count)
        self.carrier = calm(QComboBox())
        self.carrier.setAccessibleName("Carried by")
        self.carrier.activated.connect(
            lambda _: self._set("change what carries it", "carried_by", self.carrier.currentData()))
        self._carrier_row = framed(named_row("Carried by", self.carrier), "plain")
        self.rows.addWidget(self._carrier_row)
        self.material = calm(QComboBox())
        self.material.setAccessibleName("Looks like")
        for key, tip in LOOKS.items():
            self.material.addItem(key, key)
            self.material.setItemData(self.material.count() - 1, tip, 3)
        self.material.activated.connect(
            lambda _: self._set("change look", "look.material", self.material.currentData()))
        self.colour = QPushButton()
        self.colour.setAccessibleName("Colour")
        self.colour.setFixedWidth(46)
        self.colour.clicked.connect(self._pick_colour)
        self.rows.addLayout(named_row("Looks like", self.material, self.colour))

    def applies(self, piece: Piece) -> bool:
        return piece.role != "force"

    def summary(self, piece: Piece) -> str:
        feel = f" · {_feel_name(piece)}" if piece.moves and piece.made_of.feel.name else ""
        return ROLES[piece.role][0] + feel

    def refresh(self, piece: Piece) -> None:
        super().refresh(piece)
        self.role.setCurrentIndex(self.role.findData(piece.role))
        self.material.setCurrentIndex(self.material.findData(piece.look.material))
        self.colour.setStyleSheet(f"background: {piece.look.colour};")
        self.colour.setToolTip(f"Colour {piece.look.colour}")
        solid = piece.in_cells
        for widget in (self._cells_label, self.cells, self._cells_count):
            widget.setVisible(solid)
        self._carrier_row.setVisible(piece.role == "carried")
        self.carrier.clear()
        for key, name in (("", "nothing yet"), *((p.id, p.name) for p in self.bench.scene.pieces if p.moves)):
            self.carrier.addItem(name, key)
        self.carrier.setCurrentIndex(max(self.carrier.findData(piece.carried_by), 0))
        self._feel_rows.setVisible(piece.moves)
        if piece.moves:
            self._show_feel(piece)
        if solid:
            self.cells.set_value(piece.solid.cells)
            self._cells_count.setText(self._cell_text(piece))

    def _show_feel(self, piece: Piece) -> None:
        choice = piece.made_of.feel
        names = [feel.name for feel in feels_of(piece.role)]
        if names != self._names:
            self._names = names
            for box in (self.feel, self.second):
                while box.count() > 1:
                    box.removeItem(1)
                for feel in feels_of(piece.role):
                    box.addItem(feel.name, feel.name)
                    box.setItemData(box.count() - 1, feel.line, 3)
        self.feel.setCurrentIndex(max(self.feel.findData(choice.name), 0))
        self.second.setCurrentIndex(max(self.second.findData(choice.mixed_with), 0))
        self.second.setEnabled(choice.name in FEELS)
        self.share.setVisible(bool(choice.mixed_with))
        self.share.set_value(choice.share)
        self.feel_line.setText(FEELS[choice.name].line if choice.name in FEELS else "")
        self.feel_line.setVisible(choice.name in FEELS)

    def _cell_text(self, piece: Piece) -> str:
        meshes, unit = self.bench.document.meshes, self.bench.scene.length_unit
        edge = min(piece.place.size) / piece.solid.cells
        text = f"with edges of {show(edge, unit)}"
        try:
            count = cells_of_edge(piece, meshes, edge)
            at_draft = cell_edge(piece, meshes, "draft")
        except QuinceError:
            return text
        if at_draft > edge:
            text += f" ({show(at_draft, unit)} at draft)"
        return f"about {float(f'{count:.2g}'):,.0f} cells {text}".replace(",", " ")

    def _set_feel(self, _index: int = 0, share: float | None = None) -> None:
        """Values of the chosen feel, or of the mixture; a second feel starts with an even share."""
        piece = self.bench.chosen
        if piece is None:
            return
        second = self.second.currentData() if self.feel.currentData() else OWN
        if share is None:
            share = piece.made_of.feel.share if piece.made_of.feel.mixed_with and second else 0.5
        try:
            choice = FeelChoice(name=self.feel.currentData(), mixed_with=second, share=share if second else 0.0)
        except ValueError:
            self.bench.say("The share of the second feel should be between 0 and 100 %.")
            self.refresh(piece)
            return
        self.bench.document.push("change feel", self.bench.scene.with_piece(with_feel(piece, choice)))

    # --- feels of the artist's own ----------------------------------------------------------------------

    def _list_own(self) -> None:
        self._own_menu.clear()
        piece = self.bench.chosen
        chosen = FEELS.get(piece.made_of.feel.name) if piece is not None else None
        for text, do in (("Keep these values as a feel…", self._keep_feel), ("Import a feel…", self._import_feel)):
            self._own_menu.addAction(text, partial(self._try, do))
        if chosen is not None:
            self._own_menu.addAction(f"Export “{chosen.name}”…", partial(self._try, partial(self._export_feel, chosen)))
            if chosen.name not in USUAL:
                self._own_menu.addAction(f"Forget “{chosen.name}”", partial(self._forget_feel, chosen.name))

    def _try(self, do: Callable[[], None]) -> None:
        try:
            do()
        except QuinceError as error:
            self.bench.say(str(error))
        if self.bench.chosen is not None:
            self.refresh(self.bench.chosen)

    def _keep_feel(self) -> None:
        piece = self.bench.chosen
        if piece is None:
            return
        name, meant = QInputDialog.getText(self, "Keep these values as a feel", "Name of the feel:", text=piece.name)
        if meant:
            own_feels.keep(own_feels.feel_of(piece, name))
            self._choose_feel(name.strip())

    def _import_feel(self) -> None:
        path = self._dialogs.to_open("Import a feel", f"Feels (*{own_feels.SUFFIX})")
        if path is not None:
            feel = own_feels.read_feel(path)
            own_feels.keep(feel)
            piece = self.bench.chosen
            if piece is not None and feel.role == piece.made_of_name:
                self._choose_feel(feel.name)
            else:
                self.bench.say(f"“{feel.name}” is kept; it is offered to every {ROLES[feel.role][0]}.", False)

    def _export_feel(self, feel: Feel) -> None:
        path = self._dialogs.to_save("Export a feel", {"Feel": own_feels.SUFFIX})
        if path is not None:
            own_feels.write_feel(path, feel)

    def _forget_feel(self, name: str) -> None:
        own_feels.forget(name)
        if self.bench.chosen is not None:
            self.refresh(self.bench.chosen)

    def _choose_feel(self, name: str) -> None:
        piece = self.bench.chosen
        if piece is not None:
            fresh = with_feel(piece, FeelChoice(name=name))
            self.bench.document.push("change feel", self.bench.scene.with_piece(fresh))

    def _set_role(self) -> None:
        self._set("change role", "role", self.role.currentData())

    def _pick_colour(self) -> None:
        piece = self.bench.chosen
        if piece is not None:
            colour = QColorDialog.getColor(QColor(piece.look.colour), self, f"Colour of {piece.name}")
            if colour.isValid():
                self._set("change colour", "look.colour", colour.name())


def _feel_name(piece: Piece) -> str:
    """The feel in words; a star says that values were changed since."""
    choice = piece.made_of.feel
    name = f"{choice.name} + {choice.share:.0%} {choice.mixed_with}" if choice.mixed_with else choice.name
    values = piece.made_of.model_dump()
    return name + ("" if all(values[k] == v for k, v in usual(piece).items()) else " *")
