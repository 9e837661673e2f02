"""Points that are chosen by a loop: of any form, however it is drawn."""

import numpy as np
import pytest

from rubberquince.shapes.rings import in_loop


def test_what_is_in_a_loop_is_as_much_as_its_area():
    """A crescent and a hook, either way round; the shoelace formula gives their areas."""
    turn = np.linspace(0.0, np.pi, 40)
    arc = np.column_stack([np.cos(turn), np.sin(turn)])
    crescent = np.concatenate([arc, 0.8 * arc[::-1] * (1.0, 0.5)])
    hook = np.array([(-1, 0), (1, 0), (1, 0.9), (0.2, 0.9), (0.2, 0.6), (0.7, 0.6), (0.7, 0.2), (-1, 0.2)], float)
    places = np.random.default_rng(6).uniform((-1.0, 0.0), (1.0, 1.0), (40_000, 2))
    for loop in (crescent, hook, hook[::-1]):
        x, y = loop.T
        area = 0.5 * abs(x @ np.roll(y, -1) - y @ np.roll(x, -1))
        assert in_loop(places, loop).mean() == pytest.approx(area / 2.0, abs=0.01)


def test_a_loop_that_crosses_itself_leaves_out_what_it_goes_round_twice():
    turn = 4.0 * np.pi / 5.0 * np.arange(5)
    star = np.column_stack([np.cos(turn), np.sin(turn)])
    seen = in_loop(np.array([(0.0, 0.0), (0.6, 0.0), (2.0, 0.0), (0.99, 0.0)]), star)
    assert seen.tolist() == [False, True, False, True]
    assert not in_loop(np.zeros((0, 2)), star).any() and not in_loop(star, star[:1]).any()
