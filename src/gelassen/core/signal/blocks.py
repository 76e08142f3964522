"""Means over blocks of equal length, per minute or any other."""

import numpy as np
import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import as_time


def block_means(frame: pd.DataFrame, *, length_s: float = 60.0) -> pd.DataFrame:
    """Return the mean of every channel over each block of time.

    Parameters
    ----------
    frame : DataFrame
        Index `t_s`, elapsed seconds; columns are channels. NaN marks a missed reading.
    length_s : float
        Length of a block in s.

    Returns
    -------
    DataFrame
        Index `t_s`, the start of each block; `samples`, how many samples lie in it; then one column
        a channel, NaN where a block has no reading. Blocks without a sample are left out.

    Raises
    ------
    InputError
        A length that is not above zero, or a table without samples.
    """
    if not 0 < length_s < np.inf:
        raise InputError(f"a block of {length_s} s is asked for; a length above zero is needed")
    if frame.empty:
        raise InputError("there are no samples to take means of")
    # A log that begins before its zero has its first block there, and no empty one before it.
    times = as_time(frame.index)
    first_s = min(float(times[0]), 0.0)
    numbers = np.floor((times - first_s) / length_s + 1e-9)
    grouped = frame.groupby(numbers)
    means = grouped.mean()
    means.insert(0, "samples", grouped.size())
    means.index = pd.Index(first_s + means.index.to_numpy() * length_s, name="t_s")
    return means
