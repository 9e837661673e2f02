"""What every section of the sheet is: a head that folds, a summary to be read closed, and rows."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from rubberquince.document.maps import MAPPED
from rubberquince.document.scene import Piece
from rubberquince.document.values import Plain, about
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import Field, Value, mark_property
from rubberquince.ui.parts import Elided, column, icon, label, row
from rubberquince.ui.sheet.bead import Bead
from rubberquince.ui.sheet.stack import MapStack, square

KEYED = ("solid", "shell", "net", "braces", "pressure", "goal", "contact", "force", "reshape")   # may have keys
NAME_WIDTH = 104            # px, as in a Field


class Section(QFrame):
    """Subclasses give ``title``, ``applies``, ``summary``, and fill ``self.rows`` in their constructor."""

    title = ""

    def __init__(self, bench: Bench) -> None:
        super().__init__()
        self.bench = bench
        self.setObjectName("section")
        self.fold = QPushButton(self.title)
        self.fold.setObjectName("fold")
        self.fold.setCheckable(True)
        self.fold.setIconSize(QSize(12, 12))
        self.fold.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.fold.setAccessibleName(f"{self.title} section")
        self.fold.toggled.connect(self._unfold)
        self._summary = Elided()
        self._summary.setObjectName("soft")
        self._summary.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._summary.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self._body = QWidget()
        self.rows: QVBoxLayout = column(margins=(11, 0, 9, 9), gap=5)
        self._body.setLayout(self.rows)
        self.setLayout(column(row(self.fold, self._summary, margins=(0, 0, 10, 0)), self._body, gap=0))
        self._fields: list[tuple[Field, str]] = []
        self.stacks: dict[str, tuple[QPushButton, MapStack]] = {}
        self.beads: dict[str, Bead] = {}
        self._unfold(False)

    def applies(self, piece: Piece) -> bool:
        return True

    def summary(self, piece: Piece) -> str:
        return ""

    def usual(self, piece: Piece, path: str) -> float | None:
        """What reset brings back; None where the field itself knows."""
        return None

    def shows(self, piece: Piece, path: str) -> bool:
        """Does the piece have the value at ``path``?"""
        return True

    def refresh(self, piece: Piece) -> None:
        """Show the values of a piece."""
        text = self.summary(piece)
        self._summary.setText(text)
        self._summary.setToolTip(text)
        for field, path in self._fields:
            number: object = piece
            for name in path.split("."):
                number = number[int(name)] if isinstance(number, tuple) else getattr(number, name)
            shown = number is not None and self.shows(piece, path)
            field.setVisible(shown)
            if shown:
                field.show_value(float(number), self.usual(piece, path))     # type: ignore[arg-type]
            if path in self.stacks:
                self._show_stack(field, path, piece, shown)
            if path in self.beads:
                self.beads[path].refresh(piece)

    def _show_stack(self, field: Field, path: str, piece: Piece, shown: bool) -> None:
        """Open the stack of a map under its row, if that is the one to be seen."""
        button, stack = self.stacks[path]
        mapped, opened = piece.map_of(path) is not None, shown and self.bench.map_path == path
        button.setChecked(opened)
        mark_property(button, "mapped", mapped)
        for widget in (field.slider, field.edit):
            widget.setEnabled(not mapped)
        stack.setVisible(opened)
        if opened:
            stack.refresh(piece)

    def add_values(self, head: str, values: Plain, *names: str) -> None:
        """A row for each value of a part of the piece, ``head``, that something is said about, or those ``names``.

        Reset brings back what they are in ``values``.
        """
        for name, said in about(type(values)).items():
            if not names or name in names:
                usual = getattr(values, name)
                unit = self.bench.scene.length_unit if said.unit == "length" else said.unit
                self.add_field(Value(said.name, f"{head}.{name}", unit, said.low, said.high, said.tip, said.log,
                                     None if usual is None else float(usual)),
                               head in KEYED and said.when == "value" and not isinstance(usual, int))

    def add_field(self, value: Value, keyed: bool = False) -> Field:
        """A row for a number of the chosen piece at ``value.path``; a digit in it means an item of a tuple.

        ``keyed`` says that it may have keys.
        """
        field = Field(value, lambda number: self._change(value, number))
        field.swept.connect(lambda begins: self.bench.document.begin_gesture() if begins
                            else self.bench.document.end_gesture())
        field.refused.connect(self.bench.say)
        self._fields.append((field, value.path))
        self.rows.addWidget(field)
        if value.path in MAPPED:
            button, stack = square(self.bench, value.path, value.name), MapStack(self.bench, value.path, value)
            field.layout().addWidget(button)        # type: ignore[union-attr]
            self.rows.addWidget(stack)
            self.stacks[value.path] = (button, stack)
        if keyed:
            bead = self.beads[value.path] = Bead(self.bench, value.path, value.name)
            field.layout().addWidget(bead)          # type: ignore[union-attr]
        return field

    def _change(self, value: Value, number: float) -> bool:
        piece = self.bench.seen
        if piece is None:
            return False
        path, _, item = value.path.rpartition(".")
        number_or_items: object = round(number) if self._is_whole(piece, value.path) else number
        if item.isdigit():
            whole: object = piece
            for name in path.split("."):
                whole = getattr(whole, name)
            items = list(whole)                     # type: ignore[call-overload]
            items[int(item)] = number
            number_or_items = tuple(items)
        return self.bench.set_value(f"change {value.name.lower()}", path if item.isdigit() else value.path,
                                    number_or_items, piece.id, value.name, value.unit)

    def _is_whole(self, piece: Piece, path: str) -> bool:
        number: object = piece
        for name in path.split("."):
            number = number[int(name)] if isinstance(number, tuple) else getattr(number, name)
        return isinstance(number, int)

    def _set(self, what: str, path: str, value: object) -> None:
        piece = self.bench.chosen
        if piece is not None:
            self.bench.set_value(what, path, value, piece.id)

    def _unfold(self, on: bool) -> None:
        self.fold.setChecked(on)
        self._body.setVisible(on)
        self.fold.setIcon(icon("open-fold" if on else "shut-fold", 12))


def named_row(name: str, *widgets: QWidget) -> QHBoxLayout:
    """A name and what it names, in line with the fields of a section."""
    title = label(name)
    title.setFixedWidth(NAME_WIDTH)
    title.setBuddy(widgets[0])
    return row(title, *widgets, gap=5)
