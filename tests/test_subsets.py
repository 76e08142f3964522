"""Least squares on many subsets of columns at once, against one at a time."""

import numpy as np
import pytest

from gelassen.core.fanless import fanless_chance
from gelassen.core.relaxationfit import Account, fit_relaxation, time_constant_list
from gelassen.core.subsets import gains_of


def test_gains_and_determinants_are_those_of_each_subset_alone():
    rng = np.random.default_rng(2)
    columns = rng.standard_normal((60, 7))
    target = rng.standard_normal(60)
    subsets = np.array([[0, 1, 2], [0, 3, 6], [5, 4, 1], [2, 2, 3]])
    ridge = np.array([0.0, 0.5, 2.0])
    gain, log_det = gains_of(columns.T @ columns, columns.T @ target, subsets, subsets, ridge)
    for which, subset in enumerate(subsets):
        part = columns[:, subset]
        matrix, right = part.T @ part + np.diag(ridge), part.T @ target
        assert gain[which] == pytest.approx(right @ np.linalg.solve(matrix, right), rel=1e-9)
        assert log_det[which] == pytest.approx(np.linalg.slogdet(matrix)[1], rel=1e-9)


def test_a_subset_of_all_but_equal_columns_does_not_spoil_the_others():
    rng = np.random.default_rng(3)
    columns = rng.standard_normal((60, 3))
    columns[:, 2] = columns[:, 1] * (1 + 1e-11)
    target = 2 * columns[:, 1] + rng.standard_normal(60)
    gram, right = columns.T @ columns, columns.T @ target
    ridge = np.array([0.0, 1e-10])
    pairs = np.array([[1, 2], [0, 1]])
    gain, log_det = gains_of(gram, right, pairs, pairs, ridge)
    assert np.isfinite(gain).all()
    assert np.isfinite(log_det).all()
    good = gram[:2, :2] + np.diag(ridge)
    assert gain[1] == pytest.approx(right[:2] @ np.linalg.solve(good, right[:2]), rel=1e-9)


def test_a_high_resistance_tells_of_no_fan_and_none_tells_nothing():
    chances = [fanless_chance(resistance) for resistance in (0.4, 0.85, 1.5)]
    assert chances[0] < 0.01
    assert chances[1] == pytest.approx(0.5)
    assert chances[2] > 0.99
    assert fanless_chance(0.0) == fanless_chance(-3.0) == 0.0


def test_without_a_fan_a_short_load_is_taken_to_go_on_for_longer_unless_its_time_constant_was_told():
    middle_s = np.arange(5.0, 200.0, 10.0)
    course = 60 * (1 - np.exp(-middle_s / 800))
    account = Account(course, 0.25 * np.eye(middle_s.size))

    def settled(fanless: float, **told: tuple[float, float]) -> float:
        found = fit_relaxation(
            middle_s, [account], time_constant_list(1.0), fanless=fanless, **told
        )
        return found.mean(found.settled)

    assert settled(1.0) > settled(0.5) > 1.02 * settled(0.0)
    assert settled(1.0, slowest=(300.0, 0.3)) == settled(0.0, slowest=(300.0, 0.3))
    assert np.isfinite(settled(1.0, slowest=(1e9, 0.3)))
