"""What all zones of the window share: the open document, the chosen piece, and a place to say sentences."""

from pathlib import Path

from PySide6.QtCore import QObject, Signal

from rubberquince.document.document import Document
from rubberquince.document.scene import Piece, Scene
from rubberquince.document.tracks import Track, at_frame, bounds_at, get_at, put_at, with_track, without_track
from rubberquince.errors import QuinceError, RangeError
from rubberquince.units import tidy


class Bench(QObject):
    """``scene_changed(before, after)``, ``opened()`` after another document was, ``chose(id or "")``,
    ``said(sentence, trouble)``.

    ``map_path`` is the value whose map is open; ``map_shown`` says that it is another, or that
    other ``threads`` are to be drawn.
    ``frame`` is the one that is shown; ``frame_moved`` says so where something of the chosen piece has keys.
    Of several chosen pieces the one in ``chosen_id`` is shown on the sheet; ``chosen_ids`` are all of them.
    """

    scene_changed = Signal(object, object)
    opened = Signal()
    chose = Signal(str)
    said = Signal(str, bool)
    map_shown = Signal()
    frame_moved = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.document = Document()
        self.path: Path | None = None
        self.chosen_id: str | None = None
        self._also: tuple[str, ...] = ()
        self.frame = self.document.scene.run.first
        self.map_path: str | None = None
        self.threads: frozenset[str] = frozenset()
        self.document.listeners.append(self._on_change)

    @property
    def scene(self) -> Scene:
        return self.document.scene

    @property
    def chosen(self) -> Piece | None:
        return next((p for p in self.scene.pieces if p.id == self.chosen_id), None)

    @property
    def seen(self) -> Piece | None:
        """The chosen piece with its keyed values as they are at the shown frame."""
        piece: Piece | None = at_frame(self.chosen, self.frame) if self.chosen is not None else None
        return piece

    @property
    def chosen_ids(self) -> list[str]:
        """All chosen pieces, in the order of the line-up."""
        return [p.id for p in self.scene.pieces if p.id == self.chosen_id or p.id in self._also]

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
        moving = next((p for p in document.scene.pieces if p.moves), None)
        first = moving or next(iter(document.scene.pieces), None)
        self.chosen_id, self._also = first.id if first else None, ()
        self._on_change(before, document.scene)
        self.chose.emit(self.chosen_id or "")
        self.opened.emit()

    def choose(self, piece_id: str, also: bool = False) -> None:
        """Choose a piece by its id, or none by "".  With ``also`` it joins those that are chosen, or leaves them."""
        before = self.chosen_id, self._also
        if not also or not piece_id or self.chosen_id is None:
            self.chosen_id, self._also = piece_id or None, ()
        elif piece_id == self.chosen_id:
            self.chosen_id, self._also = (self._also[0] if self._also else None), self._also[1:]
        elif piece_id in self._also:
            self._also = tuple(one for one in self._also if one != piece_id)
        else:
            self.chosen_id, self._also = piece_id, (*self._also, self.chosen_id)
        if (self.chosen_id, self._also) != before:
            self.chose.emit(self.chosen_id or "")

    def set_value(self, label: str, path: str, value: object, piece_id: str | None = None, name: str = "",
                  unit: str = "") -> bool:
        """One value of a piece or of the scene; False, and a sentence, when it is out of range.

        Of what is keyed it is the value at the shown frame.  ``name`` and ``unit`` are those that the sentence should
        use.
        """
        try:
            self.document.set_value(label, path, value, piece_id, self.frame)
        except RangeError as error:
            self.say(f"{name or label.capitalize()}: it should be {error.relation} {tidy(error.bound, unit)}.")
            return False
        except QuinceError as error:
            self.say(str(error))
            return False
        return True

    def go_to(self, frame: int) -> None:
        """Another frame is shown."""
        if frame != self.frame:
            self.frame = frame
            if self.keyed.tracks:
                self.frame_moved.emit()

    def put_track(self, label: str, track: Track | None, path: str) -> None:
        """Give the value at a path of what is keyed other keys, or none: then it stays as the last one had it."""
        if track is None:
            self.keep_value(label, path)
        else:
            self._push_keyed(label, with_track(self.keyed, track))

    def keep_value(self, label: str, path: str) -> None:
        """Let a keyed value stay as it is at the shown frame."""
        self._push_keyed(label, put_at(without_track(self.keyed, path), path, get_at(self.keyed_now, path)))

    @property
    def keyed(self) -> Piece | Scene:
        """What keys are set on: the chosen piece, or the scene when none is."""
        return self.chosen or self.scene

    @property
    def keyed_now(self) -> Piece | Scene:
        """The same with its keyed values as they are at the shown frame."""
        now: Piece | Scene = at_frame(self.keyed, self.frame)
        return now

    def _push_keyed(self, label: str, changed: Piece | Scene) -> None:
        self.document.push(label, changed if isinstance(changed, Scene) else self.scene.with_piece(changed))

    def least(self, path: str, wanted: float) -> float:
        """``wanted``, or the least that the value at a path of what is keyed may be."""
        return max(wanted, bounds_at(self.keyed, path)[0])

    def show_map(self, path: str | None) -> None:
        """Open the map of the value at a path, of whatever piece is chosen, or close the one that is open."""
        if path != self.map_path:
            self.map_path = path
            self.map_shown.emit()

    def show_threads(self, what: str, on: bool) -> None:
        """Draw threads of the chosen piece in the view, "goal" or "braces", or no longer."""
        self.threads = self.threads | {what} if on else self.threads - {what}
        self.map_shown.emit()

    def say(self, sentence: str, trouble: bool = True) -> None:
        self.said.emit(sentence, trouble)

    def _on_change(self, before: Scene, after: Scene) -> None:
        ids = {piece.id for piece in after.pieces}
        self._also = tuple(one for one in self._also if one in ids)
        self.scene_changed.emit(before, after)
        if self.chosen_id is not None and self.chosen is None:
            self.choose(after.pieces[0].id if after.pieces else "")
