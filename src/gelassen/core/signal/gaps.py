"""Stretches of a log without samples."""

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.thresholds import Gaps


def wide_gaps(times: Floats) -> list[tuple[float, float]]:
    """Return the stretches without samples that are far longer than usual, as (start, end) in s."""
    gaps = np.diff(times)
    if gaps.size == 0:
        return []
    wide = np.flatnonzero(gaps > max(Gaps.WIDE_TIMES * float(np.median(gaps)), Gaps.WIDE_S))
    return [(float(times[k]), float(times[k + 1])) for k in wide]
