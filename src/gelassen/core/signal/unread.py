"""Temperatures that were logged and never read: sensors that did not answer, or stood still a while."""

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Bools, Floats

# What a sensor that does not answer leaves in a log: nothing, all bits set, or the end of its range. It
# counts where the readings before and after are this far away: no body jumps there and back.
_COLD_C, _HOT_C, _JUMP_K = -40.0, 125.0, 15.0
# Where more of a channel is so, it means something else.
_MOST = 0.2
# A channel that mostly changes from reading to reading stands still this long only if it is stuck.
_STUCK_S, _STUCK_READINGS, _WINDOW = 60.0, 20, 60
_CHANGES_MOSTLY, _CHANGES_ALWAYS = 0.5, 0.4
_STUCK_TIMES = 3


def suspect(values: Floats) -> Bools:
    """Return which temperatures in °C are what a sensor leaves that does not answer, or may be."""
    return np.asarray((values == 0) | (values <= _COLD_C) | (values >= _HOT_C))


def unanswered(values: Floats) -> Bools:
    """Return which temperatures in °C no sensor can have read, given those beside them."""
    odd = suspect(values)
    nothing = np.zeros(values.size, dtype=bool)
    good = np.flatnonzero(np.isfinite(values) & ~odd)
    which = np.flatnonzero(odd)
    if which.size == 0 or good.size < 2 or which.size > _MOST * np.isfinite(values).sum():
        return nothing
    place = np.searchsorted(good, which)
    before = values[good[np.maximum(place - 1, 0)]]
    after = values[good[np.minimum(place, good.size - 1)]]
    apart = np.minimum(np.abs(values[which] - before), np.abs(values[which] - after))
    nothing[which[apart > _JUMP_K]] = True
    return nothing


def stuck(times: Floats, values: Floats) -> list[tuple[float, float]]:
    """Return the stretches, as (start, end) in s, over which a channel repeated one reading.

    Only of channels whose readings change all the time otherwise: those with little noise against
    their steps stand still by themselves. Nor at the highest or lowest reading: a chip that is held at its
    limit, and a channel that comes to the end of its range, repeat it.
    """
    present = np.flatnonzero(np.isfinite(values))
    found: list[tuple[float, float]] = []
    for _ in range(_STUCK_TIMES):
        moment, series = times[present], values[present]
        if series.size < 4 * _STUCK_READINGS:
            break
        starts = np.flatnonzero(np.concatenate([[True], np.diff(series) != 0]))
        ends = np.append(starts[1:], series.size) - 1
        longest = int(np.argmax(ends - starts))
        first, last = int(starts[longest]), int(ends[longest])
        if last - first < _STUCK_READINGS or moment[last] - moment[first] < _STUCK_S:
            break
        if series[first] in (series.max(), series.min()):
            break
        others = series.size - (last - first + 1)
        if others < max(last - first, _WINDOW):
            break
        if not (_always_changes(series[:first]) and _always_changes(series[last + 1 :])):
            break
        found.append((float(moment[first]), float(moment[last])))
        present = np.delete(present, slice(first + 1, last + 1))
    return sorted(found)


def _always_changes(series: Floats) -> bool:
    """Return whether readings mostly differ from the ones before, in every stretch of them."""
    if series.size < _WINDOW:
        return series.size < 2 or bool(np.mean(np.diff(series) != 0) >= _CHANGES_ALWAYS)
    changes = np.diff(series) != 0
    windows = changes[: changes.size // _WINDOW * _WINDOW]
    if windows.size == 0:
        return bool(changes.mean() >= _CHANGES_ALWAYS)
    shares = windows.reshape(-1, _WINDOW).mean(axis=1)
    return bool(changes.mean() >= _CHANGES_MOSTLY and shares.min() >= _CHANGES_ALWAYS)


def without_not_read(name: str, times: Floats, values: Floats) -> tuple[Floats, list[Caution]]:
    """Return a temperature with what was not read taken as missing, and what to say about it."""
    cautions = []
    odd = unanswered(values)
    if odd.any():
        cautions.append(told_unanswered(name, values, odd))
        values = np.where(odd, np.nan, values)
    for start_s, end_s in stuck(times, values):
        cautions.append(caution("stuck_for_a_while", channel=name, start_s=start_s, end_s=end_s))
        values = np.where((times > start_s) & (times <= end_s), np.nan, values)
    return values, cautions


def told_unanswered(name: str, values: Floats, odd: Bools) -> Caution:
    """Return the caution for readings that no sensor can have taken."""
    return caution(
        "unanswered_readings", count=int(odd.sum()), channel=name, example=float(values[odd][0])
    )
