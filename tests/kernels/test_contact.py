"""Distances against brute force, the swept bound, and the gap energy's derivatives."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from rubberquince.kernels.contact import gap_energy
from rubberquince.kernels.distance import EDGE_EDGE, GROUND, VERTEX_TRIANGLE, closest, closing, first_hit

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


@settings(max_examples=60, deadline=None)
@given(seed=seeds, kind=st.sampled_from([VERTEX_TRIANGLE, EDGE_EDGE]), far=st.floats(1.5, 300.0),
       left=st.floats(1.3, 5.0))
def test_what_comes_from_afar_is_no_hit_while_it_keeps_more_than_it_has_to(seed, kind, far, left):
    x = np.random.default_rng(seed).uniform(-1, 1, (4, 3))
    w, v = np.empty(4), np.empty(3)
    d, _ = closest(kind, x, FOUR, 0, w, v)
    keep = d / far
    one = np.arange(4)[:, None] < (1 if kind == VERTEX_TRIANGLE else 2)
    beside = np.cross(v, [0.3, -0.2, 0.9])                      # across the line between them, it slides
    ends = ((left, beside), (0.5, 0.0 * beside))                # at how much of what it keeps, at the least
    hits = [first_hit(kind, x, one * (slide - v / d * max(d - end * keep, 0.0)), FOUR, 0, keep, np.empty((4, 3)), FOUR,
                      np.empty(4), np.empty(3)) for end, slide in ends]
    assert hits[0] == 2.0 and hits[1] <= 1.0


@settings(max_examples=80, deadline=None)
@given(seed=seeds, kind=st.sampled_from([VERTEX_TRIANGLE, EDGE_EDGE]))
def test_sides_never_close_by_more_than_the_plane_between_them_lets(seed, kind):
    rng = np.random.default_rng(seed)
    x, move = rng.uniform(-1, 1, (4, 3)), rng.uniform(-1, 1, 3) + rng.uniform(-0.3, 0.3, (4, 3))
    w, v = np.empty(4), np.empty(3)
    d, _ = closest(kind, x, FOUR, 0, w, v)
    nearer = max(closing(kind, 0, 1, 2, 3, move, v, d), 0.0)
    assert all(distance(kind, x + part * move)[0] >= d - part * nearer - 1e-9 for part in np.linspace(0, 1, 30))


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


def test_gap_energy_is_smooth_where_its_pieces_meet():
    r, k = 1e-3, 50.0
    for seam in (0.5 * r, 1e-3 * r):
        below, above = gap_energy(seam * (1 - 1e-9), r, k), gap_energy(seam * (1 + 1e-9), r, k)
        assert below == pytest.approx(above, rel=1e-6)
    assert gap_energy(r, r, k) == (0.0, 0.0, 0.0)

