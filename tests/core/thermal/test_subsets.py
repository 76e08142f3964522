"""Least squares on many subsets of columns at once, against one at a time."""

import numpy as np
import pytest

from gelassen.core.thermal.subsets import gains_of


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
