"""Matrices of 3 x 3 against LAPACK, and that what is passed over for its strain would not have flowed."""

import numpy as np
import pytest

from rubberquince.kernels.flow import most_strain
from rubberquince.kernels.matrices import congruent, find_axes, inverse_transpose, on_axes

RANDOM = np.random.default_rng(5)
TURN = np.linalg.qr(RANDOM.normal(size=(3, 3)))[0]
SYMMETRIC = [np.eye(3), np.zeros((3, 3)), np.diag([3.0, -1.0, 3.0]), TURN @ np.diag([1.0, 1.0, 2.0]) @ TURN.T,
             1e-9 * TURN @ np.diag([1.0, 2.0, 3.0]) @ TURN.T, np.full((3, 3), 7.0),
             *(m + m.T for m in RANDOM.normal(size=(20, 3, 3)))]


@pytest.mark.parametrize("a", SYMMETRIC)
def test_eigenvalues_and_axes(a):
    value, axes, back = np.empty(3), np.empty((3, 3)), np.empty((3, 3))
    find_axes(a.copy(), value, axes)
    size = max(np.abs(a).max(), 1e-300)
    assert np.allclose(np.sort(value), np.linalg.eigvalsh(a), atol=1e-13 * size)
    assert np.allclose(axes.T @ axes, np.eye(3), atol=1e-14)
    on_axes(value, axes, back)
    assert np.allclose(back, a, atol=1e-13 * size)


def test_products_and_inverses():
    out = np.empty((3, 3))
    for f, a in RANDOM.normal(size=(10, 2, 3, 3)):
        congruent(f, a, out)
        assert np.allclose(out, f @ a @ f.T)
        assert inverse_transpose(f, out) == pytest.approx(np.linalg.det(f))
        assert np.allclose(out, np.linalg.inv(f).T)


def test_the_bound_of_a_strain_is_never_below_it_and_near_it_where_it_is_small():
    for size in (1e-3, 0.01, 0.1, 0.3, 1.0):
        for m in RANDOM.normal(size=(50, 3, 3)):
            logs, axes = np.linalg.eigh(size * (m + m.T))
            strain = 0.5 * (logs - logs.mean())
            gamma = np.sqrt(2.0 / 3.0 * (strain @ strain))
            bound = most_strain((axes * np.exp(logs)) @ axes.T)
            assert bound >= gamma * (1.0 - 1e-9)
            assert size > 0.01 or bound < 1.2 * gamma
