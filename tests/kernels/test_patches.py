"""Whatever comes close is found: against a search of everything with everything."""

from itertools import product

import numpy as np
import pytest

from bodies import JELLY, make_block_collider, make_solid
from rubberquince.kernels.distance import EDGE_EDGE, VERTEX_TRIANGLE, closest_of
from rubberquince.kernels.patches import PATCH
from rubberquince.kernels.trees import build_tree
from rubberquince.shapes import primitives
from rubberquince.solver.patches import Patches
from rubberquince.solver.specs import RunSpec, Touch
from rubberquince.solver.touching import Touching
from rubberquince.solver.world import World

GAP = 4e-3


def test_each_triangle_is_in_one_patch_of_a_few_neighbours():
    mesh = primitives.sphere(20, 10)
    centre = mesh.points[mesh.triangles].mean(axis=1)
    order, child, span = build_tree(centre, PATCH)
    leaves = span[child[:, 0] < 0]
    assert sorted(order.tolist()) == list(range(len(centre)))
    assert np.diff(leaves, axis=1).max() <= PATCH and np.diff(leaves, axis=1).sum() == len(centre)
    wide = [np.ptp(centre[order[lo:hi]], axis=0).max() for lo, hi in leaves]
    assert np.median(wide) < 0.5 * np.ptp(centre, axis=0).max()


def three_pieces():
    touch = Touch(GAP, 0.5)
    one = make_solid(primitives.sphere(12, 8), (0.08, 0.08, 0.08), 3, (0.0, 0.05, 0.0), JELLY, touch)
    two = make_solid(primitives.block((4, 3, 4)), (0.08, 0.05, 0.07), 2, (0.02, 0.1175, 0.01), JELLY, touch)
    shelf = make_block_collider((0.2, 0.02, 0.2), (0.05, -0.02, 0.0), touch=touch)
    return World(RunSpec([one, two], [shelf], ground=touch))


def every_relation(world):
    """All relations of different pieces, one of them moving: ids (k, 4) and kind (k,)."""
    skin, ids, kinds = world.skin, [], []
    edges = [skin.edges[np.unique(own[own >= 0])] for own in skin.owned_edge]
    points = [np.unique(t) for t in skin.triangles]
    for a, b in product(range(len(skin.triangles)), repeat=2):
        if a == b or min(a, b) >= world.bodies:
            continue
        p, t = np.meshgrid(points[a], np.arange(len(skin.triangles[b])), indexing="ij")
        ids.append(np.column_stack([p.ravel(), skin.triangles[b][t.ravel()]]))
        kinds.append(np.full(p.size, VERTEX_TRIANGLE, np.int8))
        if a < b:
            e, f = np.meshgrid(np.arange(len(edges[a])), np.arange(len(edges[b])), indexing="ij")
            ids.append(np.column_stack([edges[a][e.ravel()], edges[b][f.ravel()]]))
            kinds.append(np.full(e.size, EDGE_EDGE, np.int8))
    return np.concatenate(ids), np.concatenate(kinds)


def come_close(world, ids, kind, x, move):
    """Those that are within their gap somewhere on the way."""
    near = np.zeros(len(ids), bool)
    for share in np.linspace(0.0, 1.0, 9):
        near |= closest_of(ids, kind, x + share * move)[0] < GAP
    return {tuple(row) for row in ids[near].tolist()}


@pytest.mark.parametrize("fast, wobble", [(0.0, 2e-4), (0.08, 0.01)])
def test_all_that_comes_within_its_gap_is_found_over_many_steps(fast, wobble):
    world, rng = three_pieces(), np.random.default_rng(int(1e5 * fast))
    touching, (ids, kind) = Touching(world, Patches(world)), every_relation(world)
    x, moving = world.skin.points.copy(), world.skin.moving
    met = 0
    for step in range(4):
        touching.begin(x)
        here = x
        for _ in range(3):                                  # as Newton's steps within a substep
            move = np.zeros_like(x)
            move[:moving] = rng.normal(scale=wobble, size=(moving, 3))
            for body in range(world.bodies):
                move[world.skin.piece == body] += rng.normal(scale=fast, size=3)
            aside = move.copy()
            aside[:moving] += rng.normal(scale=wobble, size=(moving, 3))
            name = here.copy()
            for way in (move, aside):
                touching.look(name, here, way)
                found = {tuple(row) for row in touching.ids[touching.kind < 2].tolist()}
                close = come_close(world, ids, kind, here, way)
                assert close <= found
                met += len(close)
            low = here[:moving, 1] + np.minimum(0.0, move[:moving, 1]) < GAP
            assert set(np.flatnonzero(low).tolist()) <= set(touching.ids[touching.kind == 2, 0].tolist())
            here = here + rng.uniform() * move
        x = here if step % 2 else world.skin.points.copy()
    assert met > 50


def test_what_was_found_before_changes_nothing_that_touches():
    world, rng = three_pieces(), np.random.default_rng(3)
    x, moving = world.skin.points.copy(), world.skin.moving
    used, fresh = Touching(world, Patches(world)), Touching(world, Patches(world))
    for _ in range(5):
        move = np.zeros_like(x)
        move[:moving] = rng.normal(scale=4e-3, size=(moving, 3))
        used.begin(x)
        used.look(move, x, move)
        x = x + move
    for touching in (used, fresh):
        touching.begin(x)
        touching.look(x, x, 0.1 * move)
    near = [t.distance < t.gap for t in (used, fresh)]
    assert near[0].sum() > 20
    for name in ("ids", "kind", "gap", "distance"):
        np.testing.assert_array_equal(getattr(used, name)[near[0]], getattr(fresh, name)[near[1]])


def test_a_dense_round_skin_lists_nothing_of_itself_turns_and_is_found_when_it_folds():
    """A ball of 9,000 triangles on a few cells: in its own way it is nowhere, until its poles are pressed together."""
    solid = make_solid(primitives.sphere(96, 48), (0.2, 0.2, 0.2), 4, (0.0, 1.0, 0.0), JELLY, Touch(GAP, 0.5))
    world = World(RunSpec([solid], [], ground=None))
    touching, x = Touching(world, Patches(world)), world.skin.points.copy()
    for turn in np.linspace(0.0, 1.5, 7):
        c, s = np.cos(turn), np.sin(turn)
        turned = (x - (0.0, 1.0, 0.0)) @ np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]]) + (0.0, 1.0, 0.0)
        touching.begin(turned)
        touching.look(turned, turned)
        assert len(touching._pairs) < 20 and not len(touching.ids)
    dented = turned.copy()
    height = turned[:, 1] - 1.0
    dented[:, 1] = 1.0 + np.where(height > 0.0, -0.92 * np.abs(height), height)         # the upper half into the lower
    touching.look(turned, turned, dented - turned)
    upper = height > 0.02
    assert (upper[touching.ids].any(axis=1) & ~upper[touching.ids].all(axis=1)).sum() > 200


def test_the_two_sides_of_one_body_meet_and_neighbours_do_not():
    solid = make_solid(primitives.block((8, 2, 8)), (0.2, 0.05, 0.2), 2, (0.0, 1.0, 0.0), JELLY, Touch(GAP, 0.5))
    world = World(RunSpec([solid], [], ground=None))
    touching, x = Touching(world, Patches(world)), world.skin.points.copy()
    touching.begin(x)
    touching.look(x, x)
    assert not len(touching.ids)
    flat = x.copy()
    flat[:, 1] = 1.0 + 0.05 * (flat[:, 1] - 1.0)            # pressed to a twentieth of its height
    touching.look(x, x, flat - x)
    top = x[touching.ids][:, :, 1] > 1.02
    assert (top.any(axis=1) & ~top.all(axis=1)).sum() > 100


def within_one(world, x):
    """Relations of the skin with itself nearer than its gap at ``x`` that are far at rest: sets of what meets."""
    skin, near = world.skin, set()
    triangles, edges = skin.triangles[0], skin.edges
    for kind, ones, twos in ((VERTEX_TRIANGLE, np.arange(len(x))[:, None], triangles), (EDGE_EDGE, edges, edges)):
        e, f = np.meshgrid(np.arange(len(ones)), np.arange(len(twos)), indexing="ij")
        ids = np.ascontiguousarray(np.column_stack([ones[e.ravel()], twos[f.ravel()]]))
        width = ones.shape[1]
        ids = ids[~(ids[:, :width, None] == ids[:, None, width:]).any(axis=(1, 2))]
        kinds = np.full(len(ids), kind, np.int8)
        far = closest_of(ids, kinds, skin.points)[0] > 4.0 * world.carriers[0].near
        close = closest_of(ids[far], kinds[far], x)[0] < GAP
        near |= {sides(row, kind) for row in ids[far][close].tolist()}
    return near


def sides(row, kind):
    first = 1 if kind == VERTEX_TRIANGLE else 2
    return frozenset([frozenset(row[:first]), frozenset(row[first:])])


def test_all_that_meets_is_found_where_a_bar_is_bent_until_its_ends_face_each_other():
    solid = make_solid(primitives.block((30, 3, 3)), (0.6, 0.06, 0.06), 2, (0.0, 0.0, 0.0), JELLY, Touch(GAP, 0.5))
    world = World(RunSpec([solid], [], ground=None))
    touching, straight = Touching(world, Patches(world)), world.skin.points.copy()

    def bent(share):
        turn = 2.0 * np.pi * share
        angle, radius = turn * straight[:, 0] / 0.6, 0.6 / turn - straight[:, 1]
        return np.column_stack([radius * np.sin(angle), 0.6 / turn - radius * np.cos(angle), straight[:, 2]])

    open_ring, closed = bent(0.97), bent(0.9955)
    touching.begin(open_ring)
    touching.look(open_ring, open_ring, closed - open_ring)
    touching.begin(closed)
    touching.look(closed, closed)
    near = within_one(world, closed)
    found = {sides(row, kind) for row, kind in zip(touching.ids.tolist(), touching.kind)}
    assert len(near) > 40 and near <= found
    assert closest_of(touching.ids, touching.kind, straight)[0].min() > 0.5 * world.carriers[0].near
