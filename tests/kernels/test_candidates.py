"""What is known of pairs stays with them, however often some are searched anew and pairs come and go."""

import time
from itertools import pairwise

import numpy as np

from rubberquince.solver.candidates import Candidates
from rubberquince.solver.sharing import PARTS, shared


def relations_of(candidates):
    """The first points of the relations of each pair."""
    return [candidates.ids[lo:hi, 0].tolist() for lo, hi in zip(candidates.begin, candidates.end)]


def test_each_pair_has_the_relations_it_was_last_given_while_pairs_come_and_go():
    random = np.random.default_rng(3)
    candidates, known, count = Candidates(), [], 0
    for _ in range(200):
        pairs = int(random.integers(1, 12))
        mine, before = random.random(pairs) < 0.7, random.integers(0, max(len(known), 1), pairs)
        mine &= len(known) > 0
        candidates.renumber(mine, before)
        known = [known[b] if m else [] for m, b in zip(mine, before)]
        gone = random.random(pairs) < 0.4
        pair = np.repeat(np.flatnonzero(gone), random.integers(0, 30, int(gone.sum())))
        first = np.arange(count, count + len(pair))
        count += len(pair)
        far = random.random(len(pair))
        candidates.replace(gone, pair, np.repeat(first[:, None], 4, axis=1), np.zeros(len(pair), np.int8),
                           np.zeros(len(pair)), far)
        known = [first[pair == k].tolist() if gone[k] else known[k] for k in range(pairs)]
        assert relations_of(candidates) == known
        for k in np.flatnonzero(gone):
            assert candidates.lack[k] == (far[pair == k].min() if (pair == k).any() else np.inf)
    assert len(candidates.kind) < 3 * 12 * 30          # what lies idle is cleared away


def test_what_is_gathered_is_what_was_picked_pair_by_pair_and_then_the_ground():
    candidates = Candidates()
    candidates.renumber(np.zeros(3, bool), np.zeros(3, np.int64))
    ids = np.arange(20).reshape(5, 4)
    candidates.replace(np.ones(3, bool), np.array([0, 0, 1, 2, 2]), ids, np.zeros(5, np.int8), np.full(5, 0.1),
                       np.zeros(5))
    candidates.replace(np.array([True, False, False]), np.array([0]), ids[:1] + 100, np.zeros(1, np.int8),
                       np.full(1, 0.1), np.zeros(1))
    candidates.picked[:] = True
    candidates.picked[3] = False
    x = np.full((2, 3), 0.05)
    found, kind, _, distance, _, _ = candidates.gather(np.array([False, True]), np.array([0.0, 0.1]), x)
    assert found[:, 0].tolist() == [100, 8, 16, 1] and kind[-1] != kind[0]
    np.testing.assert_allclose(distance[-1], 0.05)


def test_shared_work_comes_in_order_whichever_part_ends_first():
    def part(lo, hi):
        time.sleep(0.05 if lo == 0 else 0.0)
        return lo, hi

    spans = shared(part, 1000, few=10)
    assert len(spans) == PARTS and spans[0][0] == 0 and spans[-1][1] == 1000
    assert all(one[1] == two[0] for one, two in pairwise(spans))
    assert shared(lambda lo, hi: (lo, hi), 10, few=10) == [(0, 10)]
