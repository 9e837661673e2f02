"""What the solver is told: plain values in SI units, positions in the world."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from rubberquince.shapes.lattice import Lattice

LEAST_POISSON, MOST_POISSON = 0.25, 0.495
USUAL_GRAVITY = 9.81        # m/s²


DOWN = np.array([0.0, -1.0, 0.0])
Amount = float | np.ndarray         # of each node of a body, where it is an array
Course = Callable[[float], np.ndarray]      # places of nodes (n, 3), m, so many seconds after the start


@dataclass(frozen=True)
class Dents:
    """How a solid keeps dents; see kernels.flow.

    yields : strain from which it gives way; at 0 it flows as a liquid does.  time : s, in which what is beyond that
    fades to a third.  stays : 0 .. 1, what part of that stays in the end.
    """

    yields: float
    time: float
    stays: float = 1.0


@dataclass(frozen=True, eq=False)
class Material:
    """What a solid is made of; ``stiffness``, ``density`` and ``grown`` may differ from node to node, (nodes,).

    stiffness : Young's modulus, Pa.  poisson : 0.25 .. 0.495 (below, the energy has a second rest state).
    density : kg/m³.  wobble_halves : s, in which the standing body's first wobble halves; 0 = no damping.
    grown : what its lengths at rest are of those it was made with; its mass stays.
    dents : None if it always comes back.
    """

    stiffness: Amount
    poisson: float
    density: Amount
    wobble_halves: float
    grown: Amount = 1.0
    dents: Dents | None = None

    @property
    def lame(self) -> tuple[Amount, Amount]:
        """(λ, μ), Pa, of Hooke's law."""
        nu = min(max(self.poisson, LEAST_POISSON), MOST_POISSON)
        return (self.stiffness * nu / ((1 + nu) * (1 - 2 * nu)), self.stiffness / (2 * (1 + nu)))


@dataclass(frozen=True, eq=False)
class ShellMaterial:
    """What a shell is made of; ``stretch``, ``bend``, ``density``, ``along`` and ``across`` may differ from point to
    point, (points,).

    stretch : N/m, Young's modulus times thickness.  squeeze : 0 .. 1, the share of it that resists squeezing: the less,
    the finer it buckles.  bend : N m, bending stiffness.  density : kg/m².  wobble_halves : s, as of a Material.
    brace : N/m, of each brace across its inside, and ``calms`` N s/m, what it resists being drawn out quickly with.
    most : the stretch above which it is hard to stretch further, 1 = none at all.
    along, across : what its lengths at rest are of those it was made with, along its grain and across it; of a net,
    those of its links are ``along``.  It has the mass that it was made with.
    """

    stretch: Amount
    squeeze: float
    bend: Amount
    density: Amount
    wobble_halves: float
    poisson: float = 0.3
    most: float | None = None
    brace: float = 0.0
    calms: float = 0.0
    along: Amount = 1.0
    across: Amount = 1.0


@dataclass(frozen=True, eq=False)
class Inflation:
    """What presses on a skin from inside: ``pressure``, Pa, reached evenly within ``grows``, s.

    backing : Pa, None for a pressure that stays as it is whatever the volume.  Else a closed-in gas at constant
    temperature that at rest has ``pressure`` above what is outside, (pressure + backing) V0 / V - backing.
    spread : of each skin point (points,), what part of that presses on it, None where it is even.
    """

    pressure: float = 0.0
    grows: float = 0.0
    backing: float | None = None
    spread: np.ndarray | None = None

    def now(self, since: float) -> float:
        """Pa, ``since``, s, after the start."""
        return self.pressure * (min(since / self.grows, 1.0) if self.grows > 0.0 else 1.0)


@dataclass(frozen=True, eq=False)
class Goal:
    """Where the nodes of a body are drawn to: ``target`` (nodes, 3), m, each with ``stiffness`` (nodes,), N/m.

    draws : each of the "points" for itself, or only the "middle" of the body to that of the targets, or its middle and
    its turn, "whole"; "level" draws points to the side only, and of all heights the mean.
    calms : 1/s, at which its motion dies besides.
    course : where the targets are in time, None if they stay.
    """

    target: np.ndarray
    stiffness: np.ndarray
    draws: Literal["points", "middle", "whole", "level"] = "points"
    calms: float = 0.0
    course: Course | None = None


@dataclass(frozen=True, eq=False)
class Touch:
    """How a skin touches: gap, m, kept to others, and friction coefficient; both may differ by point, (points,).

    bounce : part 0 .. 1 of the speed at which two bodies meet that they part with where they met, the
    greater of both sides'; None leaves it to what they are made of.
    outside_only : of a collider: it pushes out whatever starts inside it, instead of having two sides.
    """

    gap: Amount
    friction: Amount
    bounce: float | None = None
    outside_only: bool = False


@dataclass(frozen=True, eq=False)
class SolidSpec:
    """A solid: skin points (n, 3) m and triangles (t, 3), its lattice, and the pose its nodes start in.

    rotation (3, 3) and translation (3,) take lattice coordinates to the world.
    ``held`` (nodes,) bool marks nodes that nothing moves: they stay, or go along the ``course`` of all of its nodes.
    ``weight`` is how strongly gravity pulls.
    rest : where its nodes are at rest, in lattice coordinates, None if always where they were made.
    stretching : how many times as hard it is to stretch as to squeeze; below 1, squeezing is harder by as much.
    """

    triangles: np.ndarray
    lattice: Lattice
    rotation: np.ndarray
    translation: np.ndarray
    material: Material
    touch: Touch
    held: np.ndarray | None = None
    weight: float = 1.0
    inflation: Inflation = Inflation()
    goal: Goal | None = None
    course: Course | None = None
    rest: Course | None = None
    stretching: float = 1.0


@dataclass(frozen=True, eq=False)
class Links:
    """Springs between ``pairs`` (k, 2) of a body's points or nodes, of rest ``length`` (k,), m.

    Each is as stiff as its ``weight`` (k,) times the material's stretch, or its brace if they are ``braces``; within
    the cells of a solid, times its stiffness.
    """

    pairs: np.ndarray
    length: np.ndarray
    weight: np.ndarray
    braces: bool = False


@dataclass(frozen=True, eq=False)
class ShellSpec:
    """A shell: skin points (n, 3) m and triangles (t, 3) as they were made, and the pose they start in.

    grain : (t, 3) directions, None for that of x.
    ``net`` says that only its links hold it together, neither its faces nor their hinges.
    ``flat`` forgets the angles it was made with.  All else is as of a solid; ``held`` and ``rest`` are of points.
    """

    points: np.ndarray
    triangles: np.ndarray
    rotation: np.ndarray
    translation: np.ndarray
    material: ShellMaterial
    touch: Touch
    held: np.ndarray | None = None
    weight: float = 1.0
    inflation: Inflation = Inflation()
    flat: bool = False
    grain: np.ndarray | None = None
    goal: Goal | None = None
    links: tuple[Links, ...] = ()
    net: bool = False
    course: Course | None = None
    rest: Course | None = None


@dataclass(frozen=True)
class NoMaterial:
    """Of what goes where it is led, whatever it meets; it has a weight of 1 kg only so that sums over it are finite."""

    density: float = 1.0
    wobble_halves: float = 0.0


@dataclass(frozen=True, eq=False)
class LedSpec:
    """A thing that others meet and that goes along its ``course`` whatever they do.

    The course is that of the four corners (0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1) of the frame in which its
    ``points`` (n, 3) are; or of all of its points, where they are ``free`` of such a frame.
    """

    points: np.ndarray
    triangles: np.ndarray
    touch: Touch
    course: Course
    free: bool = False
    material: NoMaterial = NoMaterial()
    weight: float = 0.0
    inflation: Inflation = Inflation()
    goal: None = None


@dataclass(frozen=True)
class RigidMaterial:
    """What a rigid body is made of: kg/m³."""

    density: float
    wobble_halves: float = 0.0


@dataclass(frozen=True, eq=False)
class RigidSpec:
    """A body that does not deform: points (n, 3) m and triangles (t, 3) as they were made, and the pose they start in.

    ``held`` keeps it where it starts, or on its ``course``: that of its four nodes.  The rest is as of a solid.
    """

    points: np.ndarray
    triangles: np.ndarray
    rotation: np.ndarray
    translation: np.ndarray
    material: RigidMaterial
    touch: Touch
    held: bool = False
    weight: float = 1.0
    goal: Goal | None = None
    course: Course | None = None
    inflation: Inflation = Inflation()


@dataclass(frozen=True, eq=False)
class PelletSpec:
    """Balls that move each for itself: their middles (n, 3) at the start and ``radius`` (n,), m.

    released : (n,) s, until when each is held where it waits, and then leaves at ``speed`` (3,), m/s.
    life : s, after which each is back where it waited, as soon as that is free.  again : s, more than that, after
    which it is let go once more; inf, if never.  ``held`` keeps all.  A touch has no gap: that of a ball is its radius.
    """

    points: np.ndarray
    radius: np.ndarray
    material: RigidMaterial
    touch: Touch
    released: np.ndarray
    speed: np.ndarray
    held: bool = False
    weight: float = 1.0
    life: float = np.inf
    again: float = np.inf
    goal: None = None
    course: None = None
    inflation: Inflation = Inflation()


BodySpec = SolidSpec | ShellSpec | LedSpec | RigidSpec | PelletSpec
AnyMaterial = Material | ShellMaterial | NoMaterial | RigidMaterial


def alike(one: AnyMaterial | Touch, two: AnyMaterial | Touch) -> bool:
    """Are two materials, or how two skins touch, the same everywhere?"""
    return type(one) is type(two) and all(np.array_equal(a, b) for a, b in zip(vars(one).values(), vars(two).values()))


@dataclass(frozen=True, eq=False)
class ColliderSpec:
    """A thing that others meet and that does not react: points (n, 3) m, triangles (t, 3); ``studs`` (k,) are points
    besides the corners of these, see shapes.studs.
    """

    points: np.ndarray
    triangles: np.ndarray
    touch: Touch
    studs: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class SeamSpec:
    """Skin points of two bodies (numbers ``one`` and ``two``) that are drawn to each other: ``pairs`` (k, 2), of each.

    stiffness : N/m of each pair.  closes : s, in which they come from where they start to each other.
    """

    one: int
    two: int
    pairs: np.ndarray
    stiffness: float
    closes: float


@dataclass(frozen=True, eq=False)
class ForceSpec:
    """A force of the scene on some ``bodies`` (bodies,) bool, about ``place`` (3,), m, along ``axis`` (3,).

    kind : "wind", "turbulence", "vortex" and "own", by the name ``own``, are air that moves with a ``strength`` in m/s;
    a "puller" draws to a point, a "line" or the surface of a piece with one in m/s².
    reach : m, where it has faded to nothing, by its ``fade``: "even", "soft" or "steep".
    begins, ends : s after the start.  size : m, of whirls and of a vortex's core.  period : s, of gusts and changes.
    gusts : 0 .. 1.  inflow, lift : m/s, of a vortex.  rest : m, distance that a puller draws to; ``soft``, m, within
    which one without it loses its strength.  limit : m/s.  piece : number of the one whose surface draws.
    rides : number of the body that its place and axis go along with, from where both are at the start; -1 for none.
    """

    kind: str
    bodies: np.ndarray
    place: np.ndarray
    axis: np.ndarray
    strength: float
    reach: float = np.inf
    fade: str = "soft"
    begins: float = 0.0
    ends: float = np.inf
    size: float = 0.1
    period: float = 1.0
    gusts: float = 0.0
    seed: int = 1
    inflow: float = 0.0
    lift: float = 0.0
    about: str = "point"
    rest: float = 0.0
    soft: float = 0.01
    limit: float = np.inf
    piece: int = -1
    own: str = ""
    rides: int = -1


@dataclass(frozen=True)
class Quality:
    """How a frame is computed.

    substeps a frame; iterations = Newton steps a substep; ringing: the share 0 .. 1 that a substep leaves of the
    fastest vibrations; tolerance of the linear solver, and of the energy that a Newton step gains.
    """

    substeps: int
    iterations: int
    ringing: float
    tolerance: float


QUALITIES = {
    "draft": Quality(6, 4, 0.7, 0.1),
    "good": Quality(8, 4, 0.8, 0.05),
    "sure": Quality(16, 4, 0.9, 0.01),
}


@dataclass(frozen=True, eq=False)
class RunSpec:
    """One run: its bodies, what pulls at them, and how it is computed.

    apart : pairs of pieces that do not touch each other, by number: bodies first, then colliders, then the ground.  A
    piece with itself is such a pair, too.
    rests : what is still may be left alone; not where values change from frame to frame.
    pulls : (3,), the direction of gravity.
    """

    bodies: Sequence[BodySpec]
    colliders: list[ColliderSpec]
    fps: float = 24.0
    gravity: float = USUAL_GRAVITY
    ground: Touch | None = field(default_factory=lambda: Touch(1e-3, 0.5))
    quality: Quality = QUALITIES["good"]
    seams: Sequence[SeamSpec] = ()
    apart: Sequence[tuple[int, int]] = ()
    forces: Sequence[ForceSpec] = ()
    rests: bool = True
    pulls: np.ndarray = field(default_factory=DOWN.copy)
