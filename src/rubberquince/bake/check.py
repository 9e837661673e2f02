"""A sentence about what will not work in a scene."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from rubberquince.document.scene import Scene, changed
from rubberquince.shapes.polymesh import PolyMesh


@dataclass(frozen=True, eq=False)
class Check:
    """``trouble`` False says that something is well.  ``mend`` gives the mended scene, ``button`` says how; it can be
    sent from one process to another.

    ``spot`` (3,), m, is where in the world it is.  ``mesh`` is that of the mended piece where it is a new one.
    """

    sentence: str
    trouble: bool
    piece: str | None = None
    button: str = ""
    mend: Callable[[Scene], Scene] | None = None
    spot: np.ndarray | None = None
    mesh: PolyMesh | None = None


def set_value(piece_id: str, path: str, value: object, now: Scene) -> Scene:
    """A mend: one value of a piece, in the scene as it is when the button is pressed."""
    return now.with_piece(changed(now.piece(piece_id), path, value))
