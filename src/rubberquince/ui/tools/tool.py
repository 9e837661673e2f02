"""What every tool of the view is: it is taken up and put away, and listens to the view only while it is on."""

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QPointF, Signal, SignalInstance
from PySide6.QtWidgets import QFrame, QWidget

from rubberquince.document.bodies import unit_mesh
from rubberquince.document.scene import Piece
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.ui.bench import Bench
from rubberquince.view.stage import Spot
from rubberquince.view.widget import View


class Tool(QObject):
    """Subclasses give ``name``, ``tip`` and ``hint`` (with a place for the piece), and listen by ``hear``.

    ``panel`` is shown under the pills while the tool is on.
    """

    name = tip = hint = ""
    turned = Signal(bool)

    def __init__(self, bench: Bench, view: View, parent: QWidget) -> None:
        super().__init__(parent)
        self._bench, self._view = bench, view
        self.on = False
        self.panel: QFrame | None = None

    def hear(self, signal: SignalInstance, do: Callable[..., None]) -> None:
        signal.connect(partial(self._told, do))

    def turn(self, on: bool) -> None:
        """Take the tool up, or put it away."""
        piece = self._bench.chosen
        if on and piece is None:
            self._bench.say("Choose the piece that this is to work on.")
            on = False
        self.on = on
        self._view.aims, self._view.grabs = on, self.grabs
        if on and piece is not None:
            self._bench.say(self.hint.format(piece.name), False)
        else:
            self.put_away()
        self._view.update()
        self.turned.emit(on)

    def grabs(self, at: QPointF) -> bool:
        """Does a drag that begins at this pixel belong to the tool?  Else it turns the view."""
        return False

    def put_away(self) -> None:
        """Forget what was under way."""

    def mesh(self, piece: Piece) -> PolyMesh:
        return unit_mesh(piece.shape, self._bench.document.meshes)

    def place_of(self, piece: Piece, spot: Spot) -> tuple[float, float, float]:
        """A spot on the skin in the unit box of the piece's shape."""
        x, y, z = (float(c) for c in spot.weights @ self.mesh(piece).points[spot.corners])
        return x, y, z

    def skin_now(self) -> np.ndarray | None:
        """Points (n, 3), m, of the chosen piece as it is shown."""
        body = self._view.stage.bodies.get(self._bench.chosen_id or "")
        return None if body is None else body.points.astype(float)

    def _told(self, do: Callable[..., None], *what: Any) -> None:
        if self.on:
            do(*what)
