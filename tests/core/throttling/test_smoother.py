from itertools import product

import numpy as np
import pytest

from gelassen.core.throttling.smoother import smooth_states


def test_probabilities_are_those_of_all_paths_together():
    rng = np.random.default_rng(0)
    size, states = 7, 3
    start = rng.dirichlet(np.ones(states))
    moves = rng.dirichlet(np.ones(states), (size, states))
    fits = rng.gamma(1.0, size=(size, states)) + 1e-3
    each = np.zeros((size, states))
    for path in product(range(states), repeat=size):
        before = start @ moves[0][:, path[0]] * fits[0, path[0]]
        for at in range(1, size):
            before *= moves[at, path[at - 1], path[at]] * fits[at, path[at]]
        each[range(size), path] += before
    found, log_likelihood = smooth_states(start, moves, fits)
    assert found == pytest.approx(each / each.sum(axis=1, keepdims=True))
    assert log_likelihood == pytest.approx(np.log(each[0].sum()))


def test_long_logs_neither_overflow_nor_lose_a_state():
    size = 20_000
    moves = np.tile([[0.999, 0.001], [0.001, 0.999]], (size, 1, 1))
    fits = np.ones((size, 2)) * 1e-30
    fits[: size // 2, 0] *= 5
    fits[size // 2 :, 1] *= 5
    found, log_likelihood = smooth_states(np.array([0.5, 0.5]), moves, fits)
    assert np.isfinite(log_likelihood)
    assert found[: size // 2 - 20, 0].min() > 0.99
    assert found[size // 2 + 20 :, 1].min() > 0.99
