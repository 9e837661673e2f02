"""Which patches of dense things may be met in a frame.

A thing of many triangles that stands, or is led along a course of its frame, is looked at in that frame: there its
patches never move, and each body goes through a box, its region, that meets some of them.  All others are left out of
contact.  What comes of a frame does not hang on that: it is taken again where a body left its region.
"""

from collections.abc import Callable, Container, Sequence

import numpy as np

from rubberquince.kernels.frames import all_within, hulls, seen_from
from rubberquince.solver.specs import LedSpec
from rubberquince.solver.world import World

DENSE = 256                 # patches: a thing that has fewer is looked at as a whole
ROOM = 0.5                  # of the longest side of what a body goes through: how much more its region has on each side
LEFT = 0.2                  # of that side: how much has to be left of it when a frame begins
LOOSE = 2.0                 # times what it is made to be: a region that is longer is made anew
MOST_TIMES = 3              # that a frame is taken again with some left out
FLAT = 1e-300               # of the volume of a frame: of one that has less nothing can be seen
MOST_TURN = 0.5             # of the axes of a frame in a step: what turns or stretches farther is looked at as a whole
NOWHERE = np.repeat([np.inf, -np.inf], 3)
SIDES = np.repeat([-1.0, 1.0], 3)


class _Dense:
    """One of them: in its own frame, the boxes (k, 6) of its ``patches``, and the ``region`` (b, 6) of each body that
    it ``meets``.
    """

    def __init__(self, world: World, piece: int, patches: slice, boxes: np.ndarray) -> None:
        self.patches, self._boxes = patches, boxes
        self.meets = np.flatnonzero(world.meets[piece, : world.bodies])
        self._nodes = slice(*world.first_node[piece : piece + 2]) if piece < world.bodies else None
        self.region = np.tile(NOWHERE, (len(self.meets), 1))

    def seen(self, box: np.ndarray, x: np.ndarray, moves: Sequence[np.ndarray]) -> np.ndarray:
        """What holds the boxes (bodies, 6), seen from its frame while nodes go from ``x`` by ``moves`` (n, 3): the same
        for the bodies that it meets, or without end.
        """
        if self._nodes is None:
            return box[self.meets]
        here = x[self._nodes]
        corner = np.array([here, *(here + move[self._nodes] for move in moves)])
        origin, axes = corner[:, 0], (corner[:, 1:] - corner[:, :1]).transpose(0, 2, 1)
        if not (np.abs(np.linalg.det(axes)) > FLAT).all():
            return np.tile(-NOWHERE, (len(self.meets), 1))
        into = np.linalg.inv(axes)
        turn = np.abs(into[0] @ axes - np.eye(3)).sum(axis=2).max(axis=1)
        if not (turn < MOST_TURN).all():
            return np.tile(-NOWHERE, (len(self.meets), 1))
        return np.array(seen_from(box, self.meets, origin, into, turn))

    def is_loose(self, seen: np.ndarray) -> bool:
        """Is some region much longer than it is made for ``seen``?"""
        return bool((_longest(self.region) > LOOSE * (1.0 + 2.0 * ROOM) * _longest(seen)).any())

    def give_room(self, seen: np.ndarray) -> None:
        """Have regions hold ``seen``, and more."""
        self.region = np.where(np.isfinite(seen).all(axis=1, keepdims=True), _with_room(seen, ROOM), -NOWHERE)

    def kept(self) -> np.ndarray:
        """Which of its patches (k,) bool some region meets."""
        kept = np.zeros(len(self._boxes), bool)
        for region in self.region:
            kept |= (self._boxes[:, :3] <= region[3:]).all(axis=1) & (self._boxes[:, 3:] >= region[:3]).all(axis=1)
        return kept


def _longest(box: np.ndarray) -> np.ndarray:
    return np.array((box[:, 3:] - box[:, :3]).max(axis=1), float)


def _with_room(box: np.ndarray, room: float) -> np.ndarray:
    return np.array(box + room * _longest(box)[:, None] * SIDES)


class Reach:
    """The dense things of a world; ``kept`` (patches,) bool says which patches of all are not left out."""

    def __init__(self, world: World, piece: np.ndarray, boxes: Callable[[np.ndarray], np.ndarray],
                 whole: Container[int]) -> None:
        """``piece`` (patches,) is that of each patch; ``boxes`` finds those (patches, 6) of patches at skin points.

        Of pieces that something is led out of, the ``whole`` is looked at.
        """
        self._world, self.kept, self._things = world, np.ones(len(piece), bool), list[_Dense]()
        dense = [int(k) for k in np.flatnonzero(np.bincount(piece) >= DENSE)
                 if k not in whole and self._is_in_a_frame(int(k))]
        if dense:
            skin, own = world.skin, world.skin.points.copy()
            for k in dense:
                if k < world.bodies:
                    mine = skin.piece == k
                    own[mine] = skin.bind_weight[mine[: skin.moving], 1:4]
            at = boxes(own)
            for k in dense:
                patches = slice(*np.searchsorted(piece, [k, k + 1]))
                self._things.append(_Dense(world, k, patches, at[patches]))

    def __bool__(self) -> bool:
        return bool(self._things)

    def _is_in_a_frame(self, piece: int) -> bool:
        """Does a piece stand, or go along with a frame?  Not what has an inside that others are led out of."""
        w = self._world
        if piece >= w.bodies:
            return not w.outside_only[piece]
        body = w.spec.bodies[piece]
        return isinstance(body, LedSpec) and not body.free

    def begin_frame(self, box: np.ndarray, piece: np.ndarray, x: np.ndarray, way: np.ndarray, again: int) -> bool:
        """Patches of ``piece`` (k,) may go through ``box`` (k, 6) while nodes go from ``x`` by ``way`` (n, 3), m.

        again : how often something has left its region in this frame.
        Returns whether ``kept`` has changed.
        """
        hull, before = self._hulls(box, piece), self.kept.copy()
        for thing in self._things:
            seen = thing.seen(hull, x, [way])
            if again >= MOST_TIMES:
                thing.region[:] = -NOWHERE
            elif not all_within(_with_room(seen, LEFT), thing.region) or (again == 0 and thing.is_loose(seen)):
                thing.give_room(seen)
            self.kept[thing.patches] = thing.kept()
        return not np.array_equal(self.kept, before)

    def holds(self, box: np.ndarray, piece: np.ndarray, x: np.ndarray, moves: Sequence[np.ndarray]) -> bool:
        """Does nothing come to what is left out where patches of ``piece`` (k,) go through ``box`` (k, 6), as nodes go
        from ``x`` by ``moves`` (n, 3)?  If it does, there is room for that from the next frame on.
        """
        hull, all_hold = self._hulls(box, piece), True
        for thing in self._things:
            seen = thing.seen(hull, x, moves)
            if not all_within(seen, thing.region):
                thing.give_room(_union(seen, thing.region))
                all_hold = False
        return all_hold

    def _hulls(self, box: np.ndarray, piece: np.ndarray) -> np.ndarray:
        hull = np.tile(NOWHERE, (self._world.bodies, 1))
        hulls(box, piece, hull)
        return hull


def _union(one: np.ndarray, two: np.ndarray) -> np.ndarray:
    return np.hstack([np.minimum(one[:, :3], two[:, :3]), np.maximum(one[:, 3:], two[:, 3:])])
