"""The lanes of keyed values of the chosen piece, or of the scene, and what is done to their keys."""

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu, QWidget

from rubberquince.document.scene import Piece, Scene, changed
from rubberquince.document.tracks import Key, Track, Way, get_at, put_at
from rubberquince.document.values import about
from rubberquince.errors import SceneError
from rubberquince.ui import style
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import NumberEdit
from rubberquince.ui.sheet.bead import add_ways, with_way, without_key
from rubberquince.ui.strip.lanes import Lane
from rubberquince.units import show

PLACES = {"position": ("Position", "length"), "turn": ("Turn", "°"), "size": ("Size", "length"),
          "along": ("Gone so far", "%")}
FLAT = 1e-6                 # a course that changes by no more is shown about its middle
EDIT_WIDTH = 90             # px
SCENE = {"gravity": ("Gravity", "m/s²"), "lean": ("Leans by", "°"), "toward": ("Leans toward", "°"),
         "ground_friction": ("Ground friction", "")}


def said_of(piece: Piece | Scene, path: str, scene: Scene) -> tuple[str, str]:
    """Name and unit of the value at a path of a piece, or of the scene itself."""
    head, name, *item = path.split(".")
    if head == "run":
        return SCENE[name]
    if head == "place":
        called, unit = PLACES[name]
        called = f"{called} {'xyz'[int(item[0])]}" if item else called
    else:
        said = about(type(getattr(piece, head)))[name]
        called, unit = said.name, said.unit
    return called, scene.length_unit if unit == "length" else unit


def key_lanes(piece: Piece | Scene, scene: Scene) -> list[Lane]:
    """A lane for each keyed value of a piece, or of the scene itself."""
    lanes = []
    for track in piece.tracks:
        called, unit = said_of(piece, track.of, scene)
        values = np.array([track.at(frame) for frame in range(scene.run.last + 1)])
        low, high = float(values.min()), float(values.max())
        half = max(abs(low), 1.0) * 0.1 if high - low < FLAT else 0.0
        lanes.append(Lane(called, style.PLUM, values, low - half, high + half, partial(show, unit=unit), track))
    return lanes


class KeyEditor:
    """Changes keys of the chosen piece as the lanes ask for it."""

    def __init__(self, bench: Bench, parent: QWidget) -> None:
        self._bench, self._parent = bench, parent
        self.edit: NumberEdit | None = None

    def take(self, track: Track) -> None:
        """Other keys of a value; one that it may not have is one sentence."""
        if all(self._may_be(track.of, key.value) for key in track.keys):
            self._bench.put_track("move a key", track, track.of)

    def sweep(self, begins: bool) -> None:
        document = self._bench.document
        document.begin_gesture() if begins else document.end_gesture()

    def drop(self, track: Track, frame: float) -> None:
        self._bench.put_track("take a key away", without_key(track, frame), track.of)

    def ask(self, track: Track, k: int, at: QPoint, menu: bool) -> None:
        """The menu of a key, or a field for its value."""
        if menu:
            self.menu(track, k).popup(at)
            return
        unit = said_of(self._bench.keyed, track.of, self._bench.scene)[1]
        self.close()
        self.edit = edit = NumberEdit("Value of the key", unit, self._parent)
        edit.set_value(track.keys[k].value)
        edit.typed.connect(lambda value: self._type(track, k, value))
        edit.refused.connect(self._bench.say)
        edit.editingFinished.connect(self.close)
        edit.setFixedWidth(EDIT_WIDTH)
        edit.move(self._parent.mapFromGlobal(at))
        edit.show()
        edit.selectAll()
        edit.setFocus()

    def close(self) -> None:
        if self.edit is not None:
            edit, self.edit = self.edit, None
            edit.hide()
            edit.deleteLater()

    def menu(self, track: Track, k: int) -> QMenu:
        menu, key = QMenu(self._parent), track.keys[k]
        put: Callable[[Way], None] = lambda way: self._bench.put_track(      # noqa: E731
            "change the way between keys", with_way(track, k, way), track.of)
        add_ways(menu, put)
        menu.addAction("Find its slope again", partial(self._slope_again, track, k)).setEnabled(key.slope is not None)
        menu.addAction("Take it away", partial(self.drop, track, key.frame))
        return menu

    def _type(self, track: Track, k: int, value: float) -> None:
        if self._may_be(track.of, value):
            self.take(track.with_key(Key(frame=track.keys[k].frame, value=value)))

    def _may_be(self, path: str, value: float) -> bool:
        """May what is keyed have this value?  If not, a sentence says why."""
        try:
            _checked(self._bench.keyed, path, value)
        except SceneError as error:
            self._bench.say(str(error))
            return False
        return True

    def _slope_again(self, track: Track, k: int) -> None:
        key = track.keys[k].model_copy(update={"slope": None})
        self.take(Track(of=track.of, keys=(*track.keys[:k], key, *track.keys[k + 1:])))


def _checked(piece: Piece | Scene, path: str, value: float) -> None:
    """Raises SceneError when a value at a path is out of its range."""
    head, _, item = path.rpartition(".")
    if item.isdigit():
        whole = get_at(put_at(piece, path, value), head)
        changed(piece, head, whole)
    else:
        changed(piece, path, value)
