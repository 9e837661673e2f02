"""The motion limit: change a proposed motion as little as possible so that no skin crosses another.

Every relation that would come too near gets a row  n·Σ w(x + move) >= keep,  and the rows are met by
projected Gauss-Seidel with accumulated multipliers (Jean, Moreau 1992), in the metric of the diagonal
stiffness of the nodes.  Bodies are deflected, not frozen; sliding and falling together stay free.
"""

import numpy as np
from numba import njit

from rubberquince.kernels.contact import carry, merged_nodes, unit_normal
from rubberquince.kernels.distance import LEAVING, closest, closing, first_hit, motion_bound

PREDICTOR, NEWTON, SAFE = 0, 1, 2           # stages
FREE, DEFLECTED, HELD_BACK = 0, 1, 2        # how a motion had to be limited
ROUNDS, OF_PUSHES = 8, 2         # rounds at most, and those that look at what pushes first
LEAST = 0.03                        # of the gap: what is nearer may hardly come nearer still
SMALL = 0.5                         # of the distance
SWEEPS = 30
CLOSE_ENOUGH = (1e-2, 1e-3)         # of the gap, for predictor and Newton: a sweep changing less is the last


@njit(cache=True, nogil=True)
def kept_distance(stage, d, r):
    """How near a relation of gap ``r``, now at distance ``d``, m, may come in this stage of a step.

    What is below the ground (d < 0) may go no deeper; the final check allows 0.1 r for rounding.
    """
    if d < 0.0:
        return d - 0.1 * r if stage == SAFE else d
    if stage == PREDICTOR:
        return min(0.999 * r, 0.95 * d)
    if stage == NEWTON:
        return max(0.5 * min(d, r), min(0.99 * d, LEAST * r))
    return max(min(0.2 * d, 0.1 * r), min(0.9 * d, 0.5 * LEAST * r))


@njit(cache=True, nogil=True)
def _violations(stage, ids, kind, gap, distance, near, apart, among, x, move, moving, bind_node, listed, worst, weights,
                normals):
    """List relations ``among`` these that ``move`` would bring too near, with weights and normals at the hit.

    Of all those that hang on one node only the worst is listed: its neighbours mostly ask for the same,
    and many rows that say one thing are slow to meet.  ``worst`` (nodes,) is scratch.  Returns how many
    were listed anew.
    """
    worst[:] = -1
    lack = np.empty(len(ids))
    local, w, v, along = np.empty((4, 3)), np.empty(4), np.empty(3), np.empty(3)
    order = np.arange(4).reshape(1, 4)
    for e in range(len(ids)):
        if not among[e] or kind[e] == LEAVING:
            continue
        d = distance[e]
        keep = kept_distance(stage, near[e], gap[e])
        along[0], along[1], along[2] = apart[e, 0], apart[e, 1], apart[e, 2]
        nearer = closing(kind[e], ids[e, 0], ids[e, 1], ids[e, 2], ids[e, 3], move, along, d)
        if d - nearer >= keep:
            continue
        if stage != SAFE and motion_bound(kind[e], move, ids, e) < SMALL * d:       # too little to turn the normal
            closest(kind[e], x, ids, e, w, v)
            nearer = 0.0
            for k in range(4):
                if ids[e, k] >= 0:
                    for i in range(3):
                        nearer -= w[k] * v[i] * move[ids[e, k], i]
            if d - nearer / d >= keep:
                continue
        elif first_hit(kind[e], x, move, ids, e, keep, local, order, w, v) > 1.0:
            continue
        for k in range(4):
            weights[e, k] = w[k]
        length = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
        unit_normal(kind[e], x, ids, e, length, v, normals[e])
        lack[e] = keep
        for k in range(4):
            if ids[e, k] >= 0:
                for i in range(3):
                    lack[e] -= w[k] * normals[e, i] * (x[ids[e, k], i] + move[ids[e, k], i])
        node = bind_node[ids[e, 0] if ids[e, 0] < moving else ids[e, 3], 0]
        if worst[node] < 0 or lack[e] > lack[worst[node]]:
            worst[node] = e
    count = 0
    for e in worst:
        if e >= 0 and not listed[e]:
            listed[e] = True
            count += 1
    return count


@njit(cache=True, nogil=True)
def _project(stage, ids, gap, near, x, listed, weights, normals, moving, bind_node, bind_weight, compliance, known,
             move):
    """Projected Gauss-Seidel over the listed rows; ``move`` (nodes, 3) is changed in place.

    It starts from the multipliers ``known`` (relations,) of the round before, and leaves its own there.
    """
    rows = np.flatnonzero(listed)
    width = 4 * bind_node.shape[1]
    ptr = np.zeros(len(rows) + 1, np.int64)
    node, coef = np.empty(len(rows) * width, np.int64), np.empty(len(rows) * width)
    need, give, multiplier = np.empty(len(rows)), np.empty(len(rows)), known[rows]
    fill = 0
    for k in range(len(rows)):
        e = rows[k]
        fill = merged_nodes(ids, e, weights[e], moving, bind_node, bind_weight, node, coef, fill)
        ptr[k + 1] = fill
        now = 0.0
        for c in range(4):
            if ids[e, c] >= 0:
                for i in range(3):
                    now += weights[e, c] * normals[e, i] * x[ids[e, c], i]
        need[k] = min(kept_distance(stage, near[e], gap[e]) - now, 0.0)
        give[k] = 0.0
        for j in range(ptr[k], fill):
            give[k] += coef[j] * coef[j] * compliance[node[j]]
        for j in range(ptr[k], fill):
            for i in range(3):
                move[node[j], i] += multiplier[k] * coef[j] * compliance[node[j]] * normals[e, i]
    for sweep in range(SWEEPS):
        worst = 0.0
        for kk in range(len(rows)):
            k = kk if sweep % 2 == 0 else len(rows) - 1 - kk
            if give[k] <= 0.0:
                continue
            n = normals[rows[k]]
            have = 0.0
            for j in range(ptr[k], ptr[k + 1]):
                m = move[node[j]]
                have += coef[j] * (n[0] * m[0] + n[1] * m[1] + n[2] * m[2])
            change = max(-multiplier[k], (need[k] - have) / give[k])
            if change == 0.0:
                continue
            multiplier[k] += change
            worst = max(worst, abs(change) * give[k] / gap[rows[k]])
            for j in range(ptr[k], ptr[k + 1]):
                f = change * coef[j] * compliance[node[j]]
                for i in range(3):
                    move[node[j], i] += f * n[i]
        if worst < CLOSE_ENOUGH[stage]:
            break
    for k in range(len(rows)):
        known[rows[k]] = multiplier[k]


@njit(cache=True, nogil=True)
def is_safe(ids, kind, gap, distance, apart, x, moving, bind_node, nodes, skin_move):
    """True when the skin's motion ``skin_move`` (n, 3), m, from ``x`` brings no relation too near.

    ``nodes`` is how many nodes carry the skin.
    """
    m = len(ids)
    listed, worst = np.zeros(m, np.bool_), np.empty(nodes, np.int64)
    return _violations(SAFE, ids, kind, gap, distance, distance, apart, np.ones(m, np.bool_), x, skin_move, moving,
                       bind_node, listed, worst, np.empty((m, 4)), np.empty((m, 3))) == 0


@njit(cache=True, nogil=True)
def limit_motion(stage, ids, kind, gap, distance, near, apart, pushes, x, moving, bind_node, bind_weight, body,
                 compliance, move, skin_move):
    """Bound ``move`` (nodes, 3), m, in place so that no relation closes; returns how it had to.

    Relations that push (``pushes``) are met first, as they nearly always bound the others too.
    ``distance`` (relations,) is where they stand now, at skin points ``x``, ``near`` how near they may come by sliding,
    see kernels.contact.choose, and ``apart`` (relations, 3) the vector between their closest points.
    ``compliance`` (nodes,) is each node's compliance, ``body`` (nodes,) its body,
    ``skin_move`` (n, 3) the motion of the skin, kept up to date.
    FREE: nothing stood in the way.  DEFLECTED.  HELD_BACK: at least one body was, as a whole.
    """
    m = len(ids)
    if m == 0:
        return FREE
    listed, worst = np.zeros(m, np.bool_), np.empty(len(body), np.int64)
    weights, normals = np.empty((m, 4)), np.empty((m, 3))
    result = FREE
    wanted, everyone, known = move.copy(), np.ones(m, np.bool_), np.zeros(m)
    among, wide = pushes, False
    for turn in range(ROUNDS):
        if turn == OF_PUSHES:
            among, wide = everyone, True
        if _violations(stage, ids, kind, gap, distance, near, apart, among, x, skin_move, moving, bind_node, listed,
                       worst, weights, normals) == 0:
            if wide:
                break
            among, wide = everyone, True
            continue
        result = DEFLECTED
        move[:] = wanted
        _project(stage, ids, gap, near, x, listed, weights, normals, moving, bind_node, bind_weight, compliance,
                 known, move)
        carry(move, bind_node, bind_weight, skin_move)
    if result == FREE:
        return FREE
    shrink = np.ones(body.max() + 1)
    for attempt in range(14):
        listed[:] = False
        if _violations(SAFE, ids, kind, gap, distance, distance, apart, everyone, x, skin_move, moving, bind_node,
                       listed, worst, weights, normals) == 0:
            break
        result = HELD_BACK
        shrink[:] = 1.0
        for e in np.flatnonzero(listed):
            for k in range(4):
                p = ids[e, k]
                if 0 <= p < moving:
                    shrink[body[bind_node[p, 0]]] = 0.5 if attempt < 12 else 0.0
        for i in range(len(move)):
            for a in range(3):
                move[i, a] *= shrink[body[i]]
        carry(move, bind_node, bind_weight, skin_move)
    return result
