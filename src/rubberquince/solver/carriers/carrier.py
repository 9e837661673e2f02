"""What moves of a body and carries its skin, whatever its role."""

from dataclasses import dataclass

import numpy as np

from rubberquince.shapes.studs import Studs


@dataclass(frozen=True, eq=False)
class Carrier:
    """Nodes of one body and the skin on them.

    start, place : (n, 3) m, nodes in the world and in the body's own frame.  share : (n,) m³ or m², what the density
    is of.  held : (n,) bool, nodes that never move.  size : m, its finest length.
    triangles : (t, 3) skin points; a point is carried by nodes ``bind_node`` (points, k) with ``bind_weight``.
    studs : points between those of a coarse skin, which come after them in these; None where there are none.
    near : m, parts of the skin that are closer at rest never touch each other.  filled : whether it has an inside.
    parts : how many aggregates its coarse space has.  radius : (points,), m, of pellets; None of all else.
    """

    start: np.ndarray
    place: np.ndarray
    share: np.ndarray
    held: np.ndarray
    size: float
    triangles: np.ndarray
    bind_node: np.ndarray
    bind_weight: np.ndarray
    near: float
    filled: bool
    parts: int
    radius: np.ndarray | None = None
    studs: Studs | None = None

    @property
    def points(self) -> int:
        """How many points its skin has, without studs."""
        return len(self.bind_node) - (len(self.studs) if self.studs is not None else 0)

    def at_all_points(self, values: np.ndarray | float) -> np.ndarray | float:
        """The ``values`` (points,) of its skin with those of its studs; one for all is that."""
        if self.studs is None or not isinstance(values, np.ndarray):
            return values
        return np.concatenate([values, self.studs.between(values)])
