"""What bounds and balances motion, each by itself: the limit, the choice of what pushes, friction, the balance."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.kernels.coarse import balance
from rubberquince.kernels.contact import add_friction_force, carry, choose, friction_energy
from rubberquince.kernels.distance import EDGE_EDGE, VERTEX_TRIANGLE, closest, closest_of
from rubberquince.kernels.limit import DEFLECTED, FREE, NEWTON, SAFE, is_safe, kept_distance, limit_motion

seeds = st.integers(0, 2 ** 32 - 1)
GAP = 0.1
TRIANGLE = [[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]


def two_bodies(height, move):
    """A vertex over a triangle, each point its own node; (ids, kind, gap, distance, skin, binding, body, move)."""
    x = np.array([[0.3, height, 0.3], *TRIANGLE])
    bind = np.zeros((4, 4), np.int64)
    bind[:] = np.arange(4)[:, None]
    weight = np.tile([1.0, 0.0, 0.0, 0.0], (4, 1))
    ids, kind = np.array([[0, 1, 2, 3]]), np.array([VERTEX_TRIANGLE], np.int8)
    moves = np.array([move, *np.zeros((3, 3))])
    return ids, kind, np.array([GAP]), np.array([height]), x, bind, weight, np.array([0, 1, 1, 1]), moves


def limited(stage, height, move, soft=(1.0, 1.0, 1.0, 1.0)):
    ids, kind, gap, distance, x, bind, weight, body, moves = two_bodies(height, move)
    skin_move = np.zeros_like(x)
    carry(moves, bind, weight, skin_move)
    result = limit_motion(stage, ids, kind, gap, distance, distance, np.array([[0.0, height, 0.0]]), np.ones(1, bool),
                          x, 4, bind, weight, body, np.array(soft), moves, skin_move)
    return result, moves, x + moves


def test_what_is_free_is_left_alone():
    result, move, _ = limited(NEWTON, 0.3, (0.0, -0.1, 0.0))
    assert result == FREE and np.array_equal(move[0], [0.0, -0.1, 0.0])


def test_what_would_cross_is_deflected_and_slides_on():
    result, move, x = limited(NEWTON, 0.08, (0.02, -0.3, 0.01))
    assert result == DEFLECTED
    height = x[0, 1] - (x[1:, 1] * [0.4, 0.3, 0.3]).sum()
    assert height == pytest.approx(kept_distance(NEWTON, 0.08, GAP), abs=1e-3 * GAP)
    assert move[0, [0, 2]] == pytest.approx([0.02, 0.01])       # along the face nothing is in the way


@pytest.mark.parametrize("soft, share", [((1.0, 0.0, 0.0, 0.0), 1.0), ((0.0, 1.0, 1.0, 1.0), 0.0)])
def test_who_is_softer_gives_way(soft, share):
    _, move, _ = limited(NEWTON, 0.08, (0.0, -0.3, 0.0), soft)
    given_way = move[0, 1] + 0.3
    assert (given_way > 0.2) == bool(share) and (np.abs(move[1:, 1]).max() > 0.1) != bool(share)


@settings(max_examples=200, deadline=None)
@given(seed=seeds)
def test_whatever_was_proposed_nothing_crosses(seed):
    rng = np.random.default_rng(seed)
    x = rng.uniform(-1, 1, (4, 3))
    kind = rng.choice([VERTEX_TRIANGLE, EDGE_EDGE])
    ids, w, v = np.array([[0, 1, 2, 3]]), np.empty(4), np.empty(3)
    d = closest(kind, x, ids, 0, w, v)[0]
    moves = rng.normal(scale=2.0, size=(4, 3))
    bind, weight = np.zeros((4, 4), np.int64) + np.arange(4)[:, None], np.tile([1.0, 0, 0, 0], (4, 1))
    skin_move = moves.copy()
    kinds, gap, distance = np.array([kind], np.int8), np.array([GAP]), np.array([d])
    body = np.array([0, 1, 1, 1] if kind == VERTEX_TRIANGLE else [0, 0, 1, 1])
    apart = v[None].copy()
    limit_motion(NEWTON, ids, kinds, gap, distance, distance, apart, np.ones(1, bool), x, 4, bind, weight, body,
                 np.ones(4), moves, skin_move)
    assert is_safe(ids, kinds, gap, distance, apart, x, 4, bind, 4, skin_move)
    least = kept_distance(SAFE, d, GAP)
    for share in np.linspace(0.0, 1.0, 40):
        assert closest(kind, x + share * moves, ids, 0, w, v)[0] >= least * (1 - 1e-6)


def test_a_vertex_on_a_face_needs_no_push_from_its_borders():
    x = np.array([[0.3, 0.05, 0.3], *TRIANGLE, [1.0, 0.0, 1.0], [0.3, 0.05, 5.0]])
    ids = np.array([[0, 1, 2, 3], [0, 2, 3, 4], [5, 2, 3, 4]])
    kind, gap = np.full(3, VERTEX_TRIANGLE, np.int8), np.full(3, 0.2)
    distance, inside, _ = closest_of(ids, kind, x)
    pushes, near = choose(ids, kind, gap, distance, inside, np.array([0, 1, 1, 1, 1, 2]), len(x))
    assert pushes.tolist() == [True, False, True]               # the one beside counts only where nothing is nearer
    assert distance[0] == pytest.approx(0.05) and distance[1] > distance[0]
    assert near == pytest.approx([0.05, 0.045, distance[2]])    # what slides past comes as near as the face already is


@settings(max_examples=40, deadline=None)
@given(seed=seeds)
def test_friction_is_the_slope_of_its_energy_and_never_more_than_its_grip(seed):
    rng = np.random.default_rng(seed)
    ptr, node = np.array([0, 4, 8]), np.arange(8)
    coef = np.concatenate([[1.0], -rng.dirichlet(np.ones(3)), [0.5, 0.5], -rng.dirichlet(np.ones(2))])
    normal = rng.normal(size=(2, 3))
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    grip, still = rng.uniform(0.1, 5.0, 2), 1e-3
    move = rng.normal(scale=still * rng.choice([0.1, 1.0, 30.0]), size=(8, 3))
    force, firm = np.zeros((8, 3)), np.zeros((2, 3, 3))
    add_friction_force(ptr, node, coef, normal, grip, move, still, force, firm, False)
    step = 1e-6 * still
    for i, a in [(0, 0), (2, 1), (5, 2), (7, 0)]:
        ahead, behind = move.copy(), move.copy()
        ahead[i, a] += step
        behind[i, a] -= step
        slope = (friction_energy(ptr, node, coef, normal, grip, ahead, still)
                 - friction_energy(ptr, node, coef, normal, grip, behind, still)) / (2 * step)
        assert force[i, a] == pytest.approx(slope, rel=1e-4, abs=1e-4)
    assert np.linalg.norm(force[0]) <= grip[0] * (1 + 1e-9)
    assert force[0] @ normal[0] == pytest.approx(0.0, abs=1e-9)
    assert friction_energy(ptr, node, coef, normal, grip, 0 * move, still) == pytest.approx(grip.sum() * still / 3)


@settings(max_examples=30, deadline=None)
@given(seed=seeds)
def test_the_balance_leaves_no_net_force_on_loose_bodies(seed):
    rng = np.random.default_rng(seed)
    body, first, loose = np.repeat([0, 1, 2], [5, 4, 1]), np.array([0, 5, 9, 10]), np.array([True, True, False])
    x, inertia, mass = rng.normal(size=(10, 3)), rng.uniform(0.5, 2.0, 10), rng.uniform(0.5, 2.0, 10)
    left, out = rng.normal(size=(10, 3)), np.zeros((10, 3))
    ptr, node, coef = np.array([0, 3, 5]), np.array([0, 1, 6, 2, 9]), np.array([0.4, 0.6, -1.0, 1.0, -1.0])
    root = rng.normal(size=(2, 3, 3))
    firm = 10.0 * root @ root.transpose(0, 2, 1)
    balance(left, x, mass, first, inertia, ptr, node, coef, firm, body, loose, out)
    assert (out[9] == 0).all()                                      # what is held stays
    for b in (0, 1):                                                # bodies move as a whole
        arm, move = (a[body == b] - a[body == b].mean(axis=0) for a in (x, out))
        turn = np.linalg.lstsq(np.concatenate([np.cross(np.eye(3), r).T for r in arm]), move.reshape(-1), rcond=None)[0]
        np.testing.assert_allclose(np.cross(turn, arm), move, atol=1e-9)
    net = left - inertia[:, None] * out
    for e in range(2):
        mine = slice(ptr[e], ptr[e + 1])
        np.subtract.at(net, node[mine], coef[mine, None] * (firm[e] @ (coef[mine] @ out[node[mine]])))
    for b in (0, 1):
        assert net[body == b].sum(axis=0) == pytest.approx(np.zeros(3), abs=1e-8)
        assert np.cross(x, net)[body == b].sum(axis=0) == pytest.approx(np.zeros(3), abs=1e-8)
