"""The line-up: a card for every piece, and one to add another."""

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QMimeData, Qt, Signal
from PySide6.QtGui import QDrag, QDragEnterEvent, QDropEvent, QImage, QKeyEvent, QMouseEvent, QPixmap
from PySide6.QtWidgets import QFrame, QLabel, QMenu, QPushButton, QScrollArea, QWidget

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Piece, Scene
from rubberquince.errors import QuinceError
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import column, icon, label, mark, row
from rubberquince.ui.sheet.feel import ROLES

PICTURE = 46
Painter = Callable[[Piece, int], np.ndarray | None]


class Card(QFrame):
    """A piece in the line-up.  ``pressed()``; ``eyed()`` when its eye was."""

    pressed = Signal()
    eyed = Signal()

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
        self.piece: Piece | None = None
        self._grabbed = False

    def show_piece(self, piece: Piece, count: str, chosen: bool) -> None:
        self.piece = piece
        metrics = self._name.fontMetrics()
        self._name.setText(metrics.elidedText(piece.name, Qt.TextElideMode.ElideRight, 60))
        self._role.setText(ROLES[piece.role][0])
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
            self.pressed.emit()
            self._grabbed = True

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
            self.pressed.emit()
        else:
            super().keyPressEvent(event)


class LineUp(QScrollArea):
    """All cards in the scene's order, which is for the eye only.  ``add_menu`` drops from the last one."""

    def __init__(self, bench: Bench, add_menu: QMenu, paint: Painter) -> None:
        super().__init__()
        self._bench, self._paint = bench, paint
        self.setObjectName("lineup")
        self.setFixedHeight(84)
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
        line = row(margins=(12, 0, 12, 0), gap=8)
        line.addLayout(self._cards)
        line.addWidget(self.add)
        line.addStretch(1)
        inner.setLayout(line)
        self.setWidget(inner)
        bench.scene_changed.connect(self._on_scene)
        bench.chose.connect(lambda _: self._show(bench.scene, None))
        self._show(bench.scene, None)

    def _on_scene(self, before: Scene, after: Scene) -> None:
        self._show(after, before)

    def _show(self, scene: Scene, before: Scene | None) -> None:
        while len(self.cards) > len(scene.pieces):
            card = self.cards.pop()
            self._cards.removeWidget(card)
            card.hide()
            card.deleteLater()
        while len(self.cards) < len(scene.pieces):
            card = Card()
            card.pressed.connect(lambda card=card: self._bench.choose(card.piece.id if card.piece else ""))
            card.eyed.connect(lambda card=card: self._turn_eye(card))
            self.cards.append(card)
            self._cards.addWidget(card)
        for card, piece in zip(self.cards, scene.pieces):
            if card.piece is not piece:
                self._show_picture(card, piece)
            card.show_piece(piece, self._count(piece), piece.id == self._bench.chosen_id)

    def _show_picture(self, card: Card, piece: Piece) -> None:
        old = card.piece
        if old is not None and (old.shape, old.look, old.place) == (piece.shape, piece.look, piece.place):
            return
        ratio = 2
        pixels = self._paint(piece, PICTURE * ratio)
        if pixels is not None:
            data = np.ascontiguousarray(pixels)
            image = QImage(data.data, data.shape[1], data.shape[0], data.strides[0], QImage.Format.Format_RGBX8888)
            pixmap = QPixmap.fromImage(image)
            pixmap.setDevicePixelRatio(ratio)
            card.picture.setPixmap(pixmap)

    def _count(self, piece: Piece) -> str:
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
        to = sum(card.geometry().center().x() < at for card in self.cards)
        pieces = list(self._bench.scene.pieces)
        piece = next(p for p in pieces if p.id == event.mimeData().text())
        pieces.insert(to, piece)
        pieces.pop(pieces.index(piece) if pieces.index(piece) != to else to + 1)
        event.acceptProposedAction()
        self._bench.document.push("order the line-up", self._bench.scene.model_copy(update={"pieces": tuple(pieces)}))
