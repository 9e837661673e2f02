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

from rubberquince.kernels.turning import inertia_of
from rubberquince.solver.system import Pairs
from rubberquince.solver.world import LED, RIGID

FIRMNESS = 100.0            # of K, in units of mass / step²
THIN = 1e-6                 # of the largest moment of inertia: about an axis with less a body does not turn


@dataclass(frozen=True, eq=False)
class Side:
    """A body in a meeting: its ``nodes`` with their mass (k,) kg, x (k, 3) m and v (k, 3) m/s; ``firm`` as in World.

    sign : 1 for the first of both bodies, -1 for the second.
    """

    nodes: slice
    sign: float
    firm: int
    mass: np.ndarray
    x: np.ndarray
    v: np.ndarray

    @property
    def gives(self) -> bool:
        """Whether it gives way to an impulse."""
        return self.firm != LED

    @cached_property
    def share(self) -> np.ndarray:
        """Of each node in the centre."""
        return np.array(self.mass / self.mass.sum())

    @cached_property
    def centre(self) -> np.ndarray:
        return np.array(self.share @ self.x)

    @cached_property
    def arms(self) -> np.ndarray:
        """The ways from the centre to nodes, (k, 3) m."""
        return np.array(self.x - self.centre)

    @cached_property
    def looseness(self) -> np.ndarray:
        """How a torque of 1 N m s turns it, (3, 3) 1/s."""
        inertia = np.empty((3, 3))
        inertia_of(self.mass, self.arms, 0, len(self.mass), np.zeros(3), inertia)
        return np.linalg.pinv(inertia, THIN, hermitian=True)

    @cached_property
    def spin(self) -> np.ndarray:
        """(3,) rad/s."""
        return np.array(self.looseness @ (self.mass @ np.cross(self.arms, self.v)))

    def now(self, x: np.ndarray, v: np.ndarray) -> "Side":
        """The same where all nodes are at ``x`` (n, 3) with speeds ``v`` (n, 3)."""
        return replace(self, x=x[self.nodes], v=v[self.nodes])

    def turned(self, h: float) -> "Side":
        """The same as its spin turns it in ``h``, s."""
        return replace(self, x=self.centre + Rotation.from_rotvec(h * self.spin).apply(self.arms))

    def speed(self, arm: np.ndarray) -> np.ndarray:
        """(3,) m/s, of it as a whole, ``arm`` (3,), m, from its centre."""
        return np.array(self.share @ self.v + np.cross(self.spin, arm))

    def between(self, arm: np.ndarray, other: np.ndarray) -> np.ndarray:
        """What speed at ``arm`` an impulse of 1 N s gives that acts at the ``other`` (3,), m, (3, 3) m/s."""
        one, two = (np.cross(np.eye(3), way).T for way in (arm, other))
        return np.array(np.eye(3) / self.mass.sum() - one @ self.looseness @ two) * self.gives

    def push(self, impulse: np.ndarray, arm: np.ndarray, v: np.ndarray) -> None:
        """Give all nodes, in ``v`` (n, 3), what an ``impulse`` (3,), N s, at that place does."""
        if self.gives:
            turn = np.cross(self.looseness @ np.cross(arm, impulse), self.arms)
            v[self.nodes] += self.sign * (impulse / self.mass.sum() + turn)

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

    def now(self, x: np.ndarray, v: np.ndarray) -> "Meeting":
        """The same where nodes are at ``x`` (n, 3) with speeds ``v`` (n, 3)."""
        return replace(self, sides=[side.now(x, v) for side in self.sides])

    @property
    def parting(self) -> np.ndarray:
        """How what meets moves from each other, (3,) m/s."""
        return np.array(sum(side.sign * side.speed(arm) for side, arm in zip(self.sides, self.arms)))

    @property
    def parts(self) -> float:
        """The same along the normal: below zero while they close."""
        return float(self.parting @ self.normal)

    def gives_way(self, other: "Meeting") -> np.ndarray:
        """What speed of parting here an impulse of 1 N s at the ``other`` meeting gives, (3, 3) m/s."""
        give = np.zeros((3, 3))
        for side, arm in zip(self.sides, self.arms):
            for its, reach in zip(other.sides, other.arms):
                if side.nodes == its.nodes:
                    give += side.sign * its.sign * side.between(arm, reach)
        return give

    def push(self, impulse: np.ndarray, v: np.ndarray) -> None:
        """Give both bodies an ``impulse`` (3,), N s, in the speeds ``v`` (n, 3) of all nodes."""
        for side, arm in zip(self.sides, self.arms):
            side.push(impulse, arm, v)


@dataclass(frozen=True, eq=False)
class Bounce:
    """A pair over all nodes of one or two bodies that are in a ``meeting``: u = Σ coef · normal·move.

    It is drawn to ``target``, m, by ``stiffness``, N/m.
    speed : m/s, what they part with.  grip : N s, the most that friction can take.
    """

    meeting: Meeting
    node: np.ndarray
    coef: np.ndarray
    target: float
    stiffness: float
    speed: float
    grip: float

    def _lack(self, move: np.ndarray) -> float:
        return self.target - float(self.coef @ (move[self.node] @ self.meeting.normal))

    def energy(self, move: np.ndarray) -> float:
        """J, for nodes moved by ``move`` (n, 3), m, in this step."""
        return 0.5 * self.stiffness * self._lack(move) ** 2

    def slope(self, move: np.ndarray) -> np.ndarray:
        """Gradient of the energy (n, 3), N."""
        out = np.zeros_like(move)
        out[self.node] = -self.stiffness * self._lack(move) * self.coef[:, None] * self.meeting.normal
        return out

    def beside(self, pairs: Pairs) -> Pairs:
        """The pairs of the linear system with this one as the last."""
        ptr, node, coef, firm = pairs
        mine = self.stiffness * np.outer(self.meeting.normal, self.meeting.normal)
        return (np.append(ptr, ptr[-1] + len(self.node)), np.append(node, self.node), np.append(coef, self.coef),
                np.concatenate([firm, mine[None]]))


def along(meetings: list[Meeting]) -> np.ndarray:
    """How impulses of 1 N s along the normals of ``meetings`` part what meets, (m, m) m/s."""
    return np.array([[one.normal @ one.gives_way(two) @ two.normal for two in meetings] for one in meetings])


def part(bounces: list[Bounce], x: np.ndarray, v: np.ndarray) -> None:
    """Give bodies the speeds they part with, in the speeds ``v`` (n, 3), m/s, of nodes at ``x`` (n, 3), in place."""
    met = [bounce.meeting.now(x, v) for bounce in bounces]
    lacks = np.array([bounce.speed - m.parts for bounce, m in zip(bounces, met)])
    for m, blow in zip(met, np.linalg.lstsq(along(met), lacks, THIN)[0]):
        m.push(blow * m.normal, v)
    for bounce in bounces:
        m = bounce.meeting.now(x, v)
        flat = np.eye(3) - np.outer(m.normal, m.normal)
        impulse = -np.linalg.pinv(flat @ m.gives_way(m) @ flat, THIN, hermitian=True) @ m.parting
        m.push(impulse * min(1.0, bounce.grip / max(float(np.linalg.norm(impulse)), 1e-300)), v)


def bounce_of(meeting: Meeting, now: np.ndarray, grip: float, h: float) -> Bounce:
    """The bounce of a meeting in a step of ``h``, s, after which the speeds of all nodes are ``now`` (n, 3), m/s."""
    normal, sides, arms = meeting.normal, meeting.sides, meeting.arms
    soft, after = [side.firm not in (RIGID, LED) for side in sides], replace(
        meeting, sides=[replace(side, v=now[side.nodes]) for side in sides])
    drawn = [np.zeros(3) if gives else arm for gives, arm in zip(soft, arms)]
    coefs, solved, curved = [], 0.0, 0.0
    for side, arm, gives in zip(sides, arms, soft):
        end = side.turned(h)
        coefs.append(side.sign * end.shares(arm))
        solved += 1.0 / side.mass.sum() if gives else float(normal @ side.between(arm, arm) @ normal)
        if not gives:                       # what is met at the end is another part of what spins
            way = coefs[-1] @ (end.arms - side.arms) - side.sign * h * np.cross(side.spin, arm)
            curved += float(way @ normal)
    until = min(meeting.away / max(-meeting.parts, meeting.away / h, 1e-300), h)
    target = replace(meeting, arms=drawn).parts * until + replace(after, arms=drawn).parts * (h - until) + curved
    node = np.concatenate([np.arange(side.nodes.start, side.nodes.stop) for side in sides])
    return Bounce(meeting, node, np.concatenate(coefs), target, FIRMNESS / (solved * h * h), after.parts, grip)
