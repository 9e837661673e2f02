"""A bounce of a given height: bodies whose centres are about to meet part with a share of their speed.

A target for every point that touches fails on soft bodies, whose parts meet at many times.  One term on
the centres does not: in the step that brings a contact, the relative move u of both centres along its
normal is drawn to t by  K/2 (t - u)²,  where t goes on to the contact and comes back with its share of
the speed; at the end of the step the centres have just that speed, and friction has taken from how they
slide past each other what this impulse allows.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from rubberquince.kernels.contact import carry, friction_between
from rubberquince.kernels.distance import EDGE_EDGE, closest
from rubberquince.kernels.turning import inertia_of
from rubberquince.solver.contacts import Contacts
from rubberquince.solver.system import Pairs
from rubberquince.solver.world import LED, World

FIRMNESS = 100.0            # of K, in units of mass / step²
OF_RIGID = 0.2              # of rigid bodies without a number: they have nothing of their own that throws them back
HOP = 0.4                   # m/s: those that meet more slowly do not bounce without a number, as when they roll
BORDER = 1e-3               # share of edges in the normal of a meeting: theirs are tilted where faces meet flat
NEAREST = 0.1               # of a gap that what meets first may be farther away than the nearest
THIN = 1e-6                 # of the largest moment of inertia: about an axis with less a body does not turn
LEAST_STEPS = 4.0           # of gravity: what closes more slowly than it gains in so many steps may be at rest


@dataclass(frozen=True, eq=False)
class Bounce:
    """A pair over all nodes of one or two bodies among two ``pieces``: u = Σ coef · normal·move.

    ``coef`` are shares of each body's mass, below zero for the second; ``per_mass`` is coef / mass of a node,
    ``mass`` what the centres resist with, kg; ``speed``, m/s, is what they part with.  ``grip``, N s, is the most that
    friction can take; ``sides`` are the nodes of each body that moves, the sign of u, and the way (3,), m, from its
    centre to where it meets the other.
    """

    pieces: tuple[int, int]
    node: np.ndarray
    coef: np.ndarray
    normal: np.ndarray
    per_mass: np.ndarray
    mass: float
    stiffness: float
    target: float
    speed: float
    grip: float
    sides: list[tuple[slice, float, np.ndarray]]

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

    def part(self, mass: np.ndarray, x: np.ndarray, v: np.ndarray) -> None:
        """Give the centres the speed they part with, in ``v`` (n, 3), m/s, in place, and bodies their spin.

        mass : (n,) kg and ``x`` (n, 3) m of nodes.
        """
        lack = self.speed - float(self.coef @ (v[self.node] @ self.normal))
        v[self.node] += lack * self.mass * self.per_mass[:, None] * self.normal
        give, slide, spins = np.zeros((3, 3)), np.zeros(3), []
        for nodes, sign, arm in self.sides:
            m, r, inertia = mass[nodes], x[nodes] - mass[nodes] @ x[nodes] / mass[nodes].sum(), np.empty((3, 3))
            inertia_of(m, r, 0, len(m), np.zeros(3), inertia)
            turns, lever = np.linalg.pinv(inertia, THIN, hermitian=True), np.cross(np.eye(3), arm).T
            slide += sign * (m @ v[nodes] / m.sum() + lever @ turns @ (m @ np.cross(r, v[nodes])))
            give += np.eye(3) / m.sum() - lever @ turns @ lever
            spins.append((r, -turns @ lever))
        flat = np.eye(3) - np.outer(self.normal, self.normal)
        impulse = -np.linalg.pinv(flat @ give @ flat, THIN, hermitian=True) @ slide
        impulse *= min(1.0, self.grip / max(float(np.linalg.norm(impulse)), 1e-300))
        for (nodes, sign, _), (r, spin) in zip(self.sides, spins):
            v[nodes] += sign * (impulse / mass[nodes].sum() + np.cross(spin @ impulse, r))

    def beside(self, pairs: Pairs) -> Pairs:
        """The pairs of the linear system with this one as the last."""
        ptr, node, coef, firm = pairs
        mine = self.stiffness * np.outer(self.normal, self.normal)
        return (np.append(ptr, ptr[-1] + len(self.node)), np.append(node, self.node), np.append(coef, self.coef),
                np.concatenate([firm, mine[None]]))


@njit(cache=True, nogil=True)
def meetings(ids, kind, gap, x, v, piece, h, fall, out, away):
    """Normals, summed, of relations that come within their gap in a step of ``h``, s, for each pair of pieces.

    x, v : (n, 3) skin points, m, and their speeds, m/s.  ``fall`` is the way gravity adds in a step, m.
    out : (pieces + 1, pieces + 1, 3), zeroed; by the piece of the first side and of the second, the ground last.
    away : (pieces + 1, pieces + 1), infinite; how far the nearest of these is from its gap, m.
    """
    w, apart = np.empty(4), np.empty(3)
    last = len(out) - 1
    for e in range(len(ids)):
        d, inside = closest(kind[e], x, ids, e, w, apart)
        if d <= 0.0:
            continue
        speed = 0.0
        for k in range(4):
            if ids[e, k] >= 0:
                for i in range(3):
                    speed += w[k] * apart[i] / d * v[ids[e, k], i]
        if d + h * speed - fall < gap[e]:
            a, b = piece[ids[e, 0]], piece[ids[e, 3]] if ids[e, 3] >= 0 else last
            away[a, b] = min(away[a, b], max(d - gap[e], 0.0))
            share = 1.0 if inside and kind[e] != EDGE_EDGE else BORDER
            for i in range(3):
                out[a, b, i] += share * apart[i] / d


@njit(cache=True, nogil=True)
def meeting_places(ids, kind, gap, x, piece, away, friction, ground_friction, out):
    """Where the first side of each pair of pieces is nearest to the second, m, and the friction coefficient there.

    x, away : see ``meetings``; friction : (n,) coefficients of points.
    out : (pieces + 1, pieces + 1, 5), zeroed: the place and the coefficient, summed, and of how many.
    """
    w, apart = np.empty(4), np.empty(3)
    last = len(out) - 1
    for e in range(len(ids)):
        a, b = piece[ids[e, 0]], piece[ids[e, 3]] if ids[e, 3] >= 0 else last
        if away[a, b] < np.inf and closest(kind[e], x, ids, e, w, apart)[0] < away[a, b] + (1.0 + NEAREST) * gap[e]:
            for k in range(2 if kind[e] == EDGE_EDGE else 1):
                for i in range(3):
                    out[a, b, i] += abs(w[k]) * x[ids[e, k], i]
            out[a, b, 3] += friction_between(kind[e], ids, e, w, friction, ground_friction)
            out[a, b, 4] += 1.0


def find_bounces(world: World, contacts: Contacts, x: np.ndarray, v: np.ndarray, h: float) -> list[Bounce]:
    """The bounces of a step of ``h``, s, that starts at nodes ``x`` (n, 3), m, with speeds ``v``, m/s."""
    points, pieces, touching = world.skin, len(world.gap), contacts.touching
    contacts.look(x, h * v)
    skin, speed = contacts.carry(x), np.zeros_like(points.points)
    carry(v, points.bind_node, points.bind_weight, speed)
    normals = np.zeros((pieces + 1, pieces + 1, 3))
    away, places = np.full(normals.shape[:2], np.inf), np.zeros((*normals.shape[:2], 5))
    meetings(touching.ids, touching.kind, touching.gap, skin, speed, points.piece, h,
             h * h * float(np.max(_pull(world), initial=0.0)), normals, away)
    if (away < np.inf).any():
        meeting_places(touching.ids, touching.kind, touching.gap, skin, points.piece, away, world.friction,
                       world.ground_friction, places)
    balls = np.append(world.of_balls, False)        # they have no centre in common that could be thrown back
    normals[balls], normals[:, balls] = 0.0, 0.0
    speeds, pull = np.zeros((pieces + 1, 3)), np.zeros(pieces + 1)
    mass = np.add.reduceat(world.mass, world.first_node[:-1])
    speeds[: world.bodies] = np.add.reduceat(world.mass[:, None] * v, world.first_node[:-1]) / mass[:, None]
    pull[: world.bodies] = _pull(world)
    found = []
    for a, b in zip(*np.nonzero(normals.any(axis=2))):
        share = max(world.bounce[a], world.bounce[b] if b < pieces else -1.0)
        least = LEAST_STEPS * max(pull[a], pull[b]) * h
        if share < 0.0 and world.firm[a] and world.firm[b]:
            share, least = OF_RIGID, max(HOP, least)
        length = float(np.linalg.norm(normals[a, b]))
        closing = float(normals[a, b] @ (speeds[b] - speeds[a])) / max(length, 1e-300)
        if a != b and share >= 0.0 and length > 1e-9 and closing > least:
            found += _between(world, a, b, normals[a, b] / length, places[a, b, :4] / max(places[a, b, 4], 1.0),
                              away[a, b], x, h, share, closing)
    return found


def _between(world: World, a: int, b: int, normal: np.ndarray, place: np.ndarray, away: float, x: np.ndarray,
             h: float, share: float, closing: float) -> list[Bounce]:
    """The bounce of two pieces ``away``, m, from touching, whose centres close at so many m/s.

    place : (4,) where they meet, m, and the friction coefficient there.
    """
    nodes, coefs, per_mass, sides, inverse_mass = [], [], [], [], 0.0
    for piece, sign in ((a, 1.0), (b, -1.0)):
        if piece < world.bodies:
            mine = slice(*world.first_node[piece : piece + 2])
            weights = world.mass[mine] / world.mass[mine].sum()
            gives = 0.0 if world.firm[piece] == LED else 1.0 / world.mass[mine].sum()
            nodes.append(np.arange(mine.start, mine.stop))
            coefs.append(sign * weights)
            per_mass.append(np.full(len(weights), sign * gives))
            inverse_mass += gives
            if gives:
                sides.append((mine, sign, place[:3] - weights @ x[mine]))
    if not inverse_mass:
        return []
    target = share * max(h * closing - away, 0.0) - away
    return [Bounce((a, b), np.concatenate(nodes), np.concatenate(coefs), normal, np.concatenate(per_mass),
                   1.0 / inverse_mass, FIRMNESS / (inverse_mass * h * h), target, share * closing,
                   place[3] * (1.0 + share) * closing / inverse_mass, sides)]


def _pull(world: World) -> np.ndarray:
    """What pulls at each solid (solids,), m/s², either way."""
    return np.abs(world.gravity * world.weight)
