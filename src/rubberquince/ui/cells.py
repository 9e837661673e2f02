"""What pieces are computed with: the cells of solids, filled by the helper when they are to be seen, and faces."""

from collections import OrderedDict
from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QObject, Signal

from rubberquince.bake.assemble import carrier_key
from rubberquince.document.bodies import Meshes, piece_triangles
from rubberquince.document.scene import Scene
from rubberquince.errors import ShapeError
from rubberquince.jobs.errands import Errand
from rubberquince.ui.assistant import Assistant
from rubberquince.ui.bench import Bench
from rubberquince.view.body import Body
from rubberquince.view.cells import Cells, surface

MOST_KEPT = 16


class ShownCells(QObject):
    """``came()`` when cells that were asked for are there."""

    came = Signal()

    def __init__(self, bench: Bench, helper: Assistant) -> None:
        super().__init__()
        self._bench, self._helper = bench, helper
        self._kept: OrderedDict[str, Cells | None] = OrderedDict()
        self._asked: set[str] = set()
        helper.done.connect(self._on_done)

    def surfaces(self, scene: Scene, nodes: dict[str, tuple[str, np.ndarray]]) -> dict[str, np.ndarray]:
        """Corners (n, 3, 3) m of the cells' outside, by piece id, as far as they are filled; the rest is asked for.

        nodes : carrier key and node places of each piece at a frame; see view.cells.surface.
        """
        meshes, found = self._bench.document.meshes, {}
        for piece in scene.pieces:
            if not piece.in_cells:
                continue
            try:
                key = carrier_key(piece, meshes, scene.run.quality)
            except ShapeError:
                continue
            cells = self._kept.get(key)
            if cells is not None:
                shown = surface(cells, piece, nodes.get(piece.id))
                if shown is not None:
                    found[piece.id] = shown
            elif key not in self._kept and key not in self._asked:
                self._asked.add(key)
                self._helper.ask(f"cells {key}", Errand("view.cells:cells_of", (piece, meshes, scene.run.quality)))
        return found

    def _on_done(self, kind: str, cells: Cells | None) -> None:
        word, _, key = kind.partition(" ")
        if word == "cells":
            self._asked.discard(key)
            self._kept[key] = cells
            while len(self._kept) > MOST_KEPT:
                self._kept.popitem(last=False)
            self.came.emit()


def faces_of_skins(scene: Scene, meshes: Meshes, bodies: Mapping[str, Body]) -> dict[str, np.ndarray]:
    """Corners (n, 3, 3) m of the triangles of pieces that are but a skin, as they are shown, by piece id."""
    return {piece.id: bodies[piece.id].points[piece_triangles(piece, meshes)].astype(np.float32)
            for piece in scene.pieces if piece.of_skin and piece.id in bodies}
