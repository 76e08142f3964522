"""Least squares on many small subsets of columns at once."""

import numpy as np
from numpy.typing import NDArray

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import Fit


def gains_of(
    gram: Floats, right: Floats, rows: NDArray[np.int64], columns: NDArray[np.int64], ridge: Floats
) -> tuple[Floats, Floats]:
    """Return by how much each subset lowers the sum of squares, and its log determinant.

    Cholesky's factor is made row by row for all subsets together: thousands of matrices of five rows
    are too small to be handed to LAPACK one by one.

    Parameters
    ----------
    gram, right : array, shapes (k, n) and (k,)
        Normal equations of all columns; several, of n rows each, may stand one below another.
    rows, columns : array of int, shape (subsets, m)
        Which rows and columns each subset has.
    ridge : array, shape (m,)
        What is added to the diagonal.

    Returns
    -------
    gain, log_determinant : array, shape (subsets,)
        ``b' inv(A) b`` and ``log det A``, with A and b the subset's own normal equations.
    """
    count, size = columns.shape
    factor: list[list[Floats]] = []
    target: list[Floats] = []
    gain, log_det = np.zeros(count), np.zeros(count)
    lost: NDArray[np.bool_] = np.zeros(count, dtype=bool)
    for i in range(size):
        row: list[Floats] = []
        for j in range(i):
            entry = gram[rows[:, i], columns[:, j]]
            for k in range(j):
                entry = entry - row[k] * factor[j][k]
            row.append(entry / factor[j][j])
        diagonal = gram[rows[:, i], columns[:, i]] + ridge[i]
        pivot = diagonal.copy()
        below = right[rows[:, i]]
        for k in range(i):
            pivot -= row[k] ** 2
            below = below - row[k] * target[k]
        lost |= ~(pivot > Fit.LOST_DIGITS * diagonal)
        root = np.sqrt(np.where(lost, 1.0, pivot))
        row.append(root)
        factor.append(row)
        target.append(below / root)
        gain += target[i] ** 2
        log_det += 2 * np.log(root)
    again = np.flatnonzero(lost)
    if again.size:
        matrices = gram[rows[again, :, None], columns[again, None, :]] + np.diag(ridge)
        target_again = right[rows[again]]
        solved = np.linalg.solve(matrices, target_again[:, :, None])[:, :, 0]
        gain[again] = (solved * target_again).sum(axis=1)
        log_det[again] = np.linalg.slogdet(matrices)[1]
    return gain, log_det
