"""What shells cost: ``python benchmarks/shells.py [--assert]``.

Counts are asserted, as they are the same on every machine; times are reported.  Prints Markdown for
docs/performance.md.
"""

import os
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

os.environ["OPENBLAS_NUM_THREADS"] = "1"            # as the application has it, or threads that wait take a core

import numpy as np

from rubberquince.shapes import primitives
from rubberquince.shapes.polymesh import PolyMesh
from rubberquince.solver.specs import (
    QUALITIES,
    ColliderSpec,
    Inflation,
    RunSpec,
    ShellMaterial,
    ShellSpec,
    Touch,
)
from rubberquince.solver.stepper import Stepper

CANVAS = ShellMaterial(stretch=2000.0, squeeze=0.3, bend=2e-5, density=0.25, wobble_halves=0.35)
FILM = ShellMaterial(stretch=2000.0, squeeze=0.02, bend=2e-6, density=0.03, wobble_halves=0.25)
MOST_ITERATIONS = 16        # of the linear solver, in a Newton step


@dataclass(frozen=True)
class Case:
    """A scene, and how many frames of it pass first and are then timed."""

    name: str
    make: Callable[[], Stepper]
    settle: int
    frames: int


def shell(mesh: PolyMesh, size: tuple[float, float, float], height: float, material: ShellMaterial,
          inflation: Inflation, grows: float) -> ShellSpec:
    return ShellSpec(mesh.points * np.array(size), mesh.triangles, np.eye(3), np.array([0.0, height, 0.0]), material,
                     Touch(1e-3, 0.5), inflation=inflation, grows=(grows, grows))


def cushion() -> Stepper:
    """A blank of 3,000 triangles, blown up, on the ground."""
    blank = shell(primitives.cushion(27, 0.0), (0.4, 0.01, 0.4), 0.02, CANVAS, Inflation(400.0, 1.0), 1.05)
    return Stepper(RunSpec([blank], [], quality=QUALITIES["good"]))


def film() -> Stepper:
    """A film of 60 x 60 sucked onto a ball."""
    ball = primitives.sphere(40, 20)
    thing = ColliderSpec(0.2 * ball.points + np.array([0.0, 0.1, 0.0]), ball.triangles, Touch(1e-3, 0.3))
    sheet = shell(primitives.sheet(60, 60), (0.5, 1.0, 0.5), 0.21, FILM, Inflation(-100.0, 1.0), 1.0)
    return Stepper(RunSpec([sheet], [thing], quality=QUALITIES["good"]))


CASES = [Case("cushion", cushion, 24, 24), Case("film over a ball", film, 12, 12)]


def main() -> None:
    missed = []
    for case in CASES:
        stepper, times, steps = case.make(), [], []
        for frame in range(case.settle + case.frames):
            began = time.perf_counter()
            effort = stepper.frame(frame / stepper.fps)
            if frame >= case.settle:
                times.append(time.perf_counter() - began)
                steps.append((effort.newton, effort.linear))
        newton, linear = np.sum(steps, axis=0)
        held = linear <= MOST_ITERATIONS * newton
        missed += [] if held else [case.name]
        print(f"| {case.name}, {len(stepper.world.membrane.tri)} triangles, frame at good, median / worst "
              f"| {1e3 * np.median(times):.0f} / {1e3 * max(times):.0f} ms | reported |")
        print(f"| its iterations a Newton step; Newton steps a frame | {linear / newton:.1f}; "
              f"{newton / case.frames:.0f} | ≤ {MOST_ITERATIONS}{'' if held else ': **missed**'} |", flush=True)
    if "--assert" in sys.argv and missed:
        sys.exit("Missed: " + ", ".join(missed))


if __name__ == "__main__":
    main()
