"""What maps, the brush, goals and cages cost: ``python benchmarks/maps.py``.  Prints Markdown, as the others do."""

import os
import tempfile
import time
from collections.abc import Callable

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["OPENBLAS_NUM_THREADS"] = "1"            # as the application has it, or threads that wait take a core

import numpy as np
from PySide6.QtCore import QPoint, QSettings, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from rubberquince.app import make_app
from rubberquince.bake.assemble import assemble
from rubberquince.document.document import Document
from rubberquince.document.maps import FacingRule, HeightRule, Layer, LineRule, Map, NoiseRule, Stroke, StrokesRule
from rubberquince.document.scene import Curve, ImportedShape, Piece, Place, RunSettings, Scene, SheetShape
from rubberquince.document.values import GoalValues, HoldValues, NetValues, SolidValues
from rubberquince.document.weights import weights_of
from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.stepper import Stepper
from rubberquince.ui.pictures import wait
from rubberquince.ui.window import MainWindow

TURNS = 12
PATIENCE = 600.0            # s


def ball(around: int, rings: int, **more: object) -> tuple[Piece, PolyMesh]:
    mesh = primitives.sphere(around, rings)
    curve = Curve(id="c", name="c", beads=((0.0, 0.5, 0.0), (0.5, 0.0, 0.0), (0.0, 0.0, 0.5)))
    shape = ImportedShape(name="ball", mesh=mesh.key)
    return Piece.model_validate({"id": "ball", "name": "Ball", "shape": shape, "curves": (curve,),
                                 "place": Place(position=(0.0, 0.2, 0.0), size=(0.2, 0.2, 0.2)), **more}), mesh


def stroke(seed: int) -> Stroke:
    """A stroke of forty beads that wanders over the top of the ball."""
    way = np.random.default_rng(seed).normal(size=(40, 3)).cumsum(axis=0) * 0.03 + (0.0, 0.5, 0.0)
    way /= 2.0 * np.linalg.norm(way, axis=1, keepdims=True)
    beads = tuple((float(x), float(y), float(z)) for x, y, z in way)
    return Stroke(beads=beads, radius=0.02, from_side=(0.0, 1.0, 0.0))


def of_sliders() -> dict[str, float]:
    """Median seconds in which a map of five layers on 100,000 points follows a slider of each of them."""
    piece, mesh = ball(500, 251)
    scene, strokes = Scene(pieces=(piece,)), tuple(stroke(k) for k in range(20))
    changes: list[Callable[[int], Layer]] = [
        lambda k: Layer(rule=HeightRule(full=0.5 + 0.01 * k)),
        lambda k: Layer(rule=LineRule(curve="c", reach=0.03 + 0.001 * k)),
        lambda k: Layer(rule=NoiseRule(size=0.02 + 0.001 * k)),
        lambda k: Layer(rule=FacingRule(angle=60.0 + k), blur=0.005),
        lambda k: Layer(rule=StrokesRule(strokes=(*strokes, stroke(99).model_copy(
            update={"beads": stroke(99).beads[: k + 1]}))))]
    names = ("a height", "a line", "noise", "facing, blurred", "a stroke")
    usual, out = [change(0) for change in changes], {}
    for at, name in enumerate(names):
        times = []
        for k in range(TURNS):
            layers = (*usual[:at], changes[at](k), *usual[at + 1:])
            began = time.perf_counter()
            weights_of(Map(of="goal.strength", layers=layers), piece, scene, {mesh.key: mesh})
            times.append(time.perf_counter() - began)
        out[name] = float(np.median(times[2:]))
    return out


def of_brush(app: QApplication, window: MainWindow) -> float:
    """Beads a second of a stroke over 100,000 points, each drawn."""
    piece, mesh = ball(500, 251, goal=GoalValues(to="its own shape"))
    window.files._show(Document(Scene(pieces=(piece,)), {mesh.key: mesh}), None)
    window.bench.choose("ball")
    window.bench.show_map("goal.strength")
    window.view_zone.frame_chosen()
    window.view_zone.take_up("paint", True)
    view = window.view_zone.view
    wait(app, 2.0)
    middle = QPoint(view.width() // 2, view.height() // 2)
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=middle)
    times = []
    for k in range(4 * TURNS):
        began = time.perf_counter()
        QTest.mouseMove(view, middle + QPoint(round(80 * np.cos(0.4 * k)), round(80 * np.sin(0.4 * k))))
        view.repaint()
        times.append(time.perf_counter() - began)
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=middle)
    assert len(window.bench.chosen.maps[0].layers[0].rule.strokes[0].beads) > TURNS
    window.view_zone.take_up("paint", False)
    window.bench.show_map(None)
    return 1.0 / float(np.median(times[TURNS:]))        # by then the picture is as coarse as it has to be


def of_carried(app: QApplication, window: MainWindow) -> float:
    """Pictures a second of 500,000 points that a cage carries, from frames that are there."""
    piece, mesh = ball(1000, 501, role="cage", solid=SolidValues(cells=6))
    scene = Scene(pieces=(piece,), run=RunSettings(last=12, quality="draft"))
    window.files._show(Document(scene, {mesh.key: mesh}), None)
    window.player.bake()
    wait(app, PATIENCE, lambda: not window.runner.computing)
    times = []
    for frame in range(2, 12):
        began = time.perf_counter()
        window.player.go(frame)
        window.view_zone.view.repaint()
        times.append(time.perf_counter() - began)
    return 1.0 / float(np.median(times[2:]))


def of_goals() -> float:
    """A frame of a net with a goal over one without."""
    def frame(goal: GoalValues) -> float:
        piece = Piece(id="net", name="Net", role="net", shape=SheetShape(across=60, along=60), goal=goal,
                      net=NetValues(), hold=HoldValues(what="outline"),
                      place=Place(position=(0.0, 0.5, 0.0), size=(0.4, 0.01, 0.4)))
        scene = Scene(pieces=(piece,), run=RunSettings(quality="draft"))
        stepper, times = Stepper(assemble(scene, {}, lambda: False).spec), []
        for _ in range(TURNS):
            began = time.perf_counter()
            stepper.frame()
            times.append(time.perf_counter() - began)
        return float(np.median(times[2:]))
    return frame(GoalValues(to="its own shape", strength=0.05)) / frame(GoalValues())


def main() -> None:
    print("| what | measured | bar |\n|---|---|---|")
    for name, seconds in of_sliders().items():
        print(f"| five layers on 100,000 points, a slider of {name} | {1000 * seconds:.0f} ms | 50 ms |")
    print(f"| a frame with goals over one without | {of_goals():.2f} | 1.05 |")
    with tempfile.TemporaryDirectory() as folder:
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, folder)
        app, window = make_app([]), MainWindow()
        window.resize(1280, 800)
        window.show()
        print(f"| a stroke on 100,000 points | {of_brush(app, window):.0f} a second | 30 |")
        window.bench.document.mark_saved()
        print(f"| 500,000 points in a cage, from kept frames | {of_carried(app, window):.0f} a second | 12 |")
        window.bench.document.mark_saved()
        window.close()


if __name__ == "__main__":
    main()
