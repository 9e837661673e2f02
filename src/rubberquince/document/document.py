"""The open document: the scene, its meshes, its history, and who wants to know of changes."""

import secrets
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from rubberquince.document.scene import ImportedShape, Piece, Scene, changed
from rubberquince.document.tracks import with_keys_at
from rubberquince.shapes.polymesh import PolyMesh

MOST_STEPS = 500


@dataclass(frozen=True)
class Command:
    """One step of the history: the scene before and after it."""

    label: str
    before: Scene
    after: Scene
    gesture: int | None


class Document:
    """Changes come in as commands, go out as calls of ``listeners`` with (before, after)."""

    def __init__(self, scene: Scene | None = None, meshes: dict[str, PolyMesh] | None = None) -> None:
        self._scene = scene or Scene()
        self.meshes: dict[str, PolyMesh] = dict(meshes or {})
        self.listeners: list[Callable[[Scene, Scene], None]] = []
        self._done: list[Command] = []
        self._undone: list[Command] = []
        self._gesture: int | None = None
        self._gestures = 0
        self._hasty = False
        self._saved: Scene | None = self._scene

    @property
    def scene(self) -> Scene:
        return self._scene

    @property
    def unsaved(self) -> bool:
        return self._scene is not self._saved

    def mark_saved(self) -> None:
        self._saved = self._scene

    def mark_unsaved(self) -> None:
        """The scene came from elsewhere than its file."""
        self._saved = None

    # --- commands -------------------------------------------------------------------------------------

    def push(self, label: str, after: Scene) -> None:
        """Do one step.  Steps of one gesture with one label become one."""
        before = self._scene
        if after == before:
            return
        last = self._done[-1] if self._done else None
        if last and self._gesture is not None and last.gesture == self._gesture and last.label == label:
            self._done[-1] = Command(label, last.before, after, self._gesture)
        else:
            self._done.append(Command(label, before, after, self._gesture))
            del self._done[:-MOST_STEPS]
        self._undone.clear()
        self._become(after)

    def begin_gesture(self, hasty: bool = False) -> None:
        """From here on, steps with one label are one step: a drag, a sweep of a slider.

        Of a ``hasty`` one there are so many that who shows values may follow some times a second.
        """
        self._gestures += 1
        self._gesture, self._hasty = self._gestures, hasty

    def end_gesture(self) -> None:
        self._gesture = None

    @property
    def in_haste(self) -> bool:
        return self._gesture is not None and self._hasty

    def set_value(self, label: str, path: str, value: Any, piece_id: str | None = None, frame: float = 0.0) -> None:
        """Replace one value, of a piece or of the scene; of what is keyed, that at a frame.

        Raises SceneError when it is out of range.
        """
        if piece_id is None:
            self.push(label, with_keys_at(self._scene, changed(self._scene, path, value), path, frame))
        else:
            piece = self._scene.piece(piece_id)
            self.push(label, self._scene.with_piece(with_keys_at(piece, changed(piece, path, value), path, frame)))

    def add_piece(self, piece: Piece, mesh: PolyMesh | None = None) -> None:
        if mesh is not None and isinstance(piece.shape, ImportedShape):
            self.meshes[piece.shape.mesh] = mesh
        self.push(f"add {piece.name}", self._scene.model_copy(update={"pieces": (*self._scene.pieces, piece)}))

    def replace_piece(self, label: str, piece: Piece, mesh: PolyMesh | None = None) -> None:
        """Put ``piece`` in the place of the one with its id; ``mesh`` is that of its shape where it is new."""
        if mesh is not None and isinstance(piece.shape, ImportedShape):
            self.meshes[piece.shape.mesh] = mesh
        self.push(label, self._scene.with_piece(piece))

    def remove_pieces(self, piece_ids: list[str]) -> None:
        kept = tuple(p for p in self._scene.pieces if p.id not in piece_ids)
        what = self._scene.piece(piece_ids[0]).name if len(piece_ids) == 1 else f"{len(piece_ids)} pieces"
        self.push(f"remove {what}", self._scene.model_copy(update={"pieces": kept}))

    def new_id(self) -> str:
        return secrets.token_hex(4)

    def new_name(self, base: str) -> str:
        names = {p.name for p in self._scene.pieces}
        return next(n for n in (base, *(f"{base} {k}" for k in range(2, 10_000))) if n not in names)

    # --- history --------------------------------------------------------------------------------------

    @property
    def undo_label(self) -> str | None:
        return self._done[-1].label if self._done else None

    @property
    def redo_label(self) -> str | None:
        return self._undone[-1].label if self._undone else None

    def undo(self) -> None:
        if self._done:
            self.end_gesture()
            command = self._done.pop()
            self._undone.append(command)
            self._become(command.before)

    def redo(self) -> None:
        if self._undone:
            command = self._undone.pop()
            self._done.append(command)
            self._become(command.after)

    def _become(self, scene: Scene) -> None:
        before, self._scene = self._scene, scene
        for listener in list(self.listeners):
            listener(before, scene)
