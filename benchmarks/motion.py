"""What forces, keys and rigid bodies cost: ``python benchmarks/motion.py``.  Prints Markdown for docs/performance.md.

What forces cost is the time of their own evaluation in a frame: a scene with them goes another way than one
without, and a ratio of the two says nothing.
"""

import os
import time
from collections.abc import Callable

os.environ["OPENBLAS_NUM_THREADS"] = "1"            # as the application has it, or threads that wait take a core

import numpy as np

from rubberquince.shapes import primitives
from rubberquince.solver.islands import IslandStepper
from rubberquince.solver.specs import (
    QUALITIES,
    ColliderSpec,
    ForceSpec,
    LedSpec,
    PelletSpec,
    RigidMaterial,
    RigidSpec,
    RunSpec,
    ShellMaterial,
    ShellSpec,
    Touch,
)
from rubberquince.solver.stepper import Stepper

CLOTH = ShellMaterial(stretch=1500.0, squeeze=0.3, bend=5e-6, density=0.06, wobble_halves=0.3)
TOUCH = Touch(1e-3, 0.5)
FRAMES = 10


def cloth(*kinds: str) -> Stepper:
    """20,000 points that fall free of all else, with forces."""
    mesh = primitives.sheet(140, 140)
    body = ShellSpec(mesh.points, mesh.triangles, np.eye(3), np.array([0.0, 5.0, 0.0]), CLOTH, TOUCH)
    all_of_it = np.ones(1, bool)
    forces = [ForceSpec(kind, all_of_it, np.zeros(3), np.array([1.0, 0.0, 0.0]), 1e-3, size=0.3) for kind in kinds]
    return Stepper(RunSpec([body], [], ground=None, forces=forces, quality=QUALITIES["draft"]))


def of_forces(stepper: Stepper) -> float:
    """Seconds that the forces of a frame take."""
    forces, state = stepper._forces, stepper.state
    times = []
    for _ in range(FRAMES):
        began = time.perf_counter()
        forces.begin_frame(state.x, stepper.contacts.all_skins(state.x))
        for k in range(stepper.substeps):
            forces.at(state.x, state.v, 0.005 * k, 0.005)
        times.append(time.perf_counter() - began)
    return float(np.median(times))


def boxes(count: int) -> list[RigidSpec]:
    mesh, size = primitives.block((2, 2, 2)), np.array([0.06, 0.05, 0.06])
    return [RigidSpec(mesh.points * size, mesh.triangles, np.eye(3),
                      np.array([0.08 * (k % 3 - 1), 0.1 + 0.07 * (k // 3), 0.05 * (k % 2)]), RigidMaterial(600.0),
                      TOUCH)
            for k in range(count)]


def poured() -> Stepper:
    return Stepper(RunSpec(boxes(30), [], quality=QUALITIES["draft"]))


def pellets() -> IslandStepper:
    """A thousand pellets that have been poured into a box."""
    across = np.stack(np.meshgrid(*[np.arange(10.0)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    mesh, radius = primitives.block((6, 3, 6)), np.full(1000, 0.008)
    box = ColliderSpec(mesh.points * (0.24, 0.6, 0.24) + np.array([0.0, 0.3, 0.0]), mesh.triangles, TOUCH)
    spec = PelletSpec((across - 4.5) * 0.0165 + np.array([0.0, 0.12, 0.0]), radius, RigidMaterial(900.0), TOUCH,
                      np.zeros(1000), np.zeros(3))
    return IslandStepper(RunSpec([spec], [box], ground=None, quality=QUALITIES["draft"]))


def of_pellets() -> tuple[float, float]:
    """Median seconds of a frame of a thousand pellets at rest, awake and asleep."""
    stepper, times = pellets(), []
    for k in range(200):
        began = time.perf_counter()
        stepper.frame(k / stepper.fps)
        times.append(time.perf_counter() - began)
        if np.isinf(stepper.state.idle).all():
            break
    began = time.perf_counter()
    stepper.frame()
    return float(np.median(times[-12:-1])), time.perf_counter() - began


def terrain(led: bool) -> Stepper:
    """Three boxes on a ground of 200,000 triangles, which stands still or sways."""
    mesh = primitives.sheet(316, 316)
    points = mesh.points + np.array([0.0, 0.05, 0.0])
    corners = np.concatenate([np.zeros((1, 3)), np.eye(3)])
    if led:
        ground = LedSpec(points, mesh.triangles, TOUCH, lambda t: corners + np.array([0.01 * np.sin(5.0 * t), 0, 0]))
        return Stepper(RunSpec([*boxes(3), ground], [], ground=None, quality=QUALITIES["draft"]))
    still = ColliderSpec(points, mesh.triangles, TOUCH)
    return Stepper(RunSpec(boxes(3), [still], ground=None, quality=QUALITIES["draft"]))


def median(make: Callable[[], Stepper]) -> float:
    stepper, times = make(), []
    for k in range(FRAMES):
        began = time.perf_counter()
        stepper.frame(k / stepper.fps)
        times.append(time.perf_counter() - began)
    return float(np.median(times[2:]))


def main() -> None:
    print("| what | ratio | ms a frame |\n|---|---|---|")
    for kind in ("wind", "turbulence", "vortex", "puller"):
        print(f"| {kind} on 20,000 points | | {1000 * of_forces(cloth(kind)):.0f} |")
    print(f"| 30 rigid boxes poured, draft | | {1000 * median(poured):.0f} |")
    awake, asleep = of_pellets()
    print(f"| 1,000 pellets at rest, draft; asleep | | {1000 * awake:.0f}; {1000 * asleep:.0f} |")
    still, led = median(lambda: terrain(False)), median(lambda: terrain(True))
    print(f"| ground of 200,000 triangles that sways, over one that stands | {led / still:.2f} | "
          f"{1000 * (led - still):.0f} more |")


if __name__ == "__main__":
    main()
