"""What is said between the window and the solver process: plain values that pickle."""

from dataclasses import dataclass, field

import numpy as np

from rubberquince.document.scene import Scene
from rubberquince.shapes.polymesh import PolyMesh


@dataclass(frozen=True, eq=False)
class Run:
    """Compute frames up to ``last`` into ``folder``; go on from whole frames of the same scene there."""

    job: int
    scene: Scene
    meshes: dict[str, PolyMesh]
    folder: str
    last: int


@dataclass(frozen=True, eq=False)
class Change:
    """Values have changed; write them into the running arrays."""

    scene: Scene


@dataclass(frozen=True)
class Quit:
    """End the process."""


@dataclass(frozen=True)
class Preparing:
    """What is being done before the first frame; job 0 is the start of the process itself."""

    job: int
    sentence: str


@dataclass(frozen=True)
class Ready:
    """The run is built: ``points`` skin points a frame; the ring file that carries them; wobble in Hz."""

    job: int
    points: int
    ring: str


@dataclass(frozen=True, eq=False)
class FrameDone:
    """A frame stands in ring slot ``slot``."""

    job: int
    number: int
    stamp: int
    slot: int
    readings: np.ndarray
    effort: np.ndarray


@dataclass(frozen=True)
class Finished:
    """The run ended: it reached its last frame, or was stopped."""

    job: int
    stopped: bool


@dataclass(frozen=True)
class Failed:
    """The run could not be done: one sentence."""

    job: int
    sentence: str


@dataclass(frozen=True)
class Died:
    """The process is gone without having been asked to."""

    job: int = field(default=0)


Command = Run | Change | Quit
Event = Preparing | Ready | FrameDone | Finished | Failed | Died
