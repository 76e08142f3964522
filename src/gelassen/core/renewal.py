"""Channels that are renewed, or read, more rarely than samples are logged.

What only repeats is no reading; what lies between two readings of a slow logger is known from both.
"""

import numpy as np
from numpy.typing import NDArray

from gelassen.core.inputs import Floats
from gelassen.core.noise import step_size

# Renewed this rarely, and logged this often, a climb looks like stairs.
_RARE_S, _REPEATS = 4.0, 3.0
# So many changes tell how rarely. Some must be larger than the sensor's own step: a coarse sensor
# that climbs slowly stands still by itself.
_FEWEST, _LARGER, _STEPS = 12, 3, 1.5
# Straight lines bridge what is usual between readings of a channel, and no pause of it.
_USUAL, _MISSED_S, _PAUSE_S = 2.5, 10.0, 30.0


def renewed_every_s(times: Floats, values: Floats) -> float | None:
    """Return how often a channel is renewed, in s; None if that is as often as it is logged."""
    present = np.isfinite(values)
    moment, series = times[present], values[present]
    changed = _changes(series)
    if changed.size < _FEWEST:
        return None
    every_s = float(np.percentile(np.diff(moment[changed]), 5))
    if every_s < max(_RARE_S, _REPEATS * float(np.median(np.diff(moment)))):
        return None
    jumps = np.abs(np.diff(series))[changed - 1]
    return every_s if np.sum(jumps > _STEPS * step_size(series)) >= _LARGER else None


def without_repeats(times: Floats, values: Floats) -> Floats:
    """Return a channel with what only repeats its last reading taken as missing."""
    every_s = renewed_every_s(times, values)
    if every_s is None:
        return values
    present = np.flatnonzero(np.isfinite(values))
    starts = np.concatenate([[0], _changes(values[present])])
    moment = times[present]
    since = moment - moment[starts[np.searchsorted(starts, np.arange(present.size), "right") - 1]]
    # A reading that stayed was renewed all the same: once in each of these times.
    turn = np.floor(since / every_s + 1e-6)
    repeats = np.flatnonzero((np.diff(turn) == 0) & (since[1:] > 0)) + 1
    fresh = values.copy()
    fresh[present[repeats]] = np.nan
    return fresh


def _changes(series: Floats) -> NDArray[np.int64]:
    return np.flatnonzero(np.diff(series) != 0) + 1


def bridged(times: Floats, values: Floats) -> Floats:
    """Return a channel with straight lines between readings that are no farther apart than usual."""
    known = np.flatnonzero(np.isfinite(values))
    if known.size in (0, values.size) or known.size < _FEWEST:
        return values
    apart_s = np.diff(times[known])
    usual_s = float(np.clip(_USUAL * np.median(apart_s), _MISSED_S, _PAUSE_S))
    after = np.searchsorted(known, np.arange(values.size)).clip(1, known.size - 1)
    between = (np.arange(values.size) > known[0]) & (np.arange(values.size) < known[-1])
    near = between & (apart_s[after - 1] <= usual_s)
    return np.where(near, np.interp(times, times[known], values[known]), values)
