"""The tool that paints into the open map: a ring on the skin, and strokes that are kept on the surface."""

from typing import Literal

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QCheckBox, QWidget

from rubberquince.document.maps import Layer, Map, Stroke, StrokesRule
from rubberquince.document.scene import Piece
from rubberquince.ui.bench import Bench
from rubberquince.ui.fields import NumberEdit
from rubberquince.ui.parts import framed, label, row
from rubberquince.ui.tools.tool import Tool
from rubberquince.view.stage import Ring, Spot
from rubberquince.view.widget import View

BEAD_STEP = 0.25            # of the radius, between two beads of a stroke
USUAL_RADIUS = 0.12         # of the piece's size
NOTCH = 120.0               # of a wheel
Does = Literal["adds", "takes", "smooths"]


class Brush(Tool):
    """Paints strokes on the top layer of the map that is open, which becomes one of strokes."""

    name = "paint"
    tip = "Paint into the open map of the chosen piece"
    hint = ("Paint on {}: Ctrl takes away, Shift smooths; Alt + wheel makes the brush wider, Shift + wheel stronger; "
            "drag beside the piece to turn the view.")

    def __init__(self, bench: Bench, view: View, parent: QWidget) -> None:
        super().__init__(bench, view, parent)
        self.radius, self.strength = 0.02, 0.5
        self.mirrored, self.through = QCheckBox("mirrored"), QCheckBox("through")
        self.mirrored.setToolTip("Also on the other side of the middle of its x")
        self.through.setToolTip("Also what lies behind, and what is turned away")
        self.radius_edit = NumberEdit("Radius of the brush", bench.scene.length_unit)
        self.strength_edit = NumberEdit("Strength of the brush", "%")
        for edit, do in ((self.radius_edit, self._set_radius), (self.strength_edit, self._set_strength)):
            edit.setFixedWidth(64)
            edit.typed.connect(do)
            edit.refused.connect(bench.say)
        line = row(label("radius"), self.radius_edit, label("strength"), self.strength_edit, self.mirrored,
                   self.through, margins=(10, 4, 10, 4), gap=6)
        self.panel = framed(line, "bar")
        self._stroke: Stroke | None = None
        self._sized_for = ""
        self.hear(view.hovered, self._hover)
        self.hear(view.sweep_began, self._begin)
        self.hear(view.swept, self._go_on)
        self.hear(view.sweep_ended, self._end)
        self.hear(view.wheeled, self._wheel)
        self.hear(view.keyed, lambda key: self.turn(False) if key == Qt.Key.Key_Escape else None)

    def turn(self, on: bool) -> None:
        piece = self._bench.chosen
        if on and piece is not None and self._bench.map_path is None:
            self._bench.say("Open the map that you want to paint: click the square at the end of a row of the sheet.")
            on = False
        if on and piece is not None and piece.id != self._sized_for:
            self._sized_for, self.radius = piece.id, float(f"{USUAL_RADIUS * max(piece.place.size):.2g}")
        self._show_numbers()
        super().turn(on)

    def grabs(self, at: QPointF) -> bool:
        return self._view.spot(at) is not None

    def put_away(self) -> None:
        self._view.ring, self._stroke = None, None

    def _show_numbers(self) -> None:
        self.radius_edit.unit = self._bench.scene.length_unit
        self.radius_edit.set_value(self.radius)
        self.strength_edit.set_value(self.strength)

    def _set_radius(self, radius: float) -> None:
        if 1e-5 < radius < 100.0:
            self.radius = radius
        else:
            self._bench.say("The radius of the brush should be between 0.01 mm and 100 m.")
        self._show_numbers()

    def _set_strength(self, strength: float) -> None:
        if 0.0 < strength <= 1.0:
            self.strength = strength
        else:
            self._bench.say("The strength of the brush should be between 0 and 100 %.")
        self._show_numbers()

    def _wheel(self, turned: int, keys: Qt.KeyboardModifier) -> None:
        if keys & Qt.KeyboardModifier.AltModifier:
            self._set_radius(float(f"{self.radius * 1.15 ** (turned / NOTCH):.3g}"))
        else:
            self._set_strength(float(f"{min(max(self.strength + 0.05 * turned / NOTCH, 0.01), 1.0):.3g}"))
        if self._view.ring is not None:
            self._view.ring = Ring(self._view.ring.middle, self._view.ring.normal, self.radius)
        self._view.update()

    def _hover(self, at: QPointF) -> None:
        self._show_ring(self._view.spot(at))

    def _show_ring(self, spot: Spot | None) -> None:
        points = self.skin_now()
        self._view.ring = None
        if spot is not None and points is not None:
            a, b, c = points[spot.corners]
            normal = np.cross(b - a, c - a)
            normal /= max(float(np.linalg.norm(normal)), 1e-300)
            self._view.ring = Ring(spot.weights @ np.array([a, b, c]), normal, self.radius)
        self._view.update()

    def _begin(self, at: QPointF, keys: Qt.KeyboardModifier) -> None:
        piece, spot = self._bench.chosen, self._view.spot(at)
        a_map = piece.map_of(self._bench.map_path or "") if piece is not None else None
        if piece is None or spot is None or self._bench.map_path is None:
            return
        does: Does = "takes" if keys & Qt.KeyboardModifier.ControlModifier else \
            "smooths" if keys & Qt.KeyboardModifier.ShiftModifier else "adds"
        side = None if self.through.isChecked() else self._from_side(piece)
        self._stroke = Stroke(beads=(self.place_of(piece, spot),), radius=self.radius, strength=self.strength,
                              does=does, from_side=side, mirrored=self.mirrored.isChecked())
        self._bench.document.begin_gesture(hasty=True)
        self._before = a_map or Map(of=self._bench.map_path, low=0.0, high=self._even(piece))
        self._keep()
        self._show_ring(spot)

    def _go_on(self, at: QPointF) -> None:
        piece, spot = self._bench.chosen, self._view.spot(at)
        self._show_ring(spot)
        if piece is None or spot is None or self._stroke is None:
            return
        bead, last = self.place_of(piece, spot), self._stroke.beads[-1]
        if np.linalg.norm((np.array(bead) - last) * piece.place.size) > BEAD_STEP * self.radius:
            self._stroke = self._stroke.model_copy(update={"beads": (*self._stroke.beads, bead)[:5000]})
            self._keep()

    def _end(self, at: QPointF) -> None:
        if self._stroke is not None:
            self._stroke = None
            self._bench.document.end_gesture()

    def _keep(self) -> None:
        """Put the stroke that is under way on the map as it was before."""
        layers, piece = self._before.layers, self._bench.chosen
        if not layers or not isinstance(layers[-1].rule, StrokesRule):
            layers = (*layers, Layer(rule=StrokesRule()))
        rule = layers[-1].rule
        if piece is None or not isinstance(rule, StrokesRule) or self._stroke is None:
            return
        painted = rule.model_copy(update={"strokes": (*rule.strokes, self._stroke)})
        layers = (*layers[:-1], layers[-1].model_copy(update={"rule": painted}))
        a_map = self._before.model_copy(update={"layers": layers})
        others = tuple(m for m in piece.maps if m.of != a_map.of)
        self._bench.set_value("paint", "maps", (*others, a_map), piece.id)

    def _even(self, piece: Piece) -> float:
        """What the value is now, for the map's end where it says 1."""
        value: object = piece
        for name in (self._bench.map_path or "").split("."):
            value = getattr(value, name)
        return float(value)                                 # type: ignore[arg-type]

    def _from_side(self, piece: Piece) -> tuple[float, float, float]:
        """Where the eye is, in the frame of the shape."""
        x, y, z = (float(c) for c in piece.place.rotation().T @ self._view.camera.axes[2])
        return x, y, z
