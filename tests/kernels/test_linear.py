"""The linear solver against a dense one, with contact pairs and held nodes."""

import numpy as np
import pytest

from bodies import make_solid
from rubberquince.shapes import primitives
from rubberquince.solver.specs import RunSpec
from rubberquince.solver.system import ElasticSystem
from rubberquince.solver.world import World


@pytest.fixture(scope="module")
def system():
    def held(nodes):
        return nodes[:, 1] < nodes[:, 1].min() + 1e-9

    world = World(RunSpec([make_solid(primitives.block((3, 3, 3)), (0.1, 0.1, 0.1), 3, held=held)], []))
    made = ElasticSystem(world)
    return world, made


def dense(world, system, stretch, inertia):
    n = len(world.mass)
    matrix = np.zeros((n, 3, n, 3))
    pattern = world.pattern
    for row in range(n):
        for k in range(int(pattern.row_ptr[row]), int(pattern.row_ptr[row + 1])):
            matrix[row, :, int(pattern.col[k])] += system.blocks[k].reshape(3, 3) * stretch[row]
        matrix[row, :, row] += inertia[row] * np.eye(3)
    return matrix.reshape(3 * n, 3 * n)


def pairs_of(world, count):
    """Some contact rows over two nodes: firm along a normal, less so across it."""
    rng = np.random.default_rng(7)
    node = rng.choice(len(world.mass), size=2 * count).astype(np.int64)
    normal = rng.normal(size=(count, 3))
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    coef = np.tile([0.7, 0.3], count)
    along = normal[:, :, None] * normal[:, None, :]
    return np.arange(0, 2 * count + 1, 2), node, coef, 900.0 * along + 300.0 * (np.eye(3) - along)


def add_pairs(matrix, pairs):
    ptr, node, coef, firm = pairs
    for e in range(len(firm)):
        row = np.zeros((3, len(matrix)))
        for k in range(ptr[e], ptr[e + 1]):
            row[:, 3 * node[k]:3 * node[k] + 3] += coef[k] * np.eye(3)
        matrix += row.T @ firm[e] @ row
    return matrix


def test_product_matches_the_dense_matrix(system):
    world, made = system
    stretch, inertia = np.full(len(world.mass), 1.3), world.mass * 1e4
    p = np.random.default_rng(0).normal(size=world.start.shape)
    expected = dense(world, made, stretch, inertia) @ p.reshape(-1)
    assert np.abs(made.product(stretch, inertia, p).reshape(-1) - expected).max() < 1e-5 * np.abs(expected).max()


@pytest.mark.parametrize("contacts", [0, 6])
def test_solution_matches_the_dense_one(system, contacts):
    world, made = system
    stretch, inertia = np.full(len(world.mass), 1.1), world.mass * 2e3
    pairs = pairs_of(world, contacts)
    force = np.random.default_rng(1).normal(size=world.start.shape)
    made.prepare(world.start, stretch, inertia)
    move, iterations = made.solve(world.start, force, stretch, inertia, pairs, 1e-6)
    matrix = add_pairs(dense(world, made, stretch, inertia), pairs)
    free = np.repeat(world.free > 0, 3)
    expected = np.zeros(len(matrix))
    expected[free] = np.linalg.solve(matrix[np.ix_(free, free)], force.reshape(-1)[free])
    assert np.abs(move.reshape(-1) - expected).max() < 1e-3 * np.abs(expected).max()
    assert (move[world.free == 0] == 0).all()
    assert 0 < iterations < 200
