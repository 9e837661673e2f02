"""The tool that pulls at a body while it plays."""

import time

import numpy as np
from PySide6.QtCore import QPointF, Qt, Signal
from PySide6.QtWidgets import QPushButton, QWidget

from rubberquince.document.bodies import Meshes, local_points, piece_triangles
from rubberquince.document.scene import Piece, Place, SphereShape
from rubberquince.document.tracks import Key, Track
from rubberquince.document.values import ForceValues, Look, NetValues, ShellValues
from rubberquince.shapes.polymesh import surface_area
from rubberquince.solver.carriers.rigid import equal_masses
from rubberquince.ui.bench import Bench
from rubberquince.ui.parts import framed, label, row
from rubberquince.ui.tools.tool import Tool
from rubberquince.units import show
from rubberquince.view.stage import Pull
from rubberquince.view.widget import View

EVERY = 0.03                # s, between two words to the solver
SIGN = 0.03                 # m, of the puller that a tug becomes


class Tug(Tool):
    """``asked(piece, place, target)``: pull at ``place`` (3,), m, of a piece towards ``target``, or no longer (None).

    ``kept`` are (frame, target, force) of the last tug, of which *Keep this tug* makes a puller.
    """

    name = "tug"
    tip = "Pull at the chosen piece with the mouse, while it plays"
    hint = "Press on {} and drag: it is pulled along while it plays. What you pulled at is marked as out of date."
    asked = Signal(str, object, object)

    def __init__(self, bench: Bench, view: View, parent: QWidget) -> None:
        super().__init__(bench, view, parent)
        self.kept: list[tuple[int, np.ndarray, float]] = []
        self._piece = self._last_piece = ""
        self._place, self._at, self._told_at = np.zeros(3), np.zeros(3), 0.0
        self._corners, self._weights = np.zeros(3, int), np.zeros(3)
        self.force = 0.0                    # N, as the solver says
        self.keep = QPushButton("Keep this tug")
        self.keep.setToolTip("Make a puller of it that does the same from now on")
        self.keep.clicked.connect(lambda _: self.keep_it())
        self.keep.setEnabled(False)
        self.panel = framed(row(label("the last one:"), self.keep, margins=(10, 4, 10, 4), gap=6), "bar")
        self.hear(view.sweep_began, self._begin)
        self.hear(view.swept, self._go_on)
        self.hear(view.sweep_ended, self._end)
        self.hear(view.keyed, lambda key: self.turn(False) if key == Qt.Key.Key_Escape else None)

    def grabs(self, at: QPointF) -> bool:
        piece = self._bench.chosen
        return piece is not None and piece.moves and self._view.spot(at) is not None

    def put_away(self) -> None:
        self._end()

    def on_frame(self, frame: int, force: float) -> None:
        """A frame came while it pulls, with what it pulled, N: the line in the view goes on."""
        if self._piece:
            self.force = force
            self.kept.append((frame, self._at.copy(), force))
            self._say_it()                  # where the pointer has come to rest, too
            self._draw()

    def keep_it(self) -> None:
        """Make a keyed puller of the last tug."""
        piece = next((p for p in self._bench.scene.pieces if p.id == self._last_piece), None)
        if piece is None or len(self.kept) < 2:
            self._bench.say("Tug at a piece first.")
            return
        document, first, last = self._bench.document, self.kept[0][0], self.kept[-1][0]
        mass = _mass(piece, document.meshes)
        courses = {f"place.position.{k}": [(frame, at[k]) for frame, at, _ in self.kept] for k in range(3)}
        courses["force.pull"] = [(frame, force / mass) for frame, _, force in self.kept]
        tracks = tuple(Track(of=path, keys=tuple(
            Key(frame=frame, value=float(f"{value:.5g}"), way="even") for frame, value in sorted(dict(course).items())))
            for path, course in courses.items())
        x, y, z = (float(c) for c in self.kept[0][1])
        puller = Piece(
            id=document.new_id(), name=document.new_name(f"Tug at {piece.name}"[:56]), role="force",
            shape=SphereShape(around=20, rings=10), place=Place(position=(x, y, z), size=(SIGN, SIGN, SIGN)),
            force=ForceValues(kind="puller", first=first, last=last, acts_on=(piece.id,)),
            look=Look(colour="#8A5B7C"), tracks=tracks)
        document.add_piece(puller)
        self._bench.choose(puller.id)
        self._bench.say(f"{puller.name} pulls in frames {first} – {last}.", False)

    def _begin(self, at: QPointF, keys: Qt.KeyboardModifier) -> None:
        spot, points = self._view.spot(at), self.skin_now()
        if spot is None or points is None:
            return
        self._piece = self._last_piece = spot.piece
        self._corners, self._weights, self.kept, self.force = spot.corners, spot.weights, [], 0.0
        self._place = spot.weights @ points[spot.corners]
        self._at = self._place.copy()
        self._say_it()

    def _go_on(self, at: QPointF) -> None:
        if self._piece:
            eye, along = self._view.camera.ray(at.x(), at.y(), self._view.width(), self._view.height())
            ahead = -self._view.camera.axes[2]
            self._at = eye + along * ((self._place - eye) @ ahead / max(float(along @ ahead), 1e-6))
            if time.monotonic() - self._told_at > EVERY:
                self._say_it()
            self._draw()

    def _end(self, at: QPointF | None = None) -> None:
        if self._piece:
            piece, self._piece = self._piece, ""
            self.asked.emit(piece, self._place, None)
            self.keep.setEnabled(len(self.kept) > 1)
        self._view.pull = None
        self._view.update()

    def _say_it(self) -> None:
        self._told_at = time.monotonic()
        self.asked.emit(self._piece, self._place, self._at)

    def _draw(self) -> None:
        points = self.skin_now()
        if points is not None and self._piece:
            grabbed = self._weights @ points[self._corners]
            self._view.pull = Pull(grabbed, self._at, show(self.force, "N") if self.force else "")
            self._view.update()


def _mass(piece: Piece, meshes: Meshes) -> float:
    """About what a piece weighs, kg."""
    values, points, triangles = piece.made_of, local_points(piece, meshes), piece_triangles(piece, meshes)
    if isinstance(values, ShellValues | NetValues):
        return max(values.mass * surface_area(points, triangles), 1e-9)
    return max(values.density * equal_masses(points, triangles)[1], 1e-9)
