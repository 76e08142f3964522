"""Stretches of a log without samples."""

import numpy as np

from gelassen.core.foundation.inputs import Floats

# A gap is wide if it is this many times as long as the usual distance of samples, and longer than
# this many seconds: loggers skip single samples all the time.
_WIDE_TIMES, _WIDE_S = 30.0, 10.0


def wide_gaps(times: Floats) -> list[tuple[float, float]]:
    """Return the stretches without samples that are far longer than usual, as (start, end) in s."""
    gaps = np.diff(times)
    if gaps.size == 0:
        return []
    wide = np.flatnonzero(gaps > max(_WIDE_TIMES * float(np.median(gaps)), _WIDE_S))
    return [(float(times[k]), float(times[k + 1])) for k in wide]
