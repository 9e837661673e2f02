"""The tool that draws curves on the chosen piece: clicks lay beads on its skin, a double click takes a row of edges."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QWidget
from scipy.spatial import cKDTree

from rubberquince.bake.holding import grain_of
from rubberquince.document.bodies import Meshes, unit_mesh
from rubberquince.document.lines import line_of
from rubberquince.document.scene import Curve, Piece
from rubberquince.errors import QuinceError
from rubberquince.shapes.paths import row_of, side_near
from rubberquince.ui.bench import Bench
from rubberquince.ui.tools.tool import Tool
from rubberquince.view.stage import Line
from rubberquince.view.widget import View

ARROW, HEAD = 0.3, 0.2      # length of the arrow that shows the grain, of the piece; of its head, of that
GRASP = 8.0                 # px around a bead, to take it
MOST_BEADS = 60             # of a line whose beads are shown


class LineTool(Tool):
    """Lays the beads of a curve.  The one that is being drawn is the last one begun."""

    name = "draw lines"
    tip = "Draw lines on the chosen piece, to hold it there or to sew along"
    hint = ("Click to lay beads on {}, double-click an edge to take its row, Enter closes the line, Backspace takes a "
            "bead.")

    def __init__(self, bench: Bench, view: View, parent: QWidget) -> None:
        super().__init__(bench, view, parent)
        self._drawing: str | None = None
        self._held: tuple[str, int] | None = None       # a curve and the number of its bead that is dragged
        self.hear(view.sweep_began, self._take_bead)
        self.hear(view.swept, self._drag_bead)
        self.hear(view.sweep_ended, self._let_go)
        self.hear(view.aimed, self._lay)
        self.hear(view.aimed_twice, self._take_row)
        self.hear(view.keyed, self._on_key)
        bench.chose.connect(lambda _: self.put_away())

    def grabs(self, at: QPointF) -> bool:
        """A bead that lies under the pointer."""
        self._held = None
        piece, points = self._bench.chosen, self.skin_now()
        if piece is None or points is None or len(points) != len(self.mesh(piece).points):
            return False
        nearest = cKDTree(self.mesh(piece).points)
        for curve in piece.curves:
            if len(curve.beads) > MOST_BEADS:
                continue
            places = points[nearest.query(np.array(curve.beads))[1]]
            x, y, _ = self._view.camera.project(places, self._view.width(), self._view.height()).T
            far = np.hypot(x - at.x(), y - at.y())
            if far.min() < GRASP:
                self._held = curve.id, int(far.argmin())
                return True
        return False

    def _take_bead(self, at: QPointF, keys: Qt.KeyboardModifier) -> None:
        self._bench.document.begin_gesture()

    def _drag_bead(self, at: QPointF) -> None:
        piece, spot = self._bench.chosen, self._view.spot(at)
        curve = piece.curve(self._held[0]) if piece is not None and self._held else None
        if piece is None or spot is None or curve is None or self._held is None:
            return
        k = self._held[1]
        beads = (*curve.beads[:k], self.place_of(piece, spot), *curve.beads[k + 1:])
        put(self._bench, "move a bead", piece, curve.model_copy(update={"beads": beads}))

    def _let_go(self, at: QPointF) -> None:
        self._held = None
        self._bench.document.end_gesture()

    def put_away(self) -> None:
        self._drawing = None

    def close(self) -> None:
        """Lead the line back to its first bead, and be ready for the next one."""
        piece, curve = self._current()
        if piece is not None and curve is not None and len(curve.beads) > 2:
            self._keep("close the line", piece, curve.model_copy(update={"closed": True}))
        self._drawing = None

    def take_bead(self) -> None:
        """Take the last bead away; the line goes with its last one."""
        piece, curve = self._current()
        if piece is None or curve is None:
            return
        if len(curve.beads) > 1:
            self._keep("take a bead", piece, curve.model_copy(update={"beads": curve.beads[:-1]}))
        else:
            self._drawing = None
            without(self._bench, piece, curve.id)

    def _on_key(self, key: int) -> None:
        if key == Qt.Key.Key_Escape:
            self.turn(False)
        elif key == Qt.Key.Key_Backspace:
            self.take_bead()
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.close()

    def _current(self) -> tuple[Piece | None, Curve | None]:
        piece = self._bench.chosen
        return piece, piece.curve(self._drawing or "") if piece is not None else None

    def _lay(self, at: QPointF) -> None:
        spot, (piece, curve) = self._view.spot(at), self._current()
        if spot is None or piece is None:
            self._bench.say("That is not on the chosen piece.")
            return
        bead = self.place_of(piece, spot)
        if curve is None:
            curve = self._fresh(piece, (bead,))
            self._keep("begin a line", piece, curve)
        else:
            self._keep("lay a bead", piece, curve.model_copy(update={"beads": (*curve.beads, bead)}))

    def _take_row(self, at: QPointF) -> None:
        """The row of the edge that is nearest to a pixel, in the place of the bead that its first click has laid."""
        spot, (piece, curve) = self._view.spot(at), self._current()
        if spot is None or piece is None:
            return
        mesh = self.mesh(piece)
        row, closed = row_of(mesh, *side_near(mesh, piece.place.size, spot.corners, spot.weights))
        beads = tuple((float(x), float(y), float(z)) for x, y, z in mesh.points[row])
        curve = curve if curve is not None and len(curve.beads) == 1 else self._fresh(piece, beads)
        self._keep("take a row of edges", piece, curve.model_copy(update={"beads": beads, "closed": closed}))
        self._drawing = None

    def _fresh(self, piece: Piece, beads: tuple[tuple[float, float, float], ...]) -> Curve:
        names = {curve.name for curve in piece.curves}
        name = next(f"line {k}" for k in range(1, len(names) + 2) if f"line {k}" not in names)
        self._drawing = self._bench.document.new_id()
        return Curve(id=self._drawing, name=name, beads=beads)

    def _keep(self, what: str, piece: Piece, curve: Curve) -> None:
        put(self._bench, what, piece, curve)


def put(bench: Bench, what: str, piece: Piece, curve: Curve) -> None:
    """Give the piece a curve, in the place of the one with its id."""
    kept = tuple(curve if c.id == curve.id else c for c in piece.curves)
    if curve.id not in {c.id for c in piece.curves}:
        kept = (*kept, curve)
    bench.set_value(what, "curves", kept, piece.id)


def without(bench: Bench, piece: Piece, curve_id: str) -> None:
    """Take a curve of the piece away."""
    bench.set_value("take a line away", "curves", tuple(c for c in piece.curves if c.id != curve_id), piece.id)


def lines_of(bench: Bench, points: np.ndarray | None) -> list[Line]:
    """The curves of the chosen piece as they lie on its skin at ``points`` (n, 3), m."""
    piece, meshes = bench.chosen, bench.document.meshes
    if piece is None or points is None:
        return []
    lines = _grain_arrow(piece, meshes, points)
    for curve in piece.curves:
        try:
            way = line_of(piece, curve.id, meshes)
        except QuinceError:
            return lines
        if way.max() >= len(points):
            return []
        place = points[np.append(way, way[:1]) if curve.closed else way].astype(float)
        rest = unit_mesh(piece.shape, meshes).points[way]
        shown = np.array(curve.beads if len(curve.beads) <= MOST_BEADS else (), float).reshape(-1, 3)
        lines.append(Line(place, place[cKDTree(rest).query(shown)[1]]))
    return lines


def _grain_arrow(piece: Piece, meshes: Meshes, points: np.ndarray) -> list[Line]:
    """An arrow along the grain of a Shell, on top of it, where it makes a difference; else none."""
    values = piece.shell
    if piece.role != "shell" or (values.along == values.across and values.grain == 0.0):
        return []
    mesh, size = unit_mesh(piece.shape, meshes), np.array(piece.place.size)
    if len(points) != len(mesh.points):
        return []
    middles = (mesh.points * size)[mesh.triangles].mean(axis=1)
    t = int(np.linalg.norm(middles - [0.0, 0.5 * size[1], 0.0], axis=1).argmin())
    rest, now = (mesh.points * size)[mesh.triangles[t]], points[mesh.triangles[t]].astype(float)
    sides = np.stack([rest[1] - rest[0], rest[2] - rest[0]], axis=1)
    share = np.linalg.lstsq(sides, grain_of(piece, meshes)[t], rcond=None)[0]
    way, aside = share @ (now[1:] - now[0]), np.cross(now[1] - now[0], now[2] - now[0])
    length = ARROW * float(size.max())
    way *= length / max(float(np.linalg.norm(way)), 1e-12)
    aside = np.cross(aside, way) / max(float(np.linalg.norm(np.cross(aside, way))), 1e-300) * HEAD * length
    tail, tip = now.mean(axis=0) - 0.5 * way, now.mean(axis=0) + 0.5 * way
    back = tip - HEAD * way
    return [Line(np.array([tail, tip, back + aside, tip, back - aside]), np.zeros((0, 3)))]
