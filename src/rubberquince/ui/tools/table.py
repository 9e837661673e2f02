"""A sortable table of chosen points and their values, edited one by one or many at once."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHeaderView, QPushButton, QTableWidget, QTableWidgetItem, QWidget

from rubberquince.errors import ValueTextError
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, label, row
from rubberquince.units import parse, show

HEADS = ("point", "x", "y", "z", "value")
VALUE = len(HEADS) - 1


class _Cell(QTableWidgetItem):
    """Sorted by its number, not by its text."""

    def __init__(self, number: float, text: str, edited: bool = False) -> None:
        super().__init__(text)
        self.number = number
        if not edited:
            self.setFlags(self.flags() & ~Qt.ItemFlag.ItemIsEditable)

    def __lt__(self, other: QTableWidgetItem) -> bool:
        return isinstance(other, _Cell) and self.number < other.number


class PointTable(QDialog):
    """``change(points, values)`` is told of values 0 .. 1 that were typed; all chosen rows get what one of them gets.
    """

    def __init__(self, parent: QWidget, bench: Bench, points: np.ndarray, places: np.ndarray, values: np.ndarray,
                 change: Callable[[np.ndarray, np.ndarray], None]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Values of the chosen points")
        self.resize(460, 420)
        self._bench, self._points, self._change = bench, points, change
        self.table = QTableWidget(len(points), len(HEADS))
        self.table.setHorizontalHeaderLabels(list(HEADS))
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        self.table.setSelectionBehavior(QTableWidget.SelectionBehavior.SelectRows)
        unit = bench.scene.length_unit
        for k, (point, place, value) in enumerate(zip(points, places, values)):
            cells = [_Cell(float(k), str(point)), *(_Cell(float(c), show(float(c), unit)) for c in place),
                     _Cell(float(value), show(float(value), "%"), edited=True)]
            cells[0].number = float(point)
            cells[0].setData(Qt.ItemDataRole.UserRole, k)
            for j, cell in enumerate(cells):
                self.table.setItem(k, j, cell)
        self.table.setSortingEnabled(True)
        self.table.itemChanged.connect(self._typed)
        done = QPushButton("Done")
        done.clicked.connect(self.accept)
        foot = row(label("Choose many rows, and type one value for all.", "small"))
        foot.addStretch(1)
        foot.addWidget(done)
        self.setLayout(column(self.table, foot, margins=(12, 12, 12, 12)))

    def _typed(self, item: QTableWidgetItem) -> None:
        if item.column() != VALUE or not isinstance(item, _Cell):
            return
        try:
            value = parse(item.text(), "%")
            if not 0.0 <= value <= 1.0:
                raise ValueTextError("The value of points in a map should be between 0 and 100 %.")
        except ValueTextError as error:
            self._bench.say(str(error))
            value = item.number
        rows = {index.row() for index in self.table.selectionModel().selectedRows()} | {item.row()}
        self.table.blockSignals(True)
        self.table.setSortingEnabled(False)
        for line in rows:
            cell = self.table.item(line, VALUE)
            if isinstance(cell, _Cell):
                cell.number = value
                cell.setText(show(value, "%"))
        firsts = [self.table.item(line, 0) for line in rows]
        numbers = [first.data(Qt.ItemDataRole.UserRole) for first in firsts if first is not None]
        self.table.setSortingEnabled(True)
        self.table.blockSignals(False)
        self._change(self._points[numbers], np.full(len(numbers), value))
