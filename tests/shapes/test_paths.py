"""Lines along edges: no longer than they have to be, wherever they have to go, and found once."""

import numpy as np
import pytest
from scipy.sparse import csr_array
from scipy.sparse.csgraph import dijkstra

from rubberquince.shapes import primitives
from rubberquince.shapes.paths import ASIDE, Paths
from rubberquince.shapes.polymesh import edges_of


def horseshoe():
    """A flat strip that goes round from one end to beside it."""
    strip = primitives.sheet(60, 6)
    angle, out = 2.9 * (2.0 * strip.points[:, 0]), 0.5 + 0.4 * strip.points[:, 2]
    return np.stack([np.sin(angle) * out, 0.0 * out, np.cos(angle) * out], axis=1), strip.triangles


def uneven_ball():
    ball = primitives.sphere(40, 24)
    return ball.points + np.random.default_rng(4).normal(0.0, 0.004, ball.points.shape), ball.triangles


def least_cost(points, triangles, a, b):
    """What the way from a to b costs that costs least, of all."""
    edges = edges_of(triangles)
    cost = edge_costs(points, edges, a, b)
    table = csr_array((cost, (edges[:, 0], edges[:, 1])), shape=(len(points),) * 2)
    return dijkstra(table, False, a)[b]


def edge_costs(points, edges, a, b):
    one, two, chord = points[edges[:, 0]], points[edges[:, 1]], points[b] - points[a]
    length = np.linalg.norm(chord)
    aside = np.linalg.norm(np.cross(0.5 * (one + two) - points[a], chord / length), axis=1)
    return np.linalg.norm(two - one, axis=1) * (1.0 + ASIDE * aside / length)


@pytest.mark.parametrize("make", [horseshoe, uneven_ball])
def test_a_way_costs_as_little_as_any(make):
    points, triangles = make()
    paths, chance = Paths(points, triangles), np.random.default_rng(2)
    ends = [(0, len(points) - 1), *(tuple(chance.choice(len(points), 2, replace=False)) for _ in range(12))]
    for a, b in ends:
        line = paths.through(points[[a, b]], False)
        assert (line[0], line[-1]) == (a, b) and len(set(line.tolist())) == len(line)
        steps = np.column_stack([line[:-1], line[1:]])
        known = {tuple(sorted(edge)) for edge in edges_of(triangles).tolist()}
        assert all(tuple(sorted(step)) in known for step in steps.tolist())
        assert edge_costs(points, steps, a, b).sum() == pytest.approx(least_cost(points, triangles, a, b), rel=1e-9)
        assert paths.through(points[[a, b]], False).tolist() == line.tolist()


def test_lines_close_leap_between_parts_and_may_be_of_one_point():
    points, triangles = uneven_ball()
    two = Paths(np.concatenate([points, points + 3.0]), np.concatenate([triangles, triangles + len(points)]))
    there = len(points) + 7
    assert two.through(np.array([points[5], points[7] + 3.0]), False).tolist() == [5, there]
    one = Paths(points, triangles)
    assert one.through(points[[9]], True).tolist() == [9]
    loop = one.through(points[[100, 500, 700]], True)
    assert loop[0] == 100 and loop[-1] != 100 and {500, 700} < set(loop.tolist())
