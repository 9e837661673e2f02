"""What all zones of the window share: the open document, the chosen piece, and a place to say sentences."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from rubberquince.document.document import Document
from rubberquince.document.scene import Piece, Scene
from rubberquince.errors import QuinceError


class Bench(QObject):
    """``scene_changed(before, after)``, ``chose(id or "")``, ``said(sentence, trouble)``."""

    scene_changed = Signal(object, object)
    chose = Signal(str)
    said = Signal(str, bool)

    def __init__(self) -> None:
        super().__init__()
        self.document = Document()
        self.path: Path | None = None
        self.chosen_id: str | None = None
        self.document.listeners.append(self._on_change)

    @property
    def scene(self) -> Scene:
        return self.document.scene

    @property
    def chosen(self) -> Piece | None:
        return next((p for p in self.scene.pieces if p.id == self.chosen_id), None)

    @property
    def title(self) -> str:
        name = self.path.name if self.path else "unnamed scene"
        return f"{name}{' •' if self.document.unsaved else ''}"

    def open(self, document: Document, path: Path | None) -> None:
        """Show another document; its history begins here."""
        before = self.scene
        self.document.listeners.clear()
        self.document, self.path = document, path
        document.listeners.append(self._on_change)
        solid = next((p for p in document.scene.pieces if p.role == "solid"), None)
        first = solid or next(iter(document.scene.pieces), None)
        self.chosen_id = first.id if first else None
        self._on_change(before, document.scene)
        self.chose.emit(self.chosen_id or "")

    def choose(self, piece_id: str) -> None:
        """Choose a piece by its id, or none by ""."""
        wanted = piece_id or None
        if wanted != self.chosen_id:
            self.chosen_id = wanted
            self.chose.emit(piece_id)

    def set_value(self, label: str, path: str, value: object, piece_id: str | None = None) -> bool:
        """One value of a piece or of the scene; False, and a sentence, when it is out of range."""
        try:
            self.document.set_value(label, path, value, piece_id)
        except QuinceError as error:
            self.say(str(error))
            return False
        return True

    def say(self, sentence: str, trouble: bool = True) -> None:
        self.said.emit(sentence, trouble)

    def _on_change(self, before: Scene, after: Scene) -> None:
        self.scene_changed.emit(before, after)
        if self.chosen_id is not None and self.chosen is None:
            self.choose(after.pieces[0].id if after.pieces else "")
