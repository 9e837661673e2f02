"""The menu bar, and the sheet of shortcuts that F1 shows."""

from collections.abc import Callable

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QDialog, QGridLayout, QMenu, QMenuBar, QWidget

from rubberquince.ui.parts import column, label

Key = QKeySequence.StandardKey | str | None


class Menus:
    """Fills a menu bar; actions are found by their text."""

    def __init__(self, bar: QMenuBar) -> None:
        self._bar = bar
        self.actions: dict[str, QAction] = {}

    def menu(self, title: str) -> QMenu:
        return self._bar.addMenu(title)

    def add(self, menu: QMenu, text: str, do: Callable[[], object], key: Key = None) -> QAction:
        action = QAction(text, menu)
        if key is not None:
            action.setShortcut(QKeySequence(key))
        action.triggered.connect(lambda _: do())
        menu.addAction(action)
        self.actions[text.replace("…", "")] = action
        return action


VIEW_KEYS = (("Drag on nothing", "turn the view"), ("Right-drag", "move the view"), ("Wheel, + and -", "zoom"),
             ("Click", "choose a piece"), ("Drag the chosen piece", "slide it level"),
             ("Drag arrows, rings, grips", "move, turn, size"), ("Ctrl while dragging", "in steps of 1 cm, 15°"),
             ("Arrow keys in the view", "turn the view"), ("Arrow keys on the frames", "one frame on or back"),
             ("Enter, Backspace, Esc", "close a line, take a bead, put the tool away"),
             ("Esc in a number", "bring back what it was"))


class Shortcuts(QDialog):
    """Everything that keys and the mouse do, on one page."""

    def __init__(self, parent: QWidget, actions: dict[str, QAction]) -> None:
        super().__init__(parent)
        self.setWindowTitle("Keys and mouse")
        grid = QGridLayout()
        grid.setHorizontalSpacing(28)
        grid.setVerticalSpacing(6)
        lines = [(a.shortcut().toString(QKeySequence.SequenceFormat.NativeText), text)
                 for text, a in actions.items() if not a.shortcut().isEmpty()]
        for k, (key, what) in enumerate([*lines, *VIEW_KEYS]):
            column_pair = 0 if k < len(lines) else 2
            line = k if k < len(lines) else k - len(lines)
            grid.addWidget(label(key, "head"), line, column_pair)
            grid.addWidget(label(what, "soft"), line, column_pair + 1)
        self.setLayout(column(grid, margins=(24, 20, 24, 20)))
