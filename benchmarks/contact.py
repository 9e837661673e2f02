"""What contact costs, in domes: ``python benchmarks/contact.py [--assert]``.

A scene's frame is divided by the median frame of a falling and wobbling dome of as many cells, in the same run, so that
the pace of the machine cancels.  Prints Markdown for docs/performance.md.  With ``--assert`` it fails when a ratio is
past its bar.
"""

import os
import sys
from collections.abc import Callable
from dataclasses import dataclass, replace

os.environ["OPENBLAS_NUM_THREADS"] = "1"            # as the application has it, or threads that wait take a core

import numpy as np
from speed import JELLY, dome, frame_times

from rubberquince.shapes import primitives
from rubberquince.shapes.lattice import build_lattice
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import QUALITIES, ColliderSpec, RunSpec, SolidSpec, Touch
from rubberquince.solver.state import ASLEEP
from rubberquince.solver.stepper import Stepper

TOUCH = Touch(1e-3, 0.5)
DRAFT = QUALITIES["draft"]


@dataclass(frozen=True)
class Case:
    """A scene, how many frames of it pass first and are then timed, and its bars in domes: median and worst."""

    name: str
    make: Callable[[], Stepper]
    settle: int
    frames: int
    median: float
    worst: float


def solid(mesh: PolyMesh, size: tuple[float, float, float], cells: int, at: tuple[float, float, float],
          turn: float = 0.0) -> SolidSpec:
    lattice = build_lattice(mesh.points * np.array(size), mesh.triangles, min(size) / cells)
    c, s = np.cos(turn), np.sin(turn)
    rotation = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    return SolidSpec(mesh.triangles, lattice, rotation, np.array(at), JELLY, TOUCH)


def heap() -> Stepper:
    """Sixteen figures of three kinds that fall on one another."""
    shapes = [(primitives.sphere(24, 12), (0.06, 0.06, 0.06)), (primitives.block((5, 4, 5)), (0.07, 0.05, 0.06)),
              (primitives.torus(28, 10, 0.6), (0.1, 0.035, 0.1))]
    solids = [solid(*shapes[k % 3], 4, (0.03 * np.cos(2.4 * k), 0.06 + 0.055 * k, 0.03 * np.sin(2.4 * k)), 0.7 * k)
              for k in range(16)]
    return Stepper(RunSpec(solids, [], quality=DRAFT))


def bowl() -> Stepper:
    """Twenty bodies that fall into a bowl."""
    around, rings = 48, 12
    angle = 2 * np.pi * np.arange(around) / around
    points = [(0.0, 0.01, 0.0)]
    for ring in range(1, rings + 1):
        low = 0.5 * np.pi * ring / rings
        points += [(0.22 * np.sin(low) * np.cos(a), 0.01 + 0.22 * (1 - np.cos(low)), 0.22 * np.sin(low) * np.sin(a))
                   for a in angle]
    triangles = [(0, 1 + (k + 1) % around, 1 + k) for k in range(around)]
    for ring in range(rings - 1):
        for k in range(around):
            a, b = 1 + ring * around + k, 1 + ring * around + (k + 1) % around
            triangles += [(a, b, a + around), (b, b + around, a + around)]
    balls = [solid(primitives.sphere(24, 12), (0.08, 0.08, 0.08), 6,
                   (0.07 * np.cos(2.4 * k), 0.2 + 0.045 * k, 0.07 * np.sin(2.4 * k))) for k in range(20)]
    inside = ColliderSpec(np.array(points), np.array(triangles, np.int32), TOUCH)
    return Stepper(RunSpec(balls, [inside], quality=DRAFT))


def resting() -> Stepper:
    """Sixty-four balls side by side on the ground."""
    balls = [solid(primitives.sphere(16, 8), (0.06, 0.06, 0.06), 5, (0.07 * (k % 8), 0.0308, 0.07 * (k // 8)))
             for k in range(64)]
    return Stepper(RunSpec(balls, [], quality=DRAFT))


def asleep() -> Stepper:
    """The same, asleep."""
    stepper = IslandStepper(resting().world.spec)
    frame_times(stepper, 12)
    stepper.restore(replace(stepper.state, idle=np.full(stepper.world.bodies, ASLEEP)))
    return stepper


def on_terrain(divisions: int) -> Stepper:
    """A dome of some thousand cells that falls on uneven ground of 2 · divisions² triangles."""
    side = np.linspace(-0.5, 0.5, divisions + 1)
    x, z = np.meshgrid(side, side, indexing="ij")
    points = np.stack([x, 0.01 * np.sin(20 * x) * np.cos(17 * z) - 0.02, z], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(divisions), np.arange(divisions), indexing="ij")
    a = (i * (divisions + 1) + j).reshape(-1)
    triangles = np.concatenate([np.column_stack([a, a + 1, a + divisions + 1]),
                                np.column_stack([a + 1, a + divisions + 2, a + divisions + 1])])
    ball = solid(primitives.sphere(40, 20), (0.12, 0.12, 0.12), 10, (0.0, 0.1, 0.0))
    terrain = ColliderSpec(points, triangles.astype(np.int32), TOUCH)
    return Stepper(RunSpec([ball], [terrain], ground=None, quality=DRAFT))


CASES = [Case("heap of sixteen figures", heap, 2, 48, 4.0, 12.0), Case("bowl of twenty bodies", bowl, 4, 30, 4.0, 10.0),
         Case("64 balls at rest", resting, 24, 10, 1.2, 2.0), Case("64 balls asleep", asleep, 0, 10, 0.2, 0.4)]


def domes_of(stepper: Stepper) -> float:
    """Median seconds of a frame of a dome of as many cells, all of them, while it wobbles."""
    whole = dome(8 * stepper.world.octahedra.cells, "draft", 0.02)        # at draft a dome has an eighth of its cells
    return float(np.median(frame_times(whole, 16)))


def main() -> None:
    rows, missed = [], []
    for case in CASES:
        stepper = case.make()
        unit = domes_of(stepper)
        times = frame_times(stepper, case.settle + case.frames)[case.settle:] / unit
        median, worst = float(np.median(times)), float(times.max())
        held = median <= case.median and worst <= case.worst
        missed += [] if held else [case.name]
        rows.append(f"| {case.name}, {stepper.world.octahedra.cells} cells | {median:.1f} / {worst:.1f} "
                    f"| {case.median:g} / {case.worst:g}{'' if held else ': **missed**'} |")
        print(rows[-1], f"<!-- a dome takes {1e3 * unit:.0f} ms -->", flush=True)
    fine, coarse = (float(np.median(frame_times(on_terrain(n), 24))) for n in (316, 32))
    held = fine <= 2.0 * coarse
    missed += [] if held else ["ground of 200,000 triangles"]
    bar = f"2{'' if held else ': **missed**'}"
    print(f"| ground of 200,000 triangles over one of 2,000 | {fine / coarse:.1f} | {bar} |")
    if "--assert" in sys.argv and missed:
        sys.exit("Missed: " + ", ".join(missed))


if __name__ == "__main__":
    main()
