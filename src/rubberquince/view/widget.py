"""The view as a widget: shows the renderer's picture, turns the mouse into a camera and into drags."""

import time
from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPointF, Qt, QTimer, Signal
from PySide6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QWidget

from rubberquince.document.scene import Place
from rubberquince.errors import QuinceError
from rubberquince.view.camera import Camera
from rubberquince.view.handles import Drag, Handle, handles_of, slide, under_pointer
from rubberquince.view.overlay import Overlay
from rubberquince.view.renderer import Renderer
from rubberquince.view.stage import Line, Pull, Ring, Spot, Stage

STILL_AFTER = 90            # ms without a change, after which the picture is refined
SAMPLES = 8                 # pictures averaged for a still one
SHIFTS = [((k % 4) / 4 - 0.375, (k * 3 % 8) / 8 - 0.4375) for k in range(SAMPLES)]
SCALES = (1.0, 0.8, 0.62, 0.5, 0.4)     # of the picture while things move
SLOW = 0.03                 # s for a picture and its change: four in a row above, and the next ones are coarser,
DRAWN = 0.5                 # if at least so much of it went into pixels: a coarser picture saves nothing else
DONE = 0.8                  # of that: what is drawn in it, were drawing to take twice as long, may be finer
CLICK = 4                   # px of movement that still is a click
WHEEL_KEYS = Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ShiftModifier
TOOL_KEYS = (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Backspace, Qt.Key.Key_Escape,
             Qt.Key.Key_Plus, Qt.Key.Key_Minus)
KEY_STEP = np.radians(7.5)


class View(QWidget):
    """Shows a stage.  Signals: a piece was clicked (its id, or "" for none); a handle was taken, moved, let go.

    While a tool ``aims``, clicks say which pixel they are on instead, by ``aimed`` and ``aimed_twice``, and keys of
    tools come by ``keyed``.  Drags that begin where it ``grabs`` go to it, too, and the wheel with Alt or Shift.
    """

    clicked = Signal(str)
    aimed = Signal(QPointF)
    aimed_twice = Signal(QPointF)
    drag_began = Signal(str)
    dragged = Signal(str, object)
    drag_ended = Signal()
    keyed = Signal(int)
    hovered = Signal(QPointF)
    sweep_began = Signal(QPointF, Qt.KeyboardModifier)
    swept = Signal(QPointF)
    sweep_ended = Signal(QPointF)
    wheeled = Signal(int, Qt.KeyboardModifier)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.stage = Stage()
        self.camera = Camera()
        self.place_of: Callable[[str], Place | None] = lambda _: None
        self.handles_shown = True
        self.aims = self._sweeping = False
        self.grabs: Callable[[QPointF], bool] = lambda _: False
        self.ring: Ring | None = None
        self.pull: Pull | None = None       # of a tug
        self.threads = np.zeros((0, 2, 3))      # lines to be drawn thinly, m
        self.dots = np.zeros((0, 3))            # places of chosen points, m
        self.frame_drawn: list[QPointF] = []
        self.lines: list[Line] = []
        self.trouble = ""
        self.spots: list[np.ndarray] = []
        self._renderer: Renderer | None = None
        self._image: QImage | None = None
        self._sum: np.ndarray | None = None
        self._samples = 0
        self._old = True
        self._coarse, self._slow = 0, 0
        self._work = 0.0                    # s, that a sweep took to change what is shown
        self._drawing = 0.0                 # s, that the last picture took the renderer
        self._press: QPointF | None = None
        self._last = QPointF()
        self._drag: Drag | None = None
        self._slide: tuple[str, Place, np.ndarray] | None = None
        self._sliding = False
        self._hot: Handle | None = None
        self._still = QTimer(self, singleShot=True, interval=STILL_AFTER)
        self._still.timeout.connect(self._refine)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("View of the scene")
        self.setAccessibleDescription("Drag to turn, right-drag to move, wheel to zoom, click a piece to choose it")
        self.setMinimumSize(240, 180)

    def close_renderer(self) -> None:
        """Free the graphics context; closing a window does not reach its children."""
        self._still.stop()
        if self._renderer is not None:
            self._renderer.release()
            self._renderer = None

    # --- the picture ----------------------------------------------------------------------------------

    def redraw(self) -> None:
        """The stage or the camera has changed."""
        self._old = True
        self._still.start()
        self.update()

    def frame(self, only: list[str] | None = None, margin: float = 1.12) -> None:
        """Fill the view with these pieces, or with all."""
        box = self.stage.bounds(only) or self.stage.bounds()
        if box is not None:
            self.camera = self.camera.framing(*box, self.width() / max(self.height(), 1), margin)
            self.redraw()

    def shows(self, piece_id: str) -> bool:
        """Is the middle of a piece, and most of its box, in the picture?"""
        body = self.stage.bodies.get(piece_id)
        if body is None:
            return True                     # there is nothing to be seen of it
        low, high = body.bounds()
        corners = np.array([[(low, high)[(k >> i) & 1][i] for i in range(3)] for k in range(8)])
        x, y, depth = self.camera.project(np.vstack([corners, (low + high) / 2]), self.width(), self.height()).T
        inside = (depth > 0) & (x > 0) & (x < self.width()) & (y > 0) & (y < self.height())
        return bool(inside[-1]) and int(inside[:-1].sum()) >= 6

    def _pixels(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF()
        return max(round(self.width() * ratio), 1), max(round(self.height() * ratio), 1)

    def renderer(self) -> Renderer | None:
        """The renderer, made when first needed; None, and ``trouble`` says why, where it cannot be."""
        if self._renderer is None and not self.trouble:
            try:
                self._renderer = Renderer()
            except QuinceError as error:
                self.trouble = str(error)
        return self._renderer

    def _draw(self, shift: tuple[float, float], scale: float = 1.0, rough: bool = False) -> np.ndarray | None:
        renderer = self.renderer()
        if renderer is None:
            return None
        width, height = self._pixels()
        return renderer.draw(self.stage, self.camera, round(width * scale), round(height * scale), shift, rough)

    def _show_moving(self) -> None:
        """A picture while things move."""
        began = time.perf_counter()
        pixels = self._draw((0.0, 0.0), SCALES[self._coarse], rough=True)
        self._drawing = time.perf_counter() - began
        if pixels is not None:
            self._set_image(pixels)
            self._sum, self._samples = None, 0
            self._still.start(STILL_AFTER)
        self._old = False

    def _keep_up(self, took: float) -> None:
        """Draw coarser where pictures that take so many seconds do not keep up with the eye, finer where they would.

        Coarser only where that saves something, finer only where that keeps up, too; and after four in a row.
        """
        coarser = took > SLOW and self._drawing > DRAWN * took
        finer = took + self._drawing < DONE * SLOW
        self._slow = max(self._slow, 0) + 1 if coarser else min(self._slow, 0) - 1 if finer else 0
        if abs(self._slow) >= 4:
            self._coarse = min(max(self._coarse + (1 if self._slow > 0 else -1), 0), len(SCALES) - 1)
            self._slow = 0

    def _set_image(self, pixels: np.ndarray) -> None:
        data = np.ascontiguousarray(pixels)
        image = QImage(data.data, data.shape[1], data.shape[0], data.strides[0], QImage.Format.Format_RGBX8888)
        self._image = image.copy()

    def _refine(self) -> None:
        """One more shifted picture into the average, until it is smooth."""
        if self._old or not self.isVisible():
            return
        pixels = self._draw(SHIFTS[self._samples])
        if pixels is None:
            return
        if self._sum is None or pixels.shape != self._sum.shape:
            self._sum, self._samples = np.zeros(pixels.shape, np.uint16), 0
        self._sum += pixels
        self._samples += 1
        self._set_image((self._sum // self._samples).astype(np.uint8))
        self.update()
        if self._samples < SAMPLES:
            self._still.start(1)
        else:
            self._still.setInterval(STILL_AFTER)

    def paintEvent(self, event: QPaintEvent) -> None:
        began, moving = time.perf_counter(), self._old
        if moving:
            self._show_moving()
        painter = QPainter(self)
        if self._image is not None:
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(self.rect(), self._image)
        else:
            painter.fillRect(self.rect(), QColor("#E0DCD3"))
            painter.setPen(QColor("#2C2A26"))
            painter.drawText(self.rect().adjusted(40, 40, -40, -40),
                             Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.trouble)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        over = Overlay(painter, self.camera, (self.width(), self.height()))
        for handle in self._handles():
            over.handle(handle, hot=self._hot is not None and self._hot.name == handle.name)
        over.threads(self.threads)
        for line in self.lines:
            over.line(line)
        over.tool(self.ring, self.frame_drawn, self.dots)
        if self.pull is not None:
            over.pull(self.pull)
        for spot in self.spots if self.handles_shown else []:
            over.trouble(spot)
        painter.end()
        if moving:
            self._keep_up(self._work + time.perf_counter() - began)
        self._work = 0.0

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.redraw()

    # --- handles --------------------------------------------------------------------------------------

    def _handles(self) -> list[Handle]:
        chosen = self.stage.chosen
        if not self.handles_shown or self.aims or chosen is None or chosen not in self.stage.bodies:
            return []
        place = self.place_of(chosen)
        return handles_of(place) if place is not None else []

    def spot(self, at: QPointF) -> Spot | None:
        """What of the chosen piece is seen at a pixel; None where it is not."""
        return self.stage.spot(*self._ray(at))

    def _ray(self, at: QPointF) -> tuple[np.ndarray, np.ndarray]:
        return self.camera.ray(at.x(), at.y(), self.width(), self.height())

    # --- mouse and keys -------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        self._press = self._last = at
        if event.button() != Qt.MouseButton.LeftButton:
            return
        if self.aims:
            self._sweeping = self.grabs(at)
            if self._sweeping:
                self.sweep_began.emit(at, event.modifiers())
            return
        chosen = self.stage.chosen
        handle = under_pointer(self._handles(), self.camera, (at.x(), at.y()), (self.width(), self.height()))
        eye, along = self._ray(at)
        place = self.place_of(chosen) if chosen else None
        if handle is not None and place is not None and chosen:
            self._drag = Drag(handle, place, eye, along)
            self.drag_began.emit(handle.name)
        elif place is not None and chosen and self.handles_shown and self.stage.at(eye, along) == chosen:
            body = self.stage.bodies[chosen]
            grabbed = eye + along * body.rays.distance(eye, along)
            self._slide = (chosen, place, grabbed)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        step, self._last = at - self._last, at
        if self._press is None:
            self._hover(at)
            return
        if self._sweeping and event.buttons() & Qt.MouseButton.LeftButton:
            began = time.perf_counter()
            self.swept.emit(at)
            self._work = time.perf_counter() - began
            return
        snap = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        moved = (at - self._press).manhattanLength() > CLICK
        if self._drag is not None and self.stage.chosen:
            self.dragged.emit(self.stage.chosen, self._drag.to(*self._ray(at), snap))
        elif self._slide is not None:
            piece_id, place, grabbed = self._slide
            if moved and not self._sliding:
                self._sliding = True
                self.drag_began.emit("move")
            if self._sliding:
                self.dragged.emit(piece_id, slide(place, grabbed, *self._ray(at), snap))
        elif event.buttons() & (Qt.MouseButton.LeftButton | Qt.MouseButton.MiddleButton):
            self.camera = self.camera.turned(step.x() * 0.008, step.y() * 0.008)
            self.redraw()
        else:
            self.camera = self.camera.moved(step.x(), step.y(), self.height())
            self.redraw()

    def _hover(self, at: QPointF) -> None:
        if self.aims:
            self.hovered.emit(at)
            return
        hot = under_pointer(self._handles(), self.camera, (at.x(), at.y()), (self.width(), self.height()))
        if (hot and hot.name) != (self._hot and self._hot.name):
            self._hot = hot
            self.setCursor(Qt.CursorShape.OpenHandCursor if hot else Qt.CursorShape.ArrowCursor)
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        at, press = event.position(), self._press
        self._press = None
        if self._sweeping and event.button() == Qt.MouseButton.LeftButton:
            self._sweeping = False
            self.sweep_ended.emit(at)
        if self._drag is not None:
            self._drag = None
            self.drag_ended.emit()
        elif press is not None and event.button() == Qt.MouseButton.LeftButton:
            if self.aims and (at - press).manhattanLength() <= CLICK:
                self.aimed.emit(at)
            elif (at - press).manhattanLength() <= CLICK:
                self.clicked.emit(self.stage.at(*self._ray(at)) or "")
            elif self._sliding:
                self.drag_ended.emit()
        self._slide, self._sliding = None, False

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.aims and event.button() == Qt.MouseButton.LeftButton:
            self.aimed_twice.emit(event.position())
        else:
            self.mousePressEvent(event)

    def wheelEvent(self, event: QWheelEvent) -> None:
        at = event.position()
        turned = event.angleDelta().y() or event.angleDelta().x()       # with Alt, Qt takes it for a sideways turn
        if self.aims and event.modifiers() & WHEEL_KEYS:
            self.wheeled.emit(turned, event.modifiers())
            return
        factor = 0.999 ** event.angleDelta().y()
        self.camera = self.camera.zoomed(factor, at.x(), at.y(), self.width(), self.height())
        self.redraw()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        turns = {Qt.Key.Key_Left: (1, 0), Qt.Key.Key_Right: (-1, 0), Qt.Key.Key_Up: (0, 1), Qt.Key.Key_Down: (0, -1)}
        key = Qt.Key(event.key())
        if self.aims and key in TOOL_KEYS:
            self.keyed.emit(int(key))
        elif key in turns:
            right, up = turns[key]
            self.camera = self.camera.turned(right * KEY_STEP, up * KEY_STEP)
            self.redraw()
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Minus):
            factor = 0.85 if key == Qt.Key.Key_Plus else 1 / 0.85
            self.camera = self.camera.zoomed(factor, self.width() / 2, self.height() / 2, self.width(), self.height())
            self.redraw()
        else:
            super().keyPressEvent(event)
