"""Which bodies are about to meet in a step, and where."""

from collections.abc import Container

import numpy as np
from numba import njit
from scipy.optimize import nnls

from rubberquince.kernels.contact import carry, friction_between
from rubberquince.kernels.distance import EDGE_EDGE, closest
from rubberquince.solver.bounce import Bounce, Meeting, Side, along, bounce_of, hat
from rubberquince.solver.care import SOFT
from rubberquince.solver.contacts import Contacts
from rubberquince.solver.world import LED, RIGID, World

OF_RIGID = 0.2              # of rigid bodies without a number: they have nothing of their own that throws them back
HOP = 0.4                   # m/s: those that meet more slowly do not bounce without a number, as when they roll
BORDER = 1e-3               # share of edges in the normal of a meeting: theirs are tilted where faces meet flat
NEAREST = 0.5               # of a gap that what meets first may be farther away than the nearest
ANGLES = np.linspace(0.0, 2.0 * np.pi, 16, endpoint=False)     # in which the outermost of nearest places are looked for
LEVER = 0.4                 # of the radius of gyration: what is met farther from its centre turns, rather than rolls
SUM = 1e3                   # how strongly shares of places are held to come to one
MOST_LINKS = 12             # bodies in a row that pass on a blow within one step
MOST_BLOWS = 20             # for each pair that meets in a step
LEAST_STEPS = 4.0           # of gravity: what closes more slowly than it gains in so many steps may be at rest


@njit(cache=True, nogil=True)
def meetings(ids, kind, gap, x, v, piece, h, fall, out, away, closing):
    """Normals, summed, of relations that come within their gap in a step of ``h``, s, for each pair of pieces.

    x, v : (n, 3) skin points, m, and their speeds, m/s.  ``fall`` is the way gravity adds in a step, m.
    out : (pieces + 1, pieces + 1, 3), zeroed; by the two pieces, from the second to the first, the ground last.
    away : (pieces + 1, pieces + 1), infinite; how far the nearest of these is from its gap, m.
    closing : (pieces + 1, pieces + 1), zeroed; how fast the fastest of them closes, m/s.
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
            one, two = piece[ids[e, 0]], piece[ids[e, 3]] if ids[e, 3] >= 0 else last
            a, b = min(one, two), max(one, two)
            away[a, b], closing[a, b] = min(away[a, b], max(d - gap[e], 0.0)), max(closing[a, b], -speed)
            share = (1.0 if inside and kind[e] != EDGE_EDGE else BORDER) * (1.0 if a == one else -1.0)
            for i in range(3):
                out[a, b, i] += share * apart[i] / d


@njit(cache=True, nogil=True)
def meeting_places(ids, kind, gap, x, piece, away, friction, ground_friction):
    """Where the nearest relations of pairs of pieces are.

    x, away : see ``meetings``; friction : (n,) coefficients of points.
    Returns the number a · (pieces + 1) + b (k,) of each pair, the place on the first side (k, 3), m, and the friction
    coefficient there (k,).
    """
    pair, place, grip = np.empty(len(ids), np.int64), np.zeros((len(ids), 3)), np.empty(len(ids))
    w, apart = np.empty(4), np.empty(3)
    last, count = len(away) - 1, 0
    for e in range(len(ids)):
        one, two = piece[ids[e, 0]], piece[ids[e, 3]] if ids[e, 3] >= 0 else last
        a, b = min(one, two), max(one, two)
        if away[a, b] < np.inf and closest(kind[e], x, ids, e, w, apart)[0] < away[a, b] + (1.0 + NEAREST) * gap[e]:
            for k in range(2 if kind[e] == EDGE_EDGE else 1):
                for i in range(3):
                    place[count, i] += abs(w[k]) * x[ids[e, k], i]
            pair[count] = a * len(away) + b
            grip[count] = friction_between(kind[e], ids, e, w, friction, ground_friction)
            count += 1
    return pair[:count], place[:count], grip[:count]


def find_bounces(world: World, contacts: Contacts, x: np.ndarray, v: np.ndarray, own: np.ndarray,
                 light: np.ndarray, h: float) -> list[Bounce]:
    """The bounces of a step of ``h``, s, that starts at nodes ``x`` (n, 3), m, with speeds ``v``, m/s.

    own, light : (bodies,) what bodies throw themselves back with, without a number, and which of them do so from what
    stands alone; see Care.throws.
    What is struck may strike another within the step, as in a row of balls.
    """
    others = len(world.gap) + 1 - world.bodies
    own, light = np.append(own, np.full(others, np.nan)), np.append(light, np.zeros(others, bool))
    sides, known = _sides(world, own, x), dict[tuple[int, int], Meeting]()
    now, blows = v, np.zeros(0)
    for _ in range(MOST_LINKS):
        new = _meetings(world, contacts, x, now, own, light, h, sides, known)
        if not new:
            break
        known |= new
        now, blows = _after_blows(list(known.values()), v)
    return [bounce_of(m, v, now, blow, h) for m, blow in zip(known.values(), blows) if blow > 0.0]


def _after_blows(met: list[Meeting], v: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The speeds (n, 3) that ``v`` become by blows, the hardest first, until none closes; and their impulses, N s."""
    parts, gives = np.array([m.parts(v) for m in met]), along(met)
    blows, least = np.zeros(len(met)), np.array([m.least for m in met])
    for _ in range(MOST_BLOWS * len(met)):
        k = int(np.argmin(parts + least))
        if parts[k] >= -least[k]:
            break
        blow = -(1.0 + met[k].share) * parts[k] / gives[k, k]
        blows[k] += blow
        parts += gives[:, k] * blow
    now = v.copy()
    for m, blow in zip(met, blows):
        m.push(blow * m.normal, now)
    return now, blows


def _meetings(world: World, contacts: Contacts, x: np.ndarray, now: np.ndarray, own: np.ndarray, light: np.ndarray,
              h: float, sides: list[Side], known: Container[tuple[int, int]]) -> dict[tuple[int, int], Meeting]:
    """Those of a step from ``x`` (n, 3) on with speeds ``now`` (n, 3) that are not ``known``, by their pieces."""
    points, pieces, touching = contacts.near, len(world.gap), contacts.touching
    contacts.look(x, h * now)
    skin, speed = contacts.carry(x), np.zeros_like(points.points)
    carry(now, points.bind_node, points.bind_weight, speed)
    normals = np.zeros((pieces + 1, pieces + 1, 3))
    away, closing = np.full(normals.shape[:2], np.inf), np.zeros(normals.shape[:2])
    meetings(touching.ids, touching.kind, touching.gap, skin, speed, points.piece, h,
             h * h * float(np.max(_pull(world), initial=0.0)), normals, away, closing)
    own = np.where(light & _meets_what_moves(world, away), SOFT, own)
    balls = np.append(world.of_balls, False)        # they have no centre in common that could be thrown back
    normals[balls], normals[:, balls] = 0.0, 0.0
    speeds, pull = np.zeros((pieces + 1, 3)), np.append(_pull(world), np.zeros(pieces + 1 - world.bodies))
    mass = np.add.reduceat(world.mass, world.first_node[:-1])
    speeds[: world.bodies] = np.add.reduceat(world.mass[:, None] * now, world.first_node[:-1]) / mass[:, None]
    which, places, grips = meeting_places(touching.ids, touching.kind, touching.gap, skin, points.piece, away,
                                          points.friction, world.ground_friction)
    met = {}
    for a, b in zip(*map(np.ndarray.tolist, np.nonzero(normals.any(axis=2)))):
        share = max(world.bounce[a], world.bounce[b] if b < pieces else -1.0)
        least = LEAST_STEPS * max(pull[a], pull[b]) * h
        if share < 0.0:
            thrown = np.fmin(own[a], own[b])
            share, least = float(OF_RIGID if np.isnan(thrown) else thrown), max(HOP, least)
        length = float(np.linalg.norm(normals[a, b]))
        if a == b or (a, b) in known or share < 0.0 or length <= 1e-9 or closing[a, b] <= least:
            continue
        normal, here = normals[a, b] / length, which == a * (pieces + 1) + b
        mine = sides[a : a + 1] + sides[b : b + 1]
        if any(side.gives for side in mine):
            place = _place(places[here], normal, mine)
            arms = [place - side.centre for side in mine]
            if normal @ (speeds[b] - speeds[a]) > least or any(map(_is_lever, mine, arms, [normal] * 2)):
                met[a, b] = Meeting((a, b), normal, mine, arms, away[a, b], share, least, float(grips[here].mean()))
    return met


def _meets_what_moves(world: World, away: np.ndarray) -> np.ndarray:
    """Which pieces and the ground (pieces + 1,) bool are near another one that moves, by ``away``; see ``meetings``."""
    near = np.isfinite(away) | np.isfinite(away.T)
    np.fill_diagonal(near, False)
    return np.array((near & (world.firm != LED)).any(axis=1))


def _is_lever(side: Side, arm: np.ndarray, normal: np.ndarray) -> bool:
    """Does an impulse at the end of ``arm`` turn it much? Not what rolls over its corners."""
    turn = side.root @ (hat(arm) @ normal)
    return not side.gives or float(turn @ turn) * side.whole > LEVER ** 2


def _sides(world: World, own: np.ndarray, x: np.ndarray) -> list[Side]:
    """Those of all bodies with nodes at ``x`` (n, 3)."""
    sides = []
    for body in range(world.bodies):
        nodes = slice(*world.first_node[body : body + 2])
        firm = int(own[body] != SOFT) * RIGID if world.free[nodes].any() else LED
        sides.append(Side(nodes, firm, world.mass[nodes], x[nodes]))
    return sides


def _place(places: np.ndarray, normal: np.ndarray, sides: list[Side]) -> np.ndarray:
    """Of all ``places`` (k, 3), m, and those between them the one (3,) where an impulse turns ``sides`` least.

    What lies flat is not turned, what lands on a corner is.
    """
    across = np.cross(normal, np.eye(3)[np.argmin(np.abs(normal))])
    across = np.stack([across, np.cross(normal, across)])
    ways = np.column_stack([np.cos(ANGLES), np.sin(ANGLES)]) @ across
    outermost = places[np.unique(np.argmax(ways @ places.T, axis=1))]
    turn = np.concatenate([side.root @ ((outermost - side.centre) @ hat(normal)).T for side in sides if side.gives])
    turn /= max(np.abs(turn).max(), 1e-300)
    share, _ = nnls(np.vstack([turn, np.full(len(outermost), SUM)]), np.append(np.zeros(len(turn)), SUM))
    return np.array(share @ outermost / share.sum())


def _pull(world: World) -> np.ndarray:
    """What pulls at each solid (solids,), m/s², either way."""
    return np.abs(world.gravity * world.weight)
