"""Distances against brute force, the swept bound, the tree, and the gap energy's derivatives."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.kernels.contact import gap_energy
from rubberquince.kernels.distance import EDGE_EDGE, GROUND, VERTEX_TRIANGLE, closest, first_hit
from rubberquince.kernels.straying import keep_shape, laid_back, stay_near
from rubberquince.kernels.tree import build_tree, overlapping_triangles, refit, refit_cones
from rubberquince.shapes import primitives

FOUR = np.array([[0, 1, 2, 3]])
seeds = st.integers(0, 2 ** 32 - 1)


def distance(kind, x):
    w, v = np.empty(4), np.empty(3)
    d, _ = closest(kind, x, FOUR, 0, w, v)
    return d, w.copy()


def sampled_distance(kind, x, steps=120):
    """The least distance over a fine grid of points on both sides."""
    t = np.linspace(0, 1, steps)
    if kind == VERTEX_TRIANGLE:
        a, b = np.meshgrid(t, t)
        keep = a + b <= 1
        on = x[1] + a[keep][:, None] * (x[2] - x[1]) + b[keep][:, None] * (x[3] - x[1])
        return np.linalg.norm(on - x[0], axis=1).min()
    one = x[0] + t[:, None] * (x[1] - x[0])
    two = x[2] + t[:, None] * (x[3] - x[2])
    return np.linalg.norm(one[:, None] - two[None], axis=2).min()


@settings(max_examples=60, deadline=None)
@given(seed=seeds, kind=st.sampled_from([VERTEX_TRIANGLE, EDGE_EDGE]))
def test_closest_points_match_a_fine_grid(seed, kind):
    x = np.random.default_rng(seed).uniform(-1, 1, (4, 3))
    d, w = distance(kind, x)
    assert d <= sampled_distance(kind, x) + 1e-12
    assert d == pytest.approx(sampled_distance(kind, x), abs=0.03)
    assert np.linalg.norm(w @ x) == pytest.approx(d, rel=1e-9, abs=1e-12)
    assert w.sum() == pytest.approx(0, abs=1e-12)


def test_ground_is_the_height():
    d, _ = distance(GROUND, np.array([[3.0, 0.25, -2.0], [0, 0, 0], [0, 0, 0], [0, 0, 0]]))
    assert d == 0.25


@settings(max_examples=80, deadline=None)
@given(seed=seeds, kind=st.sampled_from([VERTEX_TRIANGLE, EDGE_EDGE]))
def test_a_swept_motion_never_comes_nearer_than_it_may(seed, kind):
    rng = np.random.default_rng(seed)
    x, move = rng.uniform(-1, 1, (4, 3)), rng.uniform(-2, 2, (4, 3))
    d, _ = distance(kind, x)
    keep = 0.3 * d
    t = min(first_hit(kind, x, move, FOUR, 0, keep, np.empty((4, 3)), FOUR, np.empty(4), np.empty(3)), 1.0)
    for part in np.linspace(0, 0.999 * t, 60):
        assert distance(kind, x + part * move)[0] >= keep * (1 - 1e-6)


@settings(max_examples=40, deadline=None)
@given(d=st.floats(1e-7, 2e-3), k=st.floats(0.1, 1e6))
def test_gap_energy_and_its_derivatives_agree(d, k):
    r, step = 1e-3, 1e-10
    _, slope, curve = gap_energy(d, r, k)
    ahead, behind = gap_energy(d + step, r, k), gap_energy(max(d - step, 1e-12), r, k)
    span = d + step - max(d - step, 1e-12)
    assert slope == pytest.approx((ahead[0] - behind[0]) / span, rel=1e-3, abs=1e-5 * k * r)
    assert curve == pytest.approx((ahead[1] - behind[1]) / span, rel=5e-2, abs=k * 1.01)
    assert slope <= 0 <= curve


@settings(max_examples=15, deadline=None)
@given(seed=seeds)
def test_the_cone_of_a_node_holds_all_normals_under_it(seed):
    rng = np.random.default_rng(seed)
    mesh = primitives.sphere(40, 20)
    points = mesh.points * rng.uniform(0.6, 1.0, 3) + rng.normal(scale=0.002, size=mesh.points.shape)
    triangles = mesh.triangles.astype(np.int64)
    order, child, span = build_tree(points[triangles].mean(axis=1))
    axis, spread = np.zeros((len(child), 3)), np.zeros(len(child))
    refit_cones(triangles, order, child, span, points, axis, spread)
    a, b, c = (points[triangles[:, k]] for k in range(3))
    normal = np.cross(b - a, c - a)
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    for node, (low, high) in enumerate(span):
        angle = np.arccos(np.clip(normal[order[low:high]] @ axis[node], -1, 1))
        assert (angle <= spread[node] + 1e-6).all()
    assert spread[0] > 1.5 and np.median(spread) < 1.5      # a whole ball faces everywhere, its parts do not


@settings(max_examples=15, deadline=None)
@given(seed=seeds)
def test_a_body_that_moves_as_a_whole_strays_only_in_space(seed):
    rng = np.random.default_rng(seed)
    centre, start = rng.normal(size=(12, 3)), np.array([0, 5, 12])
    radius = np.full(12, 0.1)
    turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    turned = np.where(np.arange(12)[:, None] < 5, centre @ turn.T + 3.0, centre)
    back = np.empty_like(centre)
    laid_back(turned, start, centre, back)
    np.testing.assert_allclose(back, centre, atol=1e-9)
    assert keep_shape(turned, start, centre, radius) and not stay_near(turned, centre, radius)
    turned[0] += 0.5
    assert not keep_shape(turned, start, centre, radius)
    assert stay_near(centre + 0.05, centre, radius)
    nowhere = np.full_like(centre, np.nan)
    assert not stay_near(centre, nowhere, radius) and not keep_shape(centre, start, nowhere, radius)


def test_gap_energy_is_smooth_where_its_pieces_meet():
    r, k = 1e-3, 50.0
    for seam in (0.5 * r, 1e-3 * r):
        below, above = gap_energy(seam * (1 - 1e-9), r, k), gap_energy(seam * (1 + 1e-9), r, k)
        assert below == pytest.approx(above, rel=1e-6)
    assert gap_energy(r, r, k) == (0.0, 0.0, 0.0)


@settings(max_examples=15, deadline=None)
@given(seed=seeds)
def test_tree_finds_just_the_pairs_whose_boxes_overlap(seed):
    rng = np.random.default_rng(seed)
    one, two = primitives.sphere(10, 5), primitives.block((3, 2, 3))
    points = np.concatenate([one.points, two.points + rng.uniform(-0.8, 0.8, 3)])
    tri = [one.triangles.astype(np.int64), two.triangles.astype(np.int64) + len(one.points)]
    low, high = points - 0.02, points + 0.02
    trees = []
    for t in tri:
        order, child, span = build_tree(points[t].mean(axis=1))
        box, axis = np.zeros((len(child), 6)), np.zeros((len(child), 3))
        refit(t, order, child, span, low, high, box)
        trees += [t, order, child, span, box, axis, np.zeros(len(child)), box, points[t].mean(axis=1)]
    found = overlapping_triangles(-1.0, 10 ** 9, *trees, low, high)
    lows, highs = [low[t].min(axis=1) for t in tri], [high[t].max(axis=1) for t in tri]
    expected = np.argwhere(((lows[0][:, None] <= highs[1]) & (lows[1] <= highs[0][:, None])).all(axis=2))
    assert {tuple(p) for p in found.tolist()} == {tuple(p) for p in expected.tolist()}
