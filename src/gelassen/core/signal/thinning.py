"""Fewer points of a trace, so that no extreme is lost."""

from itertools import pairwise

import numpy as np

from gelassen.core.foundation.inputs import Floats


def thinned(times: Floats, values: Floats, most: int) -> tuple[Floats, Floats]:
    """Return at most `most` points: the lowest and the highest reading of equal parts of the samples.

    Missing readings are left out. First and last reading stay.
    """
    known = np.isfinite(values)
    times, values = times[known], values[known]
    if times.size <= most:
        return times, values
    parts = max(most // 2 - 1, 1)
    edges = np.linspace(0, times.size, parts + 1).astype(int)
    kept = {0, times.size - 1}
    for start, end in pairwise(edges):
        if end > start:
            part = values[start:end]
            kept |= {int(start + part.argmin()), int(start + part.argmax())}
    places = np.array(sorted(kept))
    return times[places], values[places]
