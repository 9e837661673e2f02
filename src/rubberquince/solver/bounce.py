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

    def gives_way(self, arm: np.ndarray) -> np.ndarray:
        """What speed an impulse of 1 N s gives that place, (3, 3) m/s."""
        lever = np.cross(np.eye(3), arm).T
        return np.array(np.eye(3) / self.mass.sum() - lever @ self.looseness @ lever) * self.gives

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
class Bounce:
    """A pair over all nodes of one or two bodies among two ``pieces``: u = Σ coef · normal·move.

    It is drawn to ``target``, m, by ``stiffness``, N/m.

    sides : the bodies, and arms : (3,) m from the centre of each to where they meet.
    speed : m/s, what they part with.  friction : the coefficient there; closing : m/s, of the meeting.
    """

    pieces: tuple[int, int]
    normal: np.ndarray
    node: np.ndarray
    coef: np.ndarray
    target: float
    stiffness: float
    sides: list[Side]
    arms: list[np.ndarray]
    speed: float
    closing: float
    friction: float

    def _lack(self, move: np.ndarray) -> float:
        return self.target - float(self.coef @ (move[self.node] @ self.normal))

    def energy(self, move: np.ndarray) -> float:
        """J, for nodes moved by ``move`` (n, 3), m, in this step."""
        return 0.5 * self.stiffness * self._lack(move) ** 2

    def slope(self, move: np.ndarray) -> np.ndarray:
        """Gradient of the energy (n, 3), N."""
        out = np.zeros_like(move)
        out[self.node] = -self.stiffness * self._lack(move) * self.coef[:, None] * self.normal
        return out

    def beside(self, pairs: Pairs) -> Pairs:
        """The pairs of the linear system with this one as the last."""
        ptr, node, coef, firm = pairs
        mine = self.stiffness * np.outer(self.normal, self.normal)
        return (np.append(ptr, ptr[-1] + len(self.node)), np.append(node, self.node), np.append(coef, self.coef),
                np.concatenate([firm, mine[None]]))

    def part(self, x: np.ndarray, v: np.ndarray) -> None:
        """Give both the speed they part with, in the speeds ``v`` (n, 3), m/s, of nodes at ``x`` (n, 3), in place."""
        sides = [side.now(x, v) for side in self.sides]
        give = sum(side.gives_way(arm) for side, arm in zip(sides, self.arms))
        resists = 1.0 / float(self.normal @ give @ self.normal)
        lack = self.speed - float(self._parting(sides) @ self.normal)
        self._push(lack * resists * self.normal, sides, v)
        sides = [side.now(x, v) for side in sides]
        flat = np.eye(3) - np.outer(self.normal, self.normal)
        impulse = -np.linalg.pinv(flat @ give @ flat, THIN, hermitian=True) @ self._parting(sides)
        grip = self.friction * (self.closing + self.speed) * resists
        self._push(impulse * min(1.0, grip / max(float(np.linalg.norm(impulse)), 1e-300)), sides, v)

    def _parting(self, sides: list[Side]) -> np.ndarray:
        """How the places of ``sides`` move from each other, (3,) m/s."""
        return np.array(sum(side.sign * side.speed(arm) for side, arm in zip(sides, self.arms)))

    def _push(self, impulse: np.ndarray, sides: list[Side], v: np.ndarray) -> None:
        for side, arm in zip(sides, self.arms):
            side.push(impulse, arm, v)


def bounce(pieces: tuple[int, int], sides: list[Side], place: np.ndarray, normal: np.ndarray, away: float,
           friction: float, share: float, h: float) -> list[Bounce]:
    """What a meeting at a ``place`` (3,), m, leads to in a step of ``h``, s, if both close there: one bounce.

    They are ``away``, m, from touching, part with a ``share`` of their speed, and have that ``friction`` coefficient.
    """
    arms = [place - side.centre for side in sides]
    closing = -sum(side.sign * float(side.speed(arm) @ normal) for side, arm in zip(sides, arms))
    if closing <= 0.0:
        return []
    give = sum(float(normal @ side.gives_way(arm) @ normal) for side, arm in zip(sides, arms))
    blow, before, after, solved, curved, coefs = (1.0 + share) * closing / give, 0.0, 0.0, 0.0, 0.0, []
    for side, arm in zip(sides, arms):
        end, soft = side.turned(h), side.firm not in (RIGID, LED)
        own = 1.0 / side.mass.sum() if soft else float(normal @ side.gives_way(arm) @ normal)
        speed = side.sign * float(side.speed(np.zeros(3) if soft else arm) @ normal)
        before, after, solved = before + speed, after + speed + own * blow, solved + own
        if not soft:                        # what is met at the end is another part of what spins
            way = end.shares(arm) @ (end.arms - side.arms) - h * np.cross(side.spin, arm)
            curved += side.sign * float(way @ normal)
        coefs.append(side.sign * end.shares(arm))
    until = min(away / closing, h)
    node = np.concatenate([np.arange(side.nodes.start, side.nodes.stop) for side in sides])
    return [Bounce(pieces, normal, node, np.concatenate(coefs), before * until + after * (h - until) + curved,
                   FIRMNESS / (solved * h * h), sides, arms, share * closing, closing, friction)]
