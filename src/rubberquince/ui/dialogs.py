"""Questions to the artist: which file, and what to do with an unsaved scene."""

from pathlib import Path

from PySide6.QtCore import QSettings, QStandardPaths
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget


class FileDialogs:
    """Asks for files and remembers the folder."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self._settings = QSettings("rubberquince", "rubberquince")

    def _folder(self) -> str:
        home = QStandardPaths.writableLocation(QStandardPaths.StandardLocation.DocumentsLocation)
        return str(self._settings.value("folder", home))

    def to_open(self, title: str, kinds: str) -> Path | None:
        name, _ = QFileDialog.getOpenFileName(self._window, title, self._folder(), kinds)
        return self._remembered(name)

    def to_save(self, title: str, kinds: dict[str, str]) -> Path | None:
        """``kinds`` are the file types by what they are called, each with its suffix, the usual one first."""
        filters = {f"{called} (*{suffix})": suffix for called, suffix in kinds.items()}
        name, chosen = QFileDialog.getSaveFileName(self._window, title, self._folder(), ";;".join(filters))
        if name and Path(name).suffix.lower() not in filters.values():
            name += filters.get(chosen, next(iter(filters.values())))
        return self._remembered(name)

    def _remembered(self, name: str) -> Path | None:
        if not name:
            return None
        self._settings.setValue("folder", str(Path(name).parent))
        return Path(name)


def ask_about_recovery(window: QWidget, name: str) -> bool:
    box = QMessageBox(window)
    box.setWindowTitle("Rubber Quince")
    box.setText(f"“{name}” was not saved when the program ended last time.")
    box.setInformativeText("Bring back its last state?")
    bring = box.addButton("Bring it back", QMessageBox.ButtonRole.AcceptRole)
    box.addButton("Throw it away", QMessageBox.ButtonRole.DestructiveRole)
    box.exec()
    return box.clickedButton() is bring


def ask_about_cells(window: QWidget, cells: int) -> bool:
    box = QMessageBox(window)
    box.setWindowTitle("Rubber Quince")
    box.setText(f"The solids have about {float(f'{cells:.2g}'):,.0f} cells.".replace(",", " "))
    box.setInformativeText("Filling and computing them takes long; fewer cells across are quicker. Go on?")
    go = box.addButton("Compute", QMessageBox.ButtonRole.AcceptRole)
    box.addButton(QMessageBox.StandardButton.Cancel)
    box.exec()
    return box.clickedButton() is go


def ask_about_unsaved(window: QWidget, name: str) -> QMessageBox.StandardButton:
    box = QMessageBox(window)
    box.setWindowTitle("Rubber Quince")
    box.setText(f"“{name}” has changes that are not saved.")
    box.setInformativeText("Save them before it is closed?")
    buttons = QMessageBox.StandardButton
    box.setStandardButtons(buttons.Save | buttons.Discard | buttons.Cancel)
    box.setDefaultButton(buttons.Save)
    return buttons(box.exec())
