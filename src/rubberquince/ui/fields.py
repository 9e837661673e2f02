"""A value of the scene as an artist handles it: name, slider, number with unit, reset."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLineEdit, QPushButton, QSlider, QWidget

from rubberquince.errors import ValueTextError
from rubberquince.ui.parts import calm, icon, label, row
from rubberquince.units import parse, show

STEPS = 1000                # of a slider


@dataclass(frozen=True)
class Value:
    """What a field shows: where it lies in the model, its unit, the sensible range of its slider in SI."""

    name: str
    path: str
    unit: str
    low: float
    high: float
    tip: str
    log: bool = False
    usual: float | None = None          # what reset brings back


class NumberEdit(QLineEdit):
    """A number with a unit.  ``typed(SI value)`` once a changed text is read, ``refused(sentence)`` when not."""

    typed = Signal(float)
    refused = Signal(str)

    def __init__(self, name: str, unit: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.unit = unit
        self._value = 0.0
        self.setAccessibleName(name)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.editingFinished.connect(self._read)
        self.textEdited.connect(lambda _: mark_property(self, "wrong", False))

    @property
    def value(self) -> float:
        return self._value

    def set_value(self, value: float) -> None:
        self._value = value
        if not (self.hasFocus() and self.isModified()):
            self.setText(show(value, self.unit))
            self.setCursorPosition(0)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self._show_again()
        else:
            super().keyPressEvent(event)

    def _read(self) -> None:
        if not self.isModified():
            return
        text = self.text()
        self._show_again()
        try:
            value = parse(text, self.unit)
        except ValueTextError as error:
            mark_property(self, "wrong", True)
            self.refused.emit(str(error))
            return
        self.typed.emit(value)

    def _show_again(self) -> None:
        mark_property(self, "wrong", False)
        self.setModified(False)
        self.setText(show(self._value, self.unit))


class WholeEdit(NumberEdit):
    """A whole number between two bounds.  ``chosen(number)``."""

    chosen = Signal(int)

    def __init__(self, name: str, low: int, high: int) -> None:
        super().__init__(name, "")
        self.setToolTip(name)
        self._low, self._high = low, high
        self.typed.connect(self._take)

    def set_bounds(self, low: int, high: int) -> None:
        self._low, self._high = low, high

    def _take(self, number: float) -> None:
        if not self._low <= number <= self._high:
            self.refused.emit(f"{self.accessibleName()}: it should be between {self._low} and {self._high}.")
        else:
            self.chosen.emit(round(number))


class Field(QWidget):
    """One value with everything around it.  ``change(value) -> taken`` does the work."""

    swept = Signal(bool)                # a sweep of the slider begins (True) or ends
    refused = Signal(str)

    def __init__(self, value: Value, change: Callable[[float], bool]) -> None:
        super().__init__()
        self.value = value
        self._change = change
        self._shown = 0.0
        self._usual = value.usual
        name = label(value.name)
        name.setFixedWidth(104)
        self.slider = calm(QSlider(Qt.Orientation.Horizontal))
        self.slider.setRange(0, STEPS)
        self.slider.setMinimumWidth(40)
        self.slider.setAccessibleName(value.name)
        self.edit = NumberEdit(value.name, value.unit)
        self.edit.setFixedWidth(88)
        self.reset = QPushButton(icon("reset", 12), "")
        self.reset.setObjectName("reset")
        self.reset.setFixedSize(20, 20)
        self.reset.setIconSize(QSize(12, 12))
        self.reset.setAccessibleName(f"Reset {value.name}")
        name.setBuddy(self.edit)
        self.setLayout(row(name, self.slider, self.edit, self.reset, gap=5))
        kept = self.reset.sizePolicy()
        kept.setRetainSizeWhenHidden(True)
        self.reset.setSizePolicy(kept)
        self.setToolTip(value.tip)
        self.slider.sliderPressed.connect(lambda: self.swept.emit(True))
        self.slider.sliderReleased.connect(lambda: self.swept.emit(False))
        self.slider.valueChanged.connect(self._slid)
        self.edit.typed.connect(self._set)
        self.edit.refused.connect(self.refused)
        self.reset.clicked.connect(lambda: self._set(self._usual or 0.0))

    def show_value(self, number: float, usual: float | None = None) -> None:
        """Show a value, and what reset would bring back where that depends on the piece."""
        self._shown = number
        self._usual = self.value.usual if usual is None else usual
        self.edit.set_value(number)
        self.slider.blockSignals(True)
        self.slider.setValue(round(STEPS * self._share(number)))
        self.slider.blockSignals(False)
        usual = self._usual
        differs = usual is not None and not math.isclose(number, usual, rel_tol=1e-6, abs_tol=1e-12)
        mark_property(self.edit, "differs", differs)
        self.reset.setToolTip(f"Back to {show(usual, self.value.unit)}" if usual is not None else "")
        self.reset.setEnabled(differs)
        self.reset.setVisible(usual is not None)
        self.reset.setIcon(icon("reset", 12) if differs else icon("empty", 12))

    def _share(self, number: float) -> float:
        v = self.value
        if v.log:
            share = math.log(max(number, v.low) / v.low) / math.log(v.high / v.low)
        else:
            share = (number - v.low) / (v.high - v.low)
        return min(max(share, 0.0), 1.0)

    def _slid(self, step: int) -> None:
        v, share = self.value, step / STEPS
        number = v.low * (v.high / v.low) ** share if v.log else v.low + (v.high - v.low) * share
        self._set(float(f"{number:.3g}"))

    def _set(self, number: float) -> None:
        if not self._change(number):
            self.show_value(self._shown, self._usual)


def mark_property(widget: QWidget, name: str, on: bool) -> None:
    """Set a property that the style sheet looks at."""
    if widget.property(name) != on:
        widget.setProperty(name, on)
        widget.style().unpolish(widget)
        widget.style().polish(widget)
