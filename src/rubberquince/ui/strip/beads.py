"""Keys on a lane: beads that are dragged in time and value, the arms of their slopes, and their menu."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QPainter, QPen

from rubberquince.document.tracks import Key, Track
from rubberquince.ui import style

NEAR = 7.0                  # px, from a bead or the end of an arm
LEAST = 4.0                 # px, that a drag goes before it changes the value
TALL = 44                   # px, of a lane that shows arms
ARM = 26.0                  # px, to each side


@dataclass(frozen=True)
class Grip:
    """What the pointer has hold of: key number ``key`` of the lane of ``track``, its bead or its ``arm``."""

    track: Track
    key: int
    arm: bool = False


@dataclass(frozen=True)
class Plot:
    """How frames and values lie on a lane: ``x`` of a frame, ``y`` of a value, and back."""

    x: Callable[[float], float]
    y: Callable[[float], float]
    frame: Callable[[float], int]
    value: Callable[[float], float]
    tall: bool
    first: int
    last: int

    def shows(self, key: Key) -> bool:
        """Is a key within the frames of the run?"""
        return self.first <= key.frame <= self.last

    def bead(self, key: Key) -> QPointF:
        return QPointF(self.x(key.frame), self.y(key.value))

    def arm(self, track: Track, k: int) -> QPointF:
        """The end of the right arm of a key; its left one is opposite."""
        key = track.keys[k]
        run = self.x(key.frame + 1.0) - self.x(key.frame)
        rise = self.y(key.value + track.slope(k)) - self.y(key.value)
        scale = ARM / max(float(np.hypot(run, rise)), 1e-9)
        return self.bead(key) + QPointF(scale * run, scale * rise)


def grip_at(plot: Plot, track: Track, at: QPointF) -> Grip | None:
    """What of a lane is under the pointer; beads go before arms."""
    for k, key in enumerate(track.keys):
        if plot.shows(key) and _far(plot.bead(key), at) <= NEAR:
            return Grip(track, k)
    if plot.tall:
        for k in (k for k, key in enumerate(track.keys) if plot.shows(key)):
            bead, arm = plot.bead(track.keys[k]), plot.arm(track, k)
            if min(_far(arm, at), _far(_opposite(arm, bead), at)) <= NEAR:
                return Grip(track, k, arm=True)
    return None


def dragged(plot: Plot, grip: Grip, start: QPointF, at: QPointF, copies: bool) -> Track:
    """The track of a grip with its bead or arm taken from ``start`` to ``at``.

    A bead stays between its neighbours.  With ``copies`` the one it was taken from stays, too.
    """
    track, keys = grip.track, list(grip.track.keys)
    key = keys[grip.key]
    if grip.arm:
        bead = plot.bead(key)
        at = at if at.x() >= bead.x() else _opposite(at, bead)
        frames = max(at.x() - bead.x(), 1.0) / (plot.x(key.frame + 1.0) - plot.x(key.frame))
        slope = (plot.value(at.y()) - plot.value(bead.y())) / frames
        keys[grip.key] = key.model_copy(update={"slope": float(f"{slope:.4g}"), "way": "smooth"})
        return Track(of=track.of, keys=tuple(keys))
    frame, value = float(plot.frame(at.x())), key.value
    if abs(at.y() - start.y()) > LEAST:
        value = float(f"{plot.value(at.y()):.4g}")
    if copies:
        if any(one.frame == frame for one in keys):
            return track
        return track.with_key(key.model_copy(update={"frame": frame, "value": value}))
    before = keys[grip.key - 1].frame + 1.0 if grip.key > 0 else 0.0
    after = keys[grip.key + 1].frame - 1.0 if grip.key + 1 < len(keys) else np.inf
    keys[grip.key] = key.model_copy(update={"frame": min(max(frame, before), after), "value": value})
    return Track(of=track.of, keys=tuple(keys))


def paint_beads(painter: QPainter, plot: Plot, track: Track, chosen: float | None) -> None:
    """The beads of a lane, that at the ``chosen`` frame larger, with arms where there is room."""
    for k, key in enumerate(track.keys):
        if not plot.shows(key):
            continue
        bead = plot.bead(key)
        if plot.tall and key.way == "smooth":
            arm = plot.arm(track, k)
            painter.setPen(QPen(QColor(style.PLUM), 1.0))
            painter.drawLine(_opposite(arm, bead), arm)
            painter.setBrush(QColor(style.CARD))
            for end in (arm, _opposite(arm, bead)):
                painter.drawEllipse(end, 2.6, 2.6)
        radius = 5.0 if key.frame == chosen else 3.6
        painter.setPen(QPen(QColor("white"), 1.2))
        painter.setBrush(QColor(style.PLUM))
        painter.drawEllipse(bead, radius, radius)


def _opposite(end: QPointF, middle: QPointF) -> QPointF:
    return middle + middle - end


def _far(one: QPointF, two: QPointF) -> float:
    return float(np.hypot(one.x() - two.x(), one.y() - two.y()))
