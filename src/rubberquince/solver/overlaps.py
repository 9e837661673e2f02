"""What starts inside of something else: bodies are drawn apart before they touch, and led out of what stands.

Which way is out is known at the start only, and which pairs there are: so whether a pair is still tangled follows from
where things are, and a run that is taken up again goes on the same way.
"""

from dataclasses import dataclass
from functools import partial
from itertools import combinations, product

import igl
import numpy as np

from rubberquince.distinct import distinct
from rubberquince.kernels.crossing import count_crossings
from rubberquince.shapes.polymesh import is_closed, volume
from rubberquince.solver.bounce import FIRMNESS, SIGNS, Draw
from rubberquince.solver.specs import DOWN, LedSpec, PelletSpec
from rubberquince.solver.world import LED, Skin, World

TRACE, SET_OFF = 1e-3, 0.9     # of the gap: what is so near to each other touches, and boxes are set so far apart
TIME = 0.1          # s, to draw apart what could be drawn apart at once
FARTHER = 3.0       # of how deep it is inside: so far a body leaves what stands as a whole, farther by its points
SHALLOW = 0.25      # of the diagonal of a body: the same where that is open; faces that are farther do not count
MOST_FACES = 8      # of each pair, whose normals may lead out


@dataclass(frozen=True)
class Straddle:
    """``body`` starts across the closed skin of ``piece``, which stands or is led, and is led out of it point by point,
    or, if most of it is ``within``, into it.
    """

    piece: int
    body: int
    within: bool


@dataclass(frozen=True, eq=False)
class Overlap:
    """Body ``one`` leaves piece ``two`` as a whole, along ``out`` (3,), at ``speed``, m/s."""

    one: int
    two: int
    out: np.ndarray
    speed: float


def find_overlaps(world: World) -> tuple[list[Overlap], list[Straddle]]:
    """What is inside of each other at the start: bodies with the shortest way out as wholes, and those that are in
    something that stands or is led, but know a way out only point by point.  What is held stays where it is.
    """
    skin, overlaps, straddles = world.skin, list[Overlap](), list[Straddle]()
    x, stands = skin.points, np.flatnonzero((world.firm[:-1] == LED) & ~world.of_balls).tolist()
    own = [k for k in range(world.bodies) if k not in stands and not world.of_balls[k]]
    loose = [k for k in own if world.free[slice(*world.first_node[k : k + 2])].all()]
    points = [x[skin.piece == k] for k in range(len(world.gap))]
    boxes = [(of.min(axis=0), of.max(axis=0)) for of in points]
    for a, b in [*combinations(own, 2), *product(loose, stands)]:
        if not world.meets[a, b] or not _boxes_meet(boxes[a], boxes[b]) or not _tangled(world, x, a, b):
            continue
        out = min(_ways_out(world, a, b), key=partial(_lack, world, x, a, b))
        far, gap, closed = max(_lack(world, x, a, b, out), 0.0), _gap(world, a, b), is_closed(skin.triangles[b])
        most = FARTHER * _depth(world, x, a, b) + gap if closed else SHALLOW * _diagonal(points[a])
        if b in own or far <= most:
            overlaps.append(Overlap(a, b, out, (far + gap) / TIME))
        elif closed:
            inside = points_inside(skin, x, b, np.array([a]))[skin.piece == a]
            straddles.append(Straddle(b, a, bool(inside.mean() > 0.5 and not world.outside_only[b])))
    return overlaps + _sunk(world, loose), straddles


def _sunk(world: World, loose: list[int]) -> list[Overlap]:
    """The ``loose`` bodies that start below the ground, which counts as one piece more."""
    ground, found = len(world.gap), []
    for a in loose:
        depth = -world.skin.points[world.skin.piece == a, 1].min()
        if world.spec.ground and world.meets[a, ground] and depth > 0.0:
            found.append(Overlap(a, ground, -DOWN, (depth + _gap(world, a, ground)) / TIME))
    return found


def drawn_apart(world: World, overlap: Overlap, skin: np.ndarray, h: float) -> Draw:
    """How a step of ``h``, s, that begins at skin points ``skin`` (n, 3), m, draws two pieces apart, as wholes.

    What falls on the other meanwhile is held up by it.
    """
    one, two, out = overlap.one, overlap.two, overlap.out
    way = _lack(world, skin, one, two, out) + _gap(world, one, two)
    nodes = [np.arange(*world.first_node[body : body + 2]) for body in (one, two) if body < world.bodies]
    free = [world.mass[of] * world.free[of] for of in nodes]
    mass = [part if part.any() else world.mass[of] for part, of in zip(free, nodes)]
    gives = sum(1.0 / part.sum() for part in free if part.any())
    coef = np.concatenate([sign * part / part.sum() for sign, part in zip(SIGNS, mass)])
    stiffness = FIRMNESS / (gives * h * h) if gives else 0.0
    return Draw((one, two), out, np.concatenate(nodes), coef, min(h * overlap.speed, max(way, 0.0)), stiffness, True)


def is_across(world: World, x: np.ndarray, straddle: Straddle) -> np.ndarray:
    """Which points (n,) bool of a body are on the wrong side of what it started across, at skin points ``x`` (n, 3)."""
    skin, k, body = world.skin, straddle.piece, straddle.body
    wrong = points_inside(skin, x, k, np.array([body]))
    return (skin.piece == body) & ~wrong if straddle.within else wrong


def parted(world: World) -> np.ndarray:
    """Nodes (n, 3), m, at the start, with bodies that just touch another's box set off by about their gap.

    What lies exactly on another has no side to be pushed to, and friction would hold it there.
    """
    start, skin = world.start.copy(), world.skin
    boxes = [(skin.points[skin.piece == k].min(axis=0), skin.points[skin.piece == k].max(axis=0))
             for k in range(len(world.gap))]
    fixed = np.array([(world.free[world.node_body == k] == 0.0).any() or world.of_balls[k]
                      for k in range(world.bodies)], bool)
    settled = [k for k in range(len(boxes)) if k >= world.bodies or fixed[k]]
    moved = np.zeros((len(boxes), 3))
    for k in sorted(np.flatnonzero(~fixed), key=lambda k: float(boxes[k][0][1])):      # the upper one makes way
        for other in settled:
            gap = max(world.gap[k], world.gap[other])
            beyond, before = boxes[k][0] - boxes[other][1], boxes[other][0] - boxes[k][1]
            apart, sign = np.maximum(beyond, before), np.where(beyond >= before, 1.0, -1.0)
            axis = int(apart.argmax())
            if world.meets[k, other] and abs(apart[axis]) < TRACE * gap:
                way = moved[other, axis] + sign[axis] * SET_OFF * gap
                moved[k, axis] = sign[axis] * max(sign[axis] * moved[k, axis], sign[axis] * way)
        settled.append(int(k))
        start[world.node_body == k] += moved[k]
    return start


def still_tangled(world: World, overlaps: list[Overlap], x: np.ndarray) -> list[Overlap]:
    """Those of which one is still inside the other at skin points ``x`` (n, 3), m."""
    return [o for o in overlaps if _lack(world, x, o.one, o.two, o.out) > -TRACE * _gap(world, o.one, o.two)
            and _tangled(world, x, o.one, o.two)]


def points_inside(skin: Skin, x: np.ndarray, k: int, pieces: np.ndarray) -> np.ndarray:
    """Which points (n,) bool of ``pieces`` are inside closed piece ``k``, at skin points ``x`` (n, 3)."""
    mine, inside = x[skin.piece == k], np.zeros(len(x), bool)
    near = np.flatnonzero(((x > mine.min(axis=0)) & (x < mine.max(axis=0))).all(axis=1) & np.isin(skin.piece, pieces))
    if len(near):
        winding = igl.fast_winding_number(x, skin.triangles[k], np.ascontiguousarray(x[near]))
        inside[near[np.abs(winding) > 0.5]] = True
    return inside


def is_tangled_in_itself(skin: Skin, x: np.ndarray, k: int) -> bool:
    """Does piece ``k`` pass through itself, or is it turned inside out as a whole, at skin points ``x`` (n, 3), m?"""
    return volume(x, skin.triangles[k]) < 0.0 or count_crossings(x, edges_of_piece(skin, k), skin.triangles[k], 1) > 0


def edges_of_piece(skin: Skin, k: int) -> np.ndarray:
    """The edges (e, 2) of piece ``k``."""
    own = skin.owned_edge[k]
    return skin.edges[distinct(own[own >= 0])]


def _boxes_meet(one: tuple[np.ndarray, np.ndarray], two: tuple[np.ndarray, np.ndarray]) -> bool:
    """Have two boxes, each its least and its greatest corner, a place in common?"""
    return bool((one[0] < two[1]).all() and (two[0] < one[1]).all())


def _gap(world: World, a: int, b: int) -> float:
    """The gap, m, of body ``a`` and piece ``b``, or the ground."""
    ground = np.max(world.spec.ground.gap) if world.spec.ground else 0.0
    return float(max(world.gap[a], world.gap[b] if b < len(world.gap) else ground))


def _depth(world: World, x: np.ndarray, a: int, b: int) -> float:
    """How deep, m, the deepest point of body ``a`` or piece ``b`` is in the other, at skin points ``x`` (n, 3)."""
    deepest, skin = 0.0, world.skin
    for one, two in ((a, b), (b, a)):
        inside = points_inside(skin, x, two, np.array([one])) if is_closed(skin.triangles[two]) else np.zeros(0, bool)
        if inside.any():
            squared = igl.point_mesh_squared_distance(np.ascontiguousarray(x[inside]), x, skin.triangles[two])[0]
            deepest = max(deepest, float(np.sqrt(squared.max())))
    return deepest


def _diagonal(points: np.ndarray) -> float:
    """Of the box of ``points`` (n, 3), m."""
    return float(np.linalg.norm(np.ptp(points, axis=0)))


def _faces_near(world: World, x: np.ndarray, k: int, other: int, far: float = 0.0) -> np.ndarray:
    """The triangles (t, 3) of piece ``k`` that the box of the ``other`` meets, or is nearer to than ``far``, m."""
    triangles, its = world.skin.triangles[k], x[world.skin.piece == other]
    corners = x[triangles]
    return triangles[((corners.min(axis=1) <= its.max(axis=0) + far) &
                      (corners.max(axis=1) >= its.min(axis=0) - far)).all(axis=1)]


def _ways_out(world: World, a: int, b: int) -> list[np.ndarray]:
    """Directions (3,) in which body ``a`` may leave piece ``b``: along axes, across the largest faces and away."""
    x, specs = world.skin.points, world.spec.bodies
    normals = np.concatenate([np.cross(*(x[tri[:, k]] - x[tri[:, 0]] for k in (1, 2)))
                              for tri in (_faces_near(world, x, a, b), _faces_near(world, x, b, a))])
    size = np.linalg.norm(normals, axis=1)
    largest = np.argsort(-size, kind="stable")[:MOST_FACES]
    between = x[world.skin.piece == a].mean(axis=0) - x[world.skin.piece == b].mean(axis=0)
    ways = [*np.eye(3), *(normals[largest] / np.maximum(size[largest, None], 1e-300)), between]
    for body in (specs[k] for k in (a, b) if k < len(specs)):
        if not isinstance(body, LedSpec | PelletSpec):
            ways += [*body.rotation.T]
    lengths = [np.linalg.norm(way) for way in ways]
    ways = [way / length for way, length in zip(ways, lengths) if length > 1e-6]
    return [*ways, *(-way for way in ways)]


def _lack(world: World, x: np.ndarray, a: int, b: int, out: np.ndarray) -> float:
    """How far, m, body ``a`` has to go along ``out`` (3,) until a plane parts it from ``b``, at skin points ``x``.

    Of what stands or is led only faces that it could leave as a whole count: it may be in a bowl.
    """
    mine, its = x[world.skin.piece == a], x[world.skin.piece == b]
    if b == len(world.gap):
        return float(-mine[:, 1].min())
    if world.firm[b] == LED:
        faces = _faces_near(world, x, b, a, SHALLOW * _diagonal(mine))
        its = x[faces.reshape(-1)] if len(faces) else its
    return float((its @ out).max() - (mine @ out).min())


def _tangled(world: World, x: np.ndarray, a: int, b: int) -> bool:
    """Does body ``a`` pass through piece ``b``, or touch it so closely that nothing says from which side?

    Filled ones must not be in each other; in a shell, and in what stands, one may.
    """
    skin, trace = world.skin, TRACE * _gap(world, a, b)
    if b == len(world.gap):
        return bool(x[skin.piece == a, 1].min() < 0.0)
    filled = all(k < world.bodies and world.carriers[k].filled and world.firm[k] != LED for k in (a, b))
    if filled and any(points_inside(skin, x, one, np.array([two])).any() for one, two in ((a, b), (b, a))):
        return True
    for one, two in ((a, b), (b, a)):
        faces = _faces_near(world, x, two, one, trace)
        if len(faces) and (_is_near(x[skin.piece == one], x, faces, trace)
                           or count_crossings(x, edges_of_piece(skin, one), faces, 1)):
            return True
    return False


def _is_near(points: np.ndarray, x: np.ndarray, faces: np.ndarray, far: float) -> bool:
    """Is one of ``points`` (k, 3) nearer than ``far``, m, to ``faces`` (t, 3) of skin points ``x`` (n, 3)?"""
    its = x[faces.reshape(-1)]
    here = ((points > its.min(axis=0) - far) & (points < its.max(axis=0) + far)).all(axis=1)
    return bool(here.any()) and bool(
        igl.point_mesh_squared_distance(np.ascontiguousarray(points[here]), x, faces)[0].min() < far * far)
