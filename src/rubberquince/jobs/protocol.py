"""What is said between the window and the solver process: plain values that pickle."""

from dataclasses import dataclass

import numpy as np

from rubberquince.document.scene import Scene
from rubberquince.shapes.polymesh import PolyMesh


@dataclass(frozen=True, eq=False)
class Run:
    """Compute frames up to ``last`` into ``folder``; go on from whole frames of the same scene there.

    ``meshes`` are those that the process was not given with the run before.  Frames beyond ``after`` are computed anew.
    """

    job: int
    scene: Scene
    meshes: dict[str, PolyMesh]
    folder: str
    last: int
    after: int | None = None


@dataclass(frozen=True, eq=False)
class Tug:
    """Pull at a ``place`` (3,), m, of a piece of a running job towards a ``target`` (3,), or let go of it (None)."""

    job: int
    piece: str
    place: np.ndarray
    target: np.ndarray | None


@dataclass(frozen=True, eq=False)
class Change:
    """Values of a running job have changed; write them into its arrays."""

    job: int
    scene: Scene


@dataclass(frozen=True)
class Quit:
    """End the process."""


@dataclass(frozen=True)
class Awake:
    """The process is up and has loaded its kernels."""


@dataclass(frozen=True)
class Preparing:
    """What is being done before the first frame."""

    job: int
    sentence: str


@dataclass(frozen=True)
class Ready:
    """The run is built and its folder open: ``points`` skin points a frame; the ring file that carries them."""

    job: int
    points: int
    ring: str


@dataclass(frozen=True)
class Noted:
    """Something about a run that the artist should know: one sentence."""

    job: int
    sentence: str


@dataclass(frozen=True, eq=False)
class FrameDone:
    """A frame stands in ring slot ``slot``; ``pull``, N, is what a tug pulled with at its end."""

    job: int
    number: int
    stamp: int
    slot: int
    readings: np.ndarray
    effort: np.ndarray
    pull: float = 0.0


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
class Crashed:
    """The process ended without having been asked to; a new one goes on with the run."""

    job: int


Command = Run | Change | Tug | Quit
Event = Awake | Preparing | Ready | Noted | FrameDone | Finished | Failed | Crashed
JobEvent = Preparing | Ready | Noted | FrameDone | Finished | Failed | Crashed
