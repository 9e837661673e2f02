"""Contact of skins: lists of close relations, the energy of the gap, and what Newton needs of it.

The energy of a relation at distance d below its gap r is quadratic at first and turns into a barrier::

    K/2 (r - d)²                     r/2 <= d < r
    K r²/8 - (K r²/4) ln(2d/r)       d < r/2          (twice continuously differentiable at r/2)

Below the ground, where only a start can be, and inside a collider that pushes outwards, a steady push
K r / 4 leads out without a leap.

Its Hessian is taken as E'' n nᵀ, without the curvature of the distance, so it stays positive.
"""

import numpy as np
from numba import njit, uint64

from rubberquince.kernels import LEAN
from rubberquince.kernels.distance import EDGE_EDGE, GROUND, closest

BORDER = 0.25       # of the gap: how near what need not push comes before it does
PASSES, LEVEL = 0.9, 0.999      # of how near a point is to a face: so near its other relations pass; what is as near
MOST_LAYERS = 16    # of what is thin, through which what presses is passed on
FLOOR = 1e-3        # of the gap: below it the barrier goes on as its own parabola, so it stays finite
CARRIED = 4.0       # of a slow step: what goes to and fro with another faster than this does not rest on it


@njit(**LEAN)
def gap_energy(d, r, k):
    """(energy J, slope N, curvature N/m) of one relation at distance ``d``, gap ``r``, stiffness ``k``."""
    if d >= r:
        return 0.0, 0.0, 0.0
    if d >= 0.5 * r:
        return 0.5 * k * (r - d) * (r - d), -k * (r - d), k
    low = FLOOR * r
    c = 0.25 * k * r * r
    if d < 0.0:
        return c * (0.5 - np.log(2.0 * FLOOR) + 1.5) - 0.25 * k * r * d, -0.25 * k * r, 0.0
    e = max(d, low)
    energy, slope, curve = 0.5 * c - c * np.log(2.0 * e / r), -c / e, c / (e * e)
    if d < low:
        energy += slope * (d - low) + 0.5 * curve * (d - low) * (d - low)
        slope += curve * (d - low)
    return energy, slope, curve


@njit(**LEAN)
def carry(x, bind_node, bind_weight, out):
    """Skin points ``out`` (first len(bind_node) rows) carried by nodes ``x`` (n, 3)."""
    flat, skin, one, two, three = x.reshape(-1), out.reshape(-1), uint64(1), uint64(2), uint64(3)
    nodes, weights, width = bind_node.reshape(-1), bind_weight.reshape(-1), uint64(bind_node.shape[1])
    for p in range(uint64(len(bind_node))):
        s0, s1, s2 = 0.0, 0.0, 0.0
        for k in range(width * p, width * (p + one)):
            w, n = weights[k], three * uint64(nodes[k])
            s0, s1, s2 = s0 + w * flat[n], s1 + w * flat[n + one], s2 + w * flat[n + two]
        skin[three * p], skin[three * p + one], skin[three * p + two] = s0, s1, s2


@njit(**LEAN)
def carry_changed(x, before, first_node, first_point, bind_node, bind_weight, out):
    """The same, where ``out`` is that of nodes ``before`` (n, 3): bodies none of whose nodes differ stay as they are.

    Body k has the nodes from ``first_node[k]`` and the points from ``first_point[k]`` on.
    """
    for k in range(len(first_node) - 1):
        same = True
        for n in range(first_node[k], first_node[k + 1]):
            if x[n, 0] != before[n, 0] or x[n, 1] != before[n, 1] or x[n, 2] != before[n, 2]:
                same = False
                break
        if not same:
            lo, hi = first_point[k], first_point[k + 1]
            carry(x, bind_node[lo:hi], bind_weight[lo:hi], out[lo:hi])


@njit(cache=True, nogil=True)
def spread(of_points, first, bind_node, bind_weight, out):
    """Add what skin points from ``first`` on feel, (points, k), to the nodes that carry them, ``out`` (n, k)."""
    for p in range(len(of_points)):
        for c in range(bind_node.shape[1]):
            weight, i = bind_weight[first + p, c], bind_node[first + p, c]
            if weight != 0.0:
                for a in range(of_points.shape[1]):
                    out[i, a] += weight * of_points[p, a]


@njit(cache=True, nogil=True)
def stiffness_of(kind, ids, e, w, moving, point_stiffness):
    """Contact stiffness of a relation, N/m: that of its moving side, or the geometric mean of both.

    What goes where it is led has none of its own.
    """
    if kind == GROUND:
        return point_stiffness[ids[e, 0]]
    split = 2 if kind == EDGE_EDGE else 1
    first, second = 0.0, 0.0
    for k in range(4):
        if k < split:
            first += abs(w[k]) * point_stiffness[ids[e, k]]
        else:
            second += abs(w[k]) * point_stiffness[ids[e, k]]
    if ids[e, 0] >= moving or first == 0.0:
        return second
    if ids[e, 3] >= moving or second == 0.0:
        return first
    return np.sqrt(first * second)


@njit(cache=True, nogil=True)
def choose(ids, kind, gap, distance, inside, piece, moving):
    """Which relations (k,) bool push, by their ``distance``, m, and whether closest points are ``inside`` both parts;
    and how near (k,), m, each may come by sliding: one of its points may touch another face of that piece already.

    Where faces already touch, borders add nothing.  ``piece`` (points,) is that of each, the ``moving`` ones first.

    A vertex in touch with the inside of a triangle needs no push from that triangle's neighbours' borders,
    an edge between two such vertices none from crossing edges, a triangle of three such none from points
    of a still thing.  Dropping these keeps flat on flat from counting its support many times over.  They
    still bound the motion, so nothing can pass.
    """
    nearest, pushes, near = np.full(len(piece), np.inf), np.empty(len(ids), np.bool_), distance.copy()
    beside, other = np.full(len(piece), np.inf), np.full(len(piece), -1)
    for e in range(len(ids)):
        if kind[e] != EDGE_EDGE and inside[e] and distance[e] < gap[e]:
            p = ids[e, 0]
            nearest[p] = min(nearest[p], distance[e])
            if kind[e] != GROUND and distance[e] < beside[p]:
                beside[p], other[p] = distance[e], piece[ids[e, 3]]
    for e in range(len(ids)):
        p, q, r, s = ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3]
        if kind[e] == GROUND:
            pushes[e] = True
            continue
        if piece[p] != piece[s]:
            for k in range(4):
                point = ids[e, k]
                slides = other[point] == piece[p] + piece[s] - piece[point]
                if slides and beside[point] < LEVEL * distance[e]:
                    near[e] = min(near[e], PASSES * beside[point])
        if kind[e] == EDGE_EDGE:
            pushes[e] = (inside[e] and not (nearest[p] < gap[e] and nearest[q] < gap[e])
                         and not (nearest[r] < gap[e] and nearest[s] < gap[e]))
        elif p >= moving:
            pushes[e] = not (nearest[q] < gap[e] and nearest[r] < gap[e] and nearest[s] < gap[e])
        else:
            pushes[e] = inside[e] or distance[e] < nearest[p]
    return pushes, near


@njit(cache=True, nogil=True)
def pass_on_firmness(ids, kind, gap, distance, piece, moving, thin, by_area, by_point):
    """What is thin is as firm as the firmest that presses it on something else, through however many layers.

    ``by_area`` and ``by_point`` (points,) of solver.firmness are raised at the points of ``thin`` pieces (pieces,) bool
    that touch two others, or one and themselves, by relations nearer than their ``gap``, m.  Returns which points
    (moving,) bool that are.
    """
    other, between = np.full(moving, -2), np.zeros(moving, np.bool_)
    touching = np.flatnonzero(distance < gap)
    for e in touching:
        split = 2 if kind[e] == EDGE_EDGE else 1
        one, two = piece[ids[e, 0]], piece[ids[e, 3]] if ids[e, 3] >= 0 else -1
        for k in range(4):
            p, across = ids[e, k], two if k < split else one
            if 0 <= p < moving and thin[piece[p]]:
                between[p] |= other[p] not in (-2, across)
                other[p] = across
    if not between.any():
        return between
    for _ in range(MOST_LAYERS):
        firmer = False
        for e in touching:
            split = 2 if kind[e] == EDGE_EDGE else 1
            for k in range(4):
                p = ids[e, k]
                if not 0 <= p < moving or not between[p]:
                    continue
                for m in range(split, 4) if k < split else range(split):
                    q = ids[e, m]
                    if 0 <= q < moving and (by_area[q] > by_area[p] or by_point[q] > by_point[p]):
                        by_area[p], by_point[p] = max(by_area[p], by_area[q]), max(by_point[p], by_point[q])
                        firmer = True
        if not firmer:
            break
    return between


@njit(**LEAN)
def reach(pushes, gap):
    """At what distance a relation begins to push."""
    return gap if pushes else BORDER * gap


@njit(cache=True, nogil=True)
def contact_energy(ids, kind, gap, pushes, x, moving, point_stiffness):
    """Energy, J, of all relations that push at skin points ``x`` (n, 3)."""
    w, v = np.empty(4), np.empty(3)
    total = 0.0
    for e in range(len(ids)):
        d, _ = closest(kind[e], x, ids, e, w, v)
        r = reach(pushes[e], gap[e])
        if d < r:
            total += gap_energy(d, r, stiffness_of(kind[e], ids, e, w, moving, point_stiffness))[0]
    return total


@njit(**LEAN)
def friction_between(kind, ids, e, w, friction, ground_friction):
    """The friction coefficient of relation ``e``, the smaller of both sides', by ``friction`` of points."""
    split, one, other = 2 if kind == EDGE_EDGE else 1, 0.0, 0.0
    for c in range(split):
        one += abs(w[c]) * friction[ids[e, c]]
    for c in range(split, 4):
        other += abs(w[c]) * friction[ids[e, c]] if ids[e, c] >= 0 else 0.0
    return min(one, ground_friction if kind == GROUND else other)


@njit(cache=True, nogil=True)
def active_pairs(ids, kind, gap, pushes, x, moving, point_stiffness, bind_node, bind_weight, friction,
                 ground_friction):
    """Relations nearer than their gap, as pairs over nodes for the linear system.

    Returns pair_ptr, pair_node, pair_coef, normal (k, 3), curvature (k,) N/m, force (k,) N,
    grip (k,) N: the friction coefficient (the smaller of both sides', by ``friction`` of points) times the force, and
    which (k,) relations they are.
    """
    w, v = np.empty(4), np.empty(3)
    which, m = np.empty(len(ids), np.int64), 0
    for e in range(len(ids)):
        which[m] = e
        m += closest(kind[e], x, ids, e, w, v)[0] < reach(pushes[e], gap[e])
    which = which[:m].copy()
    width = bind_node.shape[1]
    ptr = np.zeros(m + 1, np.int64)
    node, coef = np.empty(m * 4 * width, np.int64), np.empty(m * 4 * width)
    normal, curve, force, grip = np.empty((m, 3)), np.empty(m), np.empty(m), np.empty(m)
    fill = 0
    for j in range(m):
        e = which[j]
        d, _ = closest(kind[e], x, ids, e, w, v)
        k = stiffness_of(kind[e], ids, e, w, moving, point_stiffness)
        _, slope, curve[j] = gap_energy(d, reach(pushes[e], gap[e]), k)
        force[j] = -slope
        grip[j] = friction_between(kind[e], ids, e, w, friction, ground_friction) * force[j]
        unit_normal(kind[e], x, ids, e, d, v, normal[j])
        fill = merged_nodes(ids, e, w, moving, bind_node, bind_weight, node, coef, fill)
        ptr[j + 1] = fill
    return ptr, node[:fill].copy(), coef[:fill].copy(), normal, curve, force, grip, which


@njit(cache=True, nogil=True)
def mark_met(ids, kind, gap, x, move, slow, piece, firm, moving, bind_node, bind_weight, met):
    """Mark in ``met`` (nodes,) bool the nodes of relations within their gap at skin points ``x`` (n, 3), m, whose sides
    neither near nor leave each other by more than ``slow``, m, in ``move`` (n, 3), m.

    Nor do they swing together, along what is between them, by more than CARRIED times that.  Two that are as ``firm``
    (pieces and the ground,) as 2 in all do not swing: see World.firm.  Two that are both firm are met however fast they
    are, and from the step that brings them within their gap: nothing in them could throw them back.
    """
    w, v = np.empty(4), np.empty(3)
    for e in range(len(ids)):
        d, _ = closest(kind[e], x, ids, e, w, v)
        one, other = firm[piece[ids[e, 0]]], firm[-1] if ids[e, 3] < 0 else firm[piece[ids[e, 3]]]
        both = one > 0 and other > 0
        if d >= gap[e] and not both:
            continue
        along, together = 0.0, 0.0
        for k in range(4):
            if ids[e, k] >= 0:
                part = 0.0
                for i in range(3):
                    part += w[k] * v[i] * move[ids[e, k], i]
                along += part
                together += part if w[k] > 0.0 else 0.0
        swings = one + other < 2 and abs(together) > CARRIED * slow * abs(d)
        if both:
            if d + along / max(abs(d), 1e-12) >= gap[e]:
                continue
        elif abs(along) > slow * abs(d) or swings:
            continue
        for k in range(4):
            p = ids[e, k]
            if 0 <= p < moving and w[k] != 0.0:
                for c in range(bind_node.shape[1]):
                    if bind_weight[p, c] != 0.0:
                        met[bind_node[p, c]] = True


@njit(**LEAN)
def unit_normal(kind, x, ids, e, d, v, out):
    """Direction from the second side to the first; where they coincide, across the parts."""
    if kind == GROUND:
        out[0], out[1], out[2] = 0.0, 1.0, 0.0
        return
    if abs(d) > 1e-12:
        for i in range(3):
            out[i] = v[i] / d
        return
    a, b, c, f = ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3]
    one, two = (a, b) if kind == EDGE_EDGE else (b, c)
    three = c if kind == EDGE_EDGE else b
    p0, p1, p2 = x[two, 0] - x[one, 0], x[two, 1] - x[one, 1], x[two, 2] - x[one, 2]
    q0, q1, q2 = x[f, 0] - x[three, 0], x[f, 1] - x[three, 1], x[f, 2] - x[three, 2]
    n0, n1, n2 = p1 * q2 - p2 * q1, p2 * q0 - p0 * q2, p0 * q1 - p1 * q0
    length = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    out[0], out[1], out[2] = 0.0, 1.0, 0.0
    if length > 0.0:
        out[0], out[1], out[2] = n0 / length, n1 / length, n2 / length


@njit(**LEAN)
def merged_nodes(ids, e, w, moving, bind_node, bind_weight, node, coef, fill):
    """Append the nodes of a relation with their summed weights from ``fill`` on; returns the new end."""
    start = fill
    for k in range(4):
        p = ids[e, k]
        if w[k] == 0.0 or p < 0 or p >= moving:
            continue
        for c in range(bind_node.shape[1]):
            value = w[k] * bind_weight[p, c]
            if value == 0.0:
                continue
            i = bind_node[p, c]
            at = start
            while at < fill and node[at] != i:
                at += 1
            if at == fill:
                node[at] = i
                coef[at] = 0.0
                fill += 1
            coef[at] += value
    return fill


@njit(cache=True, nogil=True)
def add_contact_force(ptr, node, coef, normal, force, out):
    """Gradient of the contact energy, -force · n, added to ``out`` (n, 3)."""
    for e in range(len(force)):
        for k in range(ptr[e], ptr[e + 1]):
            for i in range(3):
                out[node[k], i] -= coef[k] * force[e] * normal[e, i]


@njit(**LEAN)
def slide(ptr, node, coef, normal, e, move, u):
    """Tangential part ``u`` (3,) of pair ``e``'s motion under ``move`` (n, 3); returns its length."""
    for i in range(3):
        u[i] = 0.0
        for k in range(ptr[e], ptr[e + 1]):
            u[i] += coef[k] * move[node[k], i]
    along = u[0] * normal[e, 0] + u[1] * normal[e, 1] + u[2] * normal[e, 2]
    for i in range(3):
        u[i] -= along * normal[e, i]
    return np.sqrt(u[0] * u[0] + u[1] * u[1] + u[2] * u[2])


@njit(cache=True, nogil=True)
def friction_energy(ptr, node, coef, normal, grip, move, still):
    """Lagged smoothed Coulomb friction (Li et al. 2020, eq. 17), J; ``still``, m, is where it saturates."""
    u = np.empty(3)
    total = 0.0
    for e in range(len(grip)):
        if grip[e] > 0.0:
            s = slide(ptr, node, coef, normal, e, move, u)
            if s >= still:
                total += grip[e] * s
            else:
                total += grip[e] * (s * s / still - s * s * s / (3.0 * still * still) + still / 3.0)
    return total


@njit(cache=True, nogil=True)
def add_friction_force(ptr, node, coef, normal, grip, move, still, out, firm, slips):
    """Gradient of the friction energy added to ``out`` (n, 3), its secant stiffness to ``firm`` (pairs, 3, 3) N/m.

    With ``slips`` it is none along what slides, as the force there stays the same however far that goes: a secant
    lets a slide that should end go on by the share of the grip that is needed.
    """
    u = np.empty(3)
    for e in range(len(grip)):
        if grip[e] <= 0.0:
            continue
        s = slide(ptr, node, coef, normal, e, move, u)
        hold = grip[e] * ((2.0 - s / still) / still if s < still else 1.0 / s)
        for a in range(3):
            for b in range(3):
                firm[e, a, b] -= hold * normal[e, a] * normal[e, b]
            firm[e, a, a] += hold
        if slips and s >= still:
            for a in range(3):
                for b in range(3):
                    firm[e, a, b] -= hold * u[a] * u[b] / (s * s)
        for k in range(ptr[e], ptr[e + 1]):
            for i in range(3):
                out[node[k], i] += coef[k] * hold * u[i]


@njit(cache=True, nogil=True)
def add_sliding_friction(ptr, node, coef, normal, grip, move, least, out):
    """Friction, N, of what slides by ``least``, m, or more in ``move`` (n, 3), added to ``out`` (n, 3)."""
    u = np.empty(3)
    for e in range(len(grip)):
        s = slide(ptr, node, coef, normal, e, move, u) if grip[e] > 0.0 else 0.0
        if s >= least:
            for k in range(ptr[e], ptr[e + 1]):
                for i in range(3):
                    out[node[k], i] -= coef[k] * grip[e] * u[i] / s


@njit(cache=True, nogil=True)
def friction_left(ptr, node, coef, normal, grip, before, after, least):
    """By what part of all friction a secant stiffness at ``before`` is wrong at ``after``, moves (n, 3), m.

    It takes friction to grow as what slides goes farther, where it stays as it is.  ``least``, m, is the least slide.
    """
    u, wrong, total = np.empty(3), 0.0, 1e-300
    for e in range(len(grip)):
        s = max(slide(ptr, node, coef, normal, e, before, u), least)
        t = max(slide(ptr, node, coef, normal, e, after, u), least)
        wrong += grip[e] * min(abs(t - s) / s, 1.0)
        total += grip[e]
    return wrong / total


@njit(cache=True, nogil=True)
def stiffness_along(normal, curve):
    """curve n nᵀ (k, 3, 3), N/m, of pairs with ``normal`` (k, 3) and ``curve`` (k,)."""
    firm = np.empty((len(curve), 3, 3))
    for e in range(len(curve)):
        for a in range(3):
            for b in range(3):
                firm[e, a, b] = curve[e] * normal[e, a] * normal[e, b]
    return firm


@njit(cache=True, nogil=True)
def deepest(ids, kind, gap, x, piece, moving, out):
    """Largest part of a gap used up, 0 .. 1, for each piece into ``out``."""
    w, v = np.empty(4), np.empty(3)
    out[:] = 0.0
    for e in range(len(ids)):
        d, _ = closest(kind[e], x, ids, e, w, v)
        for side in (0, 3):
            p = ids[e, side]
            if 0 <= p < moving:
                out[piece[p]] = max(out[piece[p]], 1.0 - d / gap[e])
