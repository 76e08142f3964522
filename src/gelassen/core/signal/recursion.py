"""A quantity that keeps a share of itself from step to step: a first-order lag."""

import numpy as np
from scipy.linalg.blas import dtbsv

from gelassen.core.foundation.inputs import Floats


def recursion(values: Floats, keep: float) -> Floats:
    """Return ``y`` with ``y[n] = values[n] + keep * y[n - 1]`` and ``y[-1] = 0``.

    Of several courses, time is the last axis. It is a triangular system of two diagonals.
    """
    rows = np.ascontiguousarray(values, dtype=float)
    length = rows.shape[-1]
    if rows.size == 0:
        return rows
    below = np.full((rows.size // length, length), -keep)
    below[:, -1] = 0.0  # the next course begins anew
    diagonals = np.asfortranarray([np.ones(rows.size), below.ravel()])
    return np.asarray(dtbsv(1, diagonals, rows.ravel(), lower=1)).reshape(rows.shape)
