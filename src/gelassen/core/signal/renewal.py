"""Channels that are renewed, or read, more rarely than samples are logged.

A repeated value is not a new reading. A value between two readings of a slow logger follows from both.
"""

import numpy as np
from numpy.typing import NDArray

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.noise import step_size
from gelassen.core.signal.thresholds import Renewal


def renewed_every_s(times: Floats, values: Floats) -> float | None:
    """Return how often a channel is renewed, in s; None if that is as often as it is logged."""
    present = np.isfinite(values)
    return _renewed(times[present], values[present])[0]


def without_repeats(times: Floats, values: Floats) -> Floats:
    """Return a channel with what only repeats its last reading, or fills in, taken as missing."""
    present = np.flatnonzero(np.isfinite(values))
    moment = times[present]
    every_s, renewed = _renewed(moment, values[present])
    if every_s is None:
        return values
    starts = np.concatenate([[0], renewed])
    since = moment - moment[starts[np.searchsorted(starts, np.arange(present.size), "right") - 1]]
    # A reading that stayed the same was renewed as well, once in each interval.
    turn = np.floor(since / every_s + 1e-6)
    repeats = np.flatnonzero((np.diff(turn) == 0) & (since[1:] > 0)) + 1
    fresh = values.copy()
    fresh[present[repeats]] = np.nan
    return fresh


def without_held(values: Floats) -> Floats:
    """Return a channel with samples taken as missing that a logger held for a fixed number of samples.

    All changes then fall on every second, third or later sample. Held samples are no new readings.
    """
    present = np.flatnonzero(np.isfinite(values))
    changed = np.flatnonzero(np.diff(values[present]) != 0) + 1
    if changed.size < Renewal.FEWEST_HELD:
        return values
    for length in range(Renewal.LONGEST_HELD, 1, -1):
        places = np.bincount(changed % length, minlength=length)
        first = int(places.argmax())
        if places[first] >= Renewal.MOSTLY_HELD * changed.size:
            fresh = np.full_like(values, np.nan)
            kept = present[first::length]
            fresh[kept] = values[kept]
            return fresh
    return values


def _renewed(moment: Floats, series: Floats) -> tuple[float | None, NDArray[np.int64]]:
    """Return how often a series is renewed (None: all the time), and which readings surely are new."""
    jumps = np.diff(series)
    renewed, filled = np.flatnonzero(jumps != 0) + 1, False
    if renewed.size < Renewal.FEWEST:
        return None, renewed
    # Straight lines drawn between the readings of a slow logger have no kinks between them.
    slopes = jumps / np.diff(moment).clip(min=1e-9)
    kinked = np.abs(np.diff(slopes)) > 1e-6 * np.abs(slopes).max()
    if np.mean(kinked[slopes[:-1] != 0]) < Renewal.KINKS:
        renewed, filled = np.flatnonzero(kinked) + 1, True
    if renewed.size < Renewal.FEWEST:
        return None, renewed
    every_s = float(np.percentile(np.diff(moment[renewed]), 5))
    if every_s < max(Renewal.RARE_S, Renewal.REPEATS * float(np.median(np.diff(moment)))):
        return None, renewed
    larger = np.abs(jumps)[renewed - 1] > Renewal.STEPS * step_size(series)
    return (every_s if filled or larger.sum() >= Renewal.LARGER else None), renewed


def bridged(times: Floats, values: Floats, missed_s: float = Renewal.MISSED_S) -> Floats:
    """Return a channel with straight lines between readings that are no farther apart than usual.

    Readings that are `missed_s` apart or less are bridged whatever is usual.
    """
    known = np.flatnonzero(np.isfinite(values))
    if known.size in (0, values.size) or known.size < Renewal.FEWEST:
        return values
    apart_s = np.diff(times[known])
    usual_s = max(
        missed_s,
        min(Renewal.USUAL * float(np.median(apart_s)), Renewal.PAUSE_S),
    )
    after = np.searchsorted(known, np.arange(values.size)).clip(1, known.size - 1)
    between = (np.arange(values.size) > known[0]) & (np.arange(values.size) < known[-1])
    near = between & (apart_s[after - 1] <= usual_s)
    return np.where(near, np.interp(times, times[known], values[known]), values)
