"""The bead at a field: keys of its value at the frame that is shown."""

from collections.abc import Callable
from functools import partial
from typing import get_args

from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QPushButton

from rubberquince.document.scene import Piece, Scene
from rubberquince.document.tracks import Key, Track, Way, get_at
from rubberquince.ui import style
from rubberquince.ui.bench import Bench

RAMP = 30                   # frames
NONE, THREAD, HERE = "no keys", "keys at other frames", "a key at this frame"


class Bead(QPushButton):
    """A click sets a key at this frame, or takes it away; its menu knows more."""

    def __init__(self, bench: Bench, path: str, name: str) -> None:
        super().__init__()
        self._bench, self._path, self._name = bench, path, name
        self.shows = NONE
        self.setObjectName("bare")
        self.setFixedSize(12, 20)
        self.setAccessibleName(f"Key {name}")
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.customContextMenuRequested.connect(self._ask)
        self.clicked.connect(lambda _: self.turn())

    def refresh(self, piece: Piece | Scene) -> None:
        track = piece.track_of(self._path)
        here = track is not None and track.key_at(self._bench.frame) is not None
        self.shows = HERE if here else THREAD if track is not None else NONE
        self.setToolTip(f"{self._name} has {self.shows}. Click to "
                        f"{'take it away' if here else 'set one'}; right-click for more.")
        self.update()

    def turn(self) -> None:
        """Set a key at this frame, or take it away."""
        track = self._bench.keyed.track_of(self._path)
        if track is not None and track.key_at(self._bench.frame) is not None:
            self._bench.put_track("take a key away", without_key(track, self._bench.frame), self._path)
            return
        key = Key(frame=self._bench.frame, value=self._value())
        fresh = Track(of=self._path, keys=(key,)) if track is None else track.with_key(key)
        self._bench.put_track(f"key {self._name.lower()}", fresh, self._path)

    def ramp(self) -> None:
        """From 0 to what it is now over some frames."""
        frame = self._bench.frame
        keys = (Key(frame=frame, value=self._bench.least(self._path, 0.0), way="even"),
                Key(frame=frame + RAMP, value=self._value()))
        self._bench.put_track(f"ramp {self._name.lower()}", Track(of=self._path, keys=keys), self._path)

    def lead_on(self, way: Way) -> None:
        """The way from the last key before this frame on."""
        track = self._bench.keyed.track_of(self._path)
        if track is not None:
            k = max((k for k, key in enumerate(track.keys) if key.frame <= self._bench.frame), default=0)
            self._bench.put_track("change the way between keys", with_way(track, k, way), self._path)

    def forget(self) -> None:
        """No longer keyed: it stays as it is now."""
        if self._bench.keyed.track_of(self._path) is not None:
            self._bench.keep_value(f"keep {self._name.lower()} as it is", self._path)

    def _value(self) -> float:
        return float(get_at(self._bench.keyed_now, self._path))

    def menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("Take this key away" if self.shows == HERE else "Set a key here", self.turn)
        menu.addAction(f"From 0 to this over {RAMP} frames", self.ramp)
        keyed = self.shows != NONE
        add_ways(menu, self.lead_on).setEnabled(keyed)
        menu.addAction("No keys any more", self.forget).setEnabled(keyed)
        return menu

    def _ask(self, at: QPoint) -> None:
        self.menu().popup(self.mapToGlobal(at))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = QRectF(self.rect()).center()
        strong = self.underMouse() or self.hasFocus()
        if self.shows != NONE:
            painter.setPen(QPen(QColor(style.PLUM), 1.2))
            painter.drawLine(round(middle.x()), 1, round(middle.x()), self.height() - 1)
        radius = 4.0 if self.shows == HERE else 3.2
        ink = style.PLUM if self.shows != NONE else style.QUINCE if strong else "#C9C1AF"
        painter.setPen(QPen(QColor(ink), 1.2))
        painter.setBrush(QColor(style.PLUM) if self.shows == HERE else QColor(style.CARD))
        painter.drawEllipse(middle, radius, radius)
        painter.end()


def add_ways(menu: QMenu, do: Callable[[Way], None]) -> QMenu:
    """A menu of the ways from one key to the next."""
    ways = menu.addMenu("On to the next key")
    for way in get_args(Way):
        ways.addAction(way, partial(do, way))
    return ways


def without_key(track: Track, frame: float) -> Track | None:
    """The track without its key at a frame; None when that was the last."""
    keys = tuple(key for key in track.keys if key.frame != frame)
    return Track(of=track.of, keys=keys) if keys else None


def with_way(track: Track, k: int, way: Way) -> Track:
    """The track with another way after key ``k``."""
    key = track.keys[k].model_copy(update={"way": way})
    return Track(of=track.of, keys=(*track.keys[:k], key, *track.keys[k + 1:]))
