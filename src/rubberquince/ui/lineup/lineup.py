"""The line-up: a card for every piece, and one to add another."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QMimeData, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import (
    QContextMenuEvent,
    QDrag,
    QDragEnterEvent,
    QDropEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPixmap,
    QWheelEvent,
)
from PySide6.QtWidgets import QFrame, QLabel, QLineEdit, QMenu, QPushButton, QScrollArea, QWidget

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Piece, Scene
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, icon, label, mark, row
from rubberquince.ui.sheet.feel import ROLES
from rubberquince.units import show

PICTURE, RATIO = 46, 2
ALSO = Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier      # choose one more
Painter = Callable[[Piece, int], np.ndarray | None]


class Card(QFrame):
    """A piece in the line-up.  ``pressed(also)``; ``eyed()`` when its eye was; ``renamed(name)``; ``asked(at)`` for
    the menu of the piece.
    """

    pressed = Signal(bool)
    eyed = Signal()
    renamed = Signal(str)
    asked = Signal(QPoint)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("card")
        self.setFixedSize(152, 64)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.picture = QLabel()
        self.picture.setFixedSize(PICTURE, PICTURE)
        self._name, self._count = label("", "head"), label("", "small")
        self._mark, self._role = QLabel(), label("", "small")
        self.eye = QPushButton()
        self.eye.setObjectName("eye")
        self.eye.setFixedSize(20, 20)
        self.eye.clicked.connect(self.eyed)
        texts = column(row(self._name, self.eye, gap=0), row(self._mark, self._role, gap=4), self._count, gap=1)
        self._role.setMinimumWidth(10)
        texts.itemAt(1).layout().addStretch(1)      # type: ignore[union-attr]
        self.setLayout(row(self.picture, texts, margins=(7, 5, 5, 5), gap=7))
        self.editor = QLineEdit(self)
        self.editor.setAccessibleName("Name of the piece")
        self.editor.setMaxLength(60)
        self.editor.setGeometry(56, 3, 92, 24)
        self.editor.hide()
        self.editor.editingFinished.connect(self._renamed)
        self.piece: Piece | None = None
        self.drawn: Piece | None = None     # the piece as its picture shows it
        self._grabbed = False

    def show_piece(self, piece: Piece, count: str, chosen: bool) -> None:
        self.piece = piece
        metrics = self._name.fontMetrics()
        self._name.setText(metrics.elidedText(piece.name, Qt.TextElideMode.ElideRight, 60))
        self._role.setText(piece.force.kind if piece.role == "force" else ROLES[piece.role][0])
        self._mark.setPixmap(mark(piece.role, 13))
        self._count.setText(count)
        self.eye.setIcon(icon("eye" if piece.visible else "eye-shut", 14))
        self.eye.setAccessibleName(f"{'Hide' if piece.visible else 'Show'} {piece.name}")
        self.eye.setToolTip("Hide" if piece.visible else "Show")
        self.setAccessibleName(f"{piece.name}, {ROLES[piece.role][0]}")
        self.setToolTip(f"{piece.name}: {ROLES[piece.role][1]}")
        self.setProperty("chosen", chosen)
        self.style().unpolish(self)
        self.style().polish(self)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() == Qt.MouseButton.LeftButton:
            self.pressed.emit(bool(event.modifiers() & ALSO))
            self._grabbed = True

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.rename()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        self.asked.emit(event.globalPos())

    def rename(self) -> None:
        """Let the name be typed on the card."""
        if self.piece is not None:
            self.editor.setText(self.piece.name)
            self.editor.show()
            self.editor.selectAll()
            self.editor.setFocus()

    def _renamed(self) -> None:
        if not self.editor.isHidden():
            self.editor.hide()
            self.renamed.emit(self.editor.text().strip())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Dragged out of its place: carried along the line-up."""
        if self._grabbed and self.piece is not None and not self.rect().contains(event.position().toPoint()):
            self._grabbed = False
            drag, data = QDrag(self), QMimeData()
            data.setText(self.piece.id)
            drag.setMimeData(data)
            drag.setPixmap(self.grab())
            drag.exec(Qt.DropAction.MoveAction)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.pressed.emit(bool(event.modifiers() & ALSO))
        elif event.key() == Qt.Key.Key_F2:
            self.rename()
        else:
            super().keyPressEvent(event)


class LineUp(QScrollArea):
    """All cards in the scene's order, which is for the eye only.  ``add_menu`` drops from the last one."""

    def __init__(self, bench: Bench, add_menu: QMenu, piece_menu: QMenu, paint: Painter) -> None:
        super().__init__()
        self._bench, self._paint, self._piece_menu = bench, paint, piece_menu
        self.setObjectName("lineup")
        self.setFixedHeight(86)
        self.setWidgetResizable(True)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAcceptDrops(True)
        self.setAccessibleName("Line-up of pieces")
        self.cards: list[Card] = []
        self.add = QPushButton("+")
        self.add.setObjectName("add")
        self.add.setFixedSize(38, 64)
        self.add.setAccessibleName("Add a piece")
        self.add.setToolTip("Add a block, a sphere or a mesh from a file")
        self.add.clicked.connect(lambda: add_menu.popup(self.add.mapToGlobal(self.add.rect().bottomLeft())))
        self._cards = row(gap=8)
        self._inner = inner = QWidget()
        inner.setObjectName("page")
        line = row(gap=8)
        line.addLayout(self._cards)
        line.addWidget(self.add)
        line.addStretch(1)
        page = column(line, margins=(12, 7, 12, 0))     # what is below the cards is room for the scrollbar
        page.addStretch(1)
        inner.setLayout(page)
        self.setWidget(inner)
        bench.scene_changed.connect(self._on_scene)
        bench.chose.connect(self._on_chose)
        self.horizontalScrollBar().rangeChanged.connect(self._bring_into_view)
        self._to_draw = QTimer(self, singleShot=True, interval=0)
        self._to_draw.timeout.connect(self._draw_next)
        self._show(bench.scene)

    def _on_scene(self, before: Scene, after: Scene) -> None:
        self._show(after)

    def _on_chose(self) -> None:
        self._show(self._bench.scene)
        self._bring_into_view()

    def _bring_into_view(self) -> None:
        """The chosen card; one that has just come has its place only when the bar knows of it."""
        card = next((c for c in self.cards if c.piece and c.piece.id == self._bench.chosen_id), None)
        if card is not None:
            self.ensureWidgetVisible(card, 60, 0)

    def wheelEvent(self, event: QWheelEvent) -> None:
        bar = self.horizontalScrollBar()
        bar.setValue(bar.value() - event.angleDelta().y() - event.angleDelta().x())

    def _ask(self, card: Card, at: QPoint) -> None:
        """The menu of a piece; it is about all that are chosen."""
        if card.piece is not None:
            if card.piece.id not in self._bench.chosen_ids:
                self._bench.choose(card.piece.id)
            self._piece_menu.popup(at)

    def _rename(self, card: Card, name: str) -> None:
        if card.piece is not None and name and name != card.piece.name:
            self._bench.set_value("rename", "name", name, card.piece.id)

    def _show(self, scene: Scene) -> None:
        while len(self.cards) > len(scene.pieces):
            card = self.cards.pop()
            self._cards.removeWidget(card)
            card.hide()
            card.deleteLater()
        while len(self.cards) < len(scene.pieces):
            card = Card()
            card.pressed.connect(lambda also, card=card: self._bench.choose(card.piece.id if card.piece else "", also))
            card.asked.connect(lambda at, card=card: self._ask(card, at))
            card.renamed.connect(lambda name, card=card: self._rename(card, name))
            card.eyed.connect(lambda card=card: self._turn_eye(card))
            self.cards.append(card)
            self._cards.addWidget(card)
        chosen = set(self._bench.chosen_ids)
        for card, piece in zip(self.cards, scene.pieces):
            if not _looks_like(card.drawn, piece):
                self._to_draw.start()
            card.show_piece(piece, self._count(piece), piece.id in chosen)

    def _draw_next(self) -> None:
        """The picture of one card that has none of its piece as it looks now; the next one in another turn."""
        waiting = [card for card in self.cards if card.piece is not None and not _looks_like(card.drawn, card.piece)]
        if not waiting:
            return
        card = waiting[0]
        assert card.piece is not None
        card.drawn = card.piece
        pixels = self._paint(card.piece, PICTURE * RATIO)
        if pixels is not None:
            data = np.ascontiguousarray(pixels)
            image = QImage(data.data, data.shape[1], data.shape[0], data.strides[0], QImage.Format.Format_RGBX8888)
            pixmap = QPixmap.fromImage(image)
            pixmap.setDevicePixelRatio(RATIO)
            card.picture.setPixmap(pixmap)
        if waiting[1:]:
            self._to_draw.start()

    def _count(self, piece: Piece) -> str:
        if piece.role == "force":
            force = piece.force
            return show(force.pull, "m/s²") if force.kind == "puller" else show(force.speed, "m/s")
        try:
            return f"{len(unit_mesh(piece.shape, self._bench.document.meshes).points):,} vertices".replace(",", " ")
        except QuinceError:
            return "mesh missing"

    def _turn_eye(self, card: Card) -> None:
        if card.piece is not None:
            what = "hide" if card.piece.visible else "show"
            self._bench.set_value(f"{what} {card.piece.name}", "visible", not card.piece.visible, card.piece.id)

    # --- carrying a card to another place -------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if isinstance(event.source(), Card):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        at = self._inner.mapFrom(self, event.position().toPoint()).x()
        carried = event.mimeData().text()
        before = {card.piece.id for card in self.cards if card.piece and card.geometry().center().x() < at}
        pieces = [p for p in self._bench.scene.pieces if p.id != carried]
        to = sum(piece.id in before for piece in pieces)
        pieces.insert(to, self._bench.scene.piece(carried))
        event.acceptProposedAction()
        self._bench.document.push("order the line-up", self._bench.scene.model_copy(update={"pieces": tuple(pieces)}))


def _looks_like(drawn: Piece | None, piece: Piece) -> bool:
    return drawn is not None and (drawn.shape, drawn.look, drawn.place.size) == (piece.shape, piece.look,
                                                                                piece.place.size)
