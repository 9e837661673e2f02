"""A bounce of a given height: bodies that are about to meet part with a share of the speed of their meeting.

A target for every point that touches fails on soft bodies, whose parts meet at many times.  One term a meeting does
not: in the step that brings a contact, the relative move u of both along its normal is drawn to t by  K/2 (t - u)²,
where t goes on to the contact and comes back.  Of soft bodies u is the move of the centres, of firm ones that of the
place where they meet.  At the end of the step, an impulse at that place gives both, as wholes, just the speed to part
with and the spin that goes with it, and friction takes from how they slide what this impulse allows (Routh 1860).
"""

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.spatial.transform import Rotation

from rubberquince.kernels.turning import inertia_of, momentum_of
from rubberquince.solver.system import Pairs
from rubberquince.solver.world import LED, RIGID

FIRMNESS = 100.0            # of K, in units of mass / step²
THIN = 1e-6                 # of the largest moment of inertia: about an axis with less a body does not turn
SIGNS = (1.0, -1.0)         # of the first and the second side of a meeting


def hat(way: np.ndarray) -> np.ndarray:
    """The matrix (3, 3) that makes b into the cross product of ``way`` (3,) and b; np.cross takes ten times as long."""
    a, b, c = way
    return np.array([[0.0, -c, b], [c, 0.0, -a], [-b, a, 0.0]])


@dataclass(frozen=True, eq=False)
class Side:
    """A body in a meeting: its ``nodes`` with their mass (k,) kg and x (k, 3) m; ``firm`` as in World.

    Speeds ``v`` (n, 3), m/s, are always those of all nodes.
    """

    nodes: slice
    firm: int
    mass: np.ndarray
    x: np.ndarray

    @property
    def gives(self) -> bool:
        """Whether it gives way to an impulse."""
        return self.firm != LED

    @cached_property
    def whole(self) -> float:
        """Its mass, kg."""
        return float(self.mass.sum())

    @cached_property
    def share(self) -> np.ndarray:
        """Of each node in the centre."""
        return np.array(self.mass / self.whole)

    @cached_property
    def centre(self) -> np.ndarray:
        return np.array(self.share @ self.x)

    @cached_property
    def arms(self) -> np.ndarray:
        """The ways from the centre to nodes, (k, 3) m."""
        return np.array(self.x - self.centre)

    @cached_property
    def root(self) -> np.ndarray:
        """R (3, 3), where a torque of 1 N m s turns it by RᵀR, 1/s."""
        inertia = np.empty((3, 3))
        inertia_of(self.mass, self.arms, 0, len(self.mass), np.zeros(3), inertia)
        values, axes = np.linalg.eigh(inertia)
        turns = values > THIN * values[-1]
        return np.array(np.where(turns, 1.0 / np.sqrt(np.where(turns, values, 1.0)), 0.0)[:, None] * axes.T)

    @cached_property
    def looseness(self) -> np.ndarray:
        """How a torque of 1 N m s turns it, (3, 3) 1/s."""
        return np.array(self.root.T @ self.root)

    def spin(self, v: np.ndarray) -> np.ndarray:
        """(3,) rad/s."""
        momentum = np.empty(3)
        momentum_of(self.mass, self.arms, v[self.nodes], 0, len(self.mass), np.zeros(3), momentum)
        return np.array(self.looseness @ momentum)

    def turned(self, angle: np.ndarray) -> "Side":
        """The same, turned by an ``angle`` (3,), rad."""
        return replace(self, x=self.centre + Rotation.from_rotvec(angle).apply(self.arms))

    def speed(self, arm: np.ndarray, v: np.ndarray) -> np.ndarray:
        """(3,) m/s, of it as a whole, ``arm`` (3,), m, from its centre."""
        return np.array(self.share @ v[self.nodes] + hat(self.spin(v)) @ arm)

    def looseness_at(self, arm: np.ndarray) -> np.ndarray:
        """What speed an impulse of 1 N s at ``arm`` gives it there, (3, 3) m/s."""
        turns = self.root @ hat(arm)
        return np.array(np.eye(3) / self.whole + turns.T @ turns) * self.gives

    def row(self, arm: np.ndarray, normal: np.ndarray) -> np.ndarray:
        """What (6,) an impulse along ``normal`` (3,) at ``arm`` does: its product with that of another impulse is the
        speed that this gives, along the other and there, for 1 N s.
        """
        return np.concatenate([normal / np.sqrt(self.whole), self.root @ (hat(arm) @ normal)]) * self.gives

    def push(self, impulse: np.ndarray, arm: np.ndarray, v: np.ndarray) -> None:
        """Give its nodes what an ``impulse`` (3,), N s, at that place does, in ``v``."""
        if self.gives:
            v[self.nodes] += impulse / self.whole + self.arms @ hat(self.looseness @ (hat(arm) @ impulse)).T

    def shares(self, arm: np.ndarray) -> np.ndarray:
        """What nodes (k,) have of what is drawn to the target: of that place, or of the centre if it is soft."""
        if self.firm not in (RIGID, LED):
            return self.share
        second = np.linalg.pinv((self.share[:, None] * self.arms).T @ self.arms, THIN, hermitian=True)
        return np.array(self.share * (1.0 + self.arms @ second @ arm))


@dataclass(frozen=True, eq=False)
class Meeting:
    """Two ``pieces`` that may meet in a step, along the ``normal`` (3,) from the second to the first.

    sides : those of them that are bodies; arms : (3,) m from their centres to the place.  away : m, from touching.
    share : of their speed that they part with; least : m/s, from where they do.  friction : the coefficient.
    """

    pieces: tuple[int, int]
    normal: np.ndarray
    sides: list[Side]
    arms: list[np.ndarray]
    away: float
    share: float
    least: float
    friction: float

    def parting(self, v: np.ndarray) -> np.ndarray:
        """How what meets moves from each other at speeds ``v`` (n, 3), (3,) m/s."""
        return np.array(sum(sign * side.speed(arm, v) for sign, side, arm in zip(SIGNS, self.sides, self.arms)))

    def parts(self, v: np.ndarray) -> float:
        """The same along the normal: below zero while they close."""
        return float(self.parting(v) @ self.normal)

    @property
    def looseness(self) -> np.ndarray:
        """What speed of parting an impulse of 1 N s gives, (3, 3) m/s."""
        return np.array(sum(side.looseness_at(arm) for side, arm in zip(self.sides, self.arms)))

    def push(self, impulse: np.ndarray, v: np.ndarray) -> None:
        """Give both bodies an ``impulse`` (3,), N s, in the speeds ``v`` (n, 3)."""
        for sign, side, arm in zip(SIGNS, self.sides, self.arms):
            side.push(sign * impulse, arm, v)


@dataclass(frozen=True, eq=False)
class Draw:
    """What draws two ``pieces`` from each other in a step: u = Σ coef · normal·move over nodes (k,), of those that are
    bodies, comes to ``target``, m, by ``stiffness``, N/m.  What only ``pushes`` lets them part by more.
    """

    pieces: tuple[int, int]
    normal: np.ndarray
    node: np.ndarray
    coef: np.ndarray
    target: float
    stiffness: float
    pushes: bool = False


@dataclass(frozen=True, eq=False)
class Bounce:
    """A ``meeting`` and what draws to its end.

    speed : m/s, what they part with.  grip : N s, the most that friction can take.
    """

    meeting: Meeting
    draw: Draw
    speed: float
    grip: float


class Bounces:
    """The bounces of a step, all at once, and what else is ``drawn`` in it.  Moves (n, 3), m, are those of all nodes.

    node : (k,), the nodes of all.
    """

    def __init__(self, bounces: list[Bounce], drawn: list[Draw]) -> None:
        self._all, draws = bounces, [*(b.draw for b in bounces), *drawn]
        self.pieces = [draw.pieces for draw in draws]
        self._ends = np.cumsum([len(draw.node) for draw in draws], dtype=np.int64)
        self.node = np.concatenate([np.zeros(0, np.int64), *(draw.node for draw in draws)])
        self._coef = np.concatenate([np.zeros(0), *(draw.coef for draw in draws)])
        self._normal = np.array([draw.normal for draw in draws]).reshape(-1, 3)
        self._target, self._stiffness = (np.array([getattr(draw, name) for draw in draws])
                                         for name in ("target", "stiffness"))
        self._least = np.array([0.0 if draw.pushes else -np.inf for draw in draws])
        self._of = np.repeat(np.arange(len(draws)), [len(draw.node) for draw in draws])

    def __bool__(self) -> bool:
        return bool(self.pieces)

    def _parted(self, move: np.ndarray) -> np.ndarray:
        along = self._coef * np.einsum("ki,ki->k", move[self.node], self._normal[self._of])
        return np.bincount(self._of, along, len(self.pieces))

    def _lack(self, move: np.ndarray) -> np.ndarray:
        return np.maximum(self._target - self._parted(move), self._least)

    def energy(self, move: np.ndarray) -> float:
        """J."""
        return 0.5 * float(self._stiffness @ self._lack(move) ** 2) if self else 0.0

    def work(self, move: np.ndarray) -> float:
        """J, that what only pushes does in ``move``."""
        pushed = np.isfinite(self._least) * self._parted(move)
        return float((self._stiffness * self._lack(move)) @ pushed)

    def add_slope(self, move: np.ndarray, slope: np.ndarray) -> None:
        """Add the gradient of the energy to ``slope`` (n, 3), N."""
        pull = (self._stiffness * self._lack(move))[:, None] * self._normal
        np.subtract.at(slope, self.node, self._coef[:, None] * pull[self._of])

    def beside(self, pairs: Pairs) -> Pairs:
        """The pairs of the linear system with these as the last."""
        ptr, node, coef, firm = pairs
        mine = self._stiffness[:, None, None] * self._normal[:, :, None] * self._normal[:, None, :]
        return (np.append(ptr, ptr[-1] + self._ends), np.append(node, self.node), np.append(coef, self._coef),
                np.concatenate([firm, mine]))

    def part(self, x: np.ndarray, v: np.ndarray) -> None:
        """Give bodies the speeds they part with, in ``v`` (n, 3), m/s, of nodes at ``x`` (n, 3), m."""
        if not self._all:
            return
        sides = {piece: replace(side, x=x[side.nodes])
                 for b in self._all for piece, side in zip(b.meeting.pieces, b.meeting.sides)}
        met = [replace(b.meeting, sides=[sides[piece] for piece in b.meeting.pieces if piece in sides])
               for b in self._all]
        lacks = np.array([b.speed - m.parts(v) for b, m in zip(self._all, met)])
        for m, blow in zip(met, np.linalg.lstsq(along(met), lacks, THIN)[0]):
            m.push(blow * m.normal, v)
        for b, m in zip(self._all, met):
            flat = np.eye(3) - np.outer(m.normal, m.normal)
            impulse = -np.linalg.pinv(flat @ m.looseness @ flat, THIN, hermitian=True) @ m.parting(v)
            m.push(impulse * min(1.0, b.grip / max(float(np.linalg.norm(impulse)), 1e-300)), v)


def along(meetings: list[Meeting]) -> np.ndarray:
    """How impulses of 1 N s along the normals of ``meetings`` part what meets, (m, m) m/s."""
    pieces = sorted({piece for m in meetings for piece, _ in zip(m.pieces, m.sides)})
    rows = np.zeros((len(meetings), len(pieces), 6))
    for m, row in zip(meetings, rows):
        for sign, piece, side, arm in zip(SIGNS, m.pieces, m.sides, m.arms):
            row[pieces.index(piece)] = sign * side.row(arm, m.normal)
    flat = rows.reshape(len(meetings), -1)
    return np.array(flat @ flat.T)


def bounce_of(meeting: Meeting, v: np.ndarray, after: np.ndarray, blow: float, h: float) -> Bounce:
    """The bounce of a meeting in a step of ``h``, s, that begins with speeds ``v`` (n, 3), m/s, and ends with those
    ``after``; the meeting does a ``blow``, N s.
    """
    normal, sides, arms = meeting.normal, meeting.sides, meeting.arms
    soft = [side.firm not in (RIGID, LED) for side in sides]
    drawn = replace(meeting, arms=[np.zeros(3) if gives else arm for gives, arm in zip(soft, arms)])
    coefs, solved, curved = [], 0.0, 0.0
    for sign, side, arm, gives in zip(SIGNS, sides, arms, soft):
        spin = side.spin(v)
        end = side.turned(h * spin)
        coefs.append(sign * end.shares(arm))
        solved += 1.0 / side.whole if gives else float(normal @ side.looseness_at(arm) @ normal)
        if not gives:                       # what is met at the end is another part of what spins
            way = coefs[-1] @ (end.arms - side.arms) - sign * h * hat(spin) @ arm
            curved += float(way @ normal)
    until = min(meeting.away / max(-meeting.parts(v), meeting.away / h, 1e-300), h)
    target = drawn.parts(v) * until + drawn.parts(after) * (h - until) + curved
    node = np.concatenate([np.arange(side.nodes.start, side.nodes.stop) for side in sides])
    draw = Draw(meeting.pieces, normal, node, np.concatenate(coefs), target, FIRMNESS / (solved * h * h))
    return Bounce(meeting, draw, meeting.parts(after), meeting.friction * blow)
