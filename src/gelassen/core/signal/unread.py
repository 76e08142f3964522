"""Temperatures that were logged and never read: sensors that did not answer, or stood still a while."""

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.thresholds import Unread


def suspect(values: Floats) -> Bools:
    """Return which temperatures in °C are what a sensor leaves that does not answer, or may be."""
    return np.asarray((values == 0) | (values <= Unread.COLD_C) | (values >= Unread.HOT_C))


def unanswered(values: Floats) -> Bools:
    """Return which temperatures in °C no sensor can have read, given those beside them."""
    odd = suspect(values)
    nothing = np.zeros(values.size, dtype=bool)
    good = np.flatnonzero(np.isfinite(values) & ~odd)
    which = np.flatnonzero(odd)
    if which.size == 0 or good.size < 2 or which.size > Unread.MOST * np.isfinite(values).sum():
        return nothing
    place = np.searchsorted(good, which)
    before = values[good[np.maximum(place - 1, 0)]]
    after = values[good[np.minimum(place, good.size - 1)]]
    apart = np.minimum(np.abs(values[which] - before), np.abs(values[which] - after))
    nothing[which[apart > Unread.JUMP_K]] = True
    return nothing


def stuck(times: Floats, values: Floats) -> list[tuple[float, float]]:
    """Return the stretches, as (start, end) in s, over which a channel repeated one reading.

    Only of channels whose readings change all the time otherwise: those with little noise against
    their steps stand still by themselves. Nor at the highest or lowest reading: a chip that is held at its
    limit, and a channel that comes to the end of its range, repeat it.
    """
    present = np.flatnonzero(np.isfinite(values))
    found: list[tuple[float, float]] = []
    for _ in range(Unread.STUCK_TIMES):
        moment, series = times[present], values[present]
        if series.size < 4 * Unread.STUCK_READINGS:
            break
        starts = np.flatnonzero(np.concatenate([[True], np.diff(series) != 0]))
        ends = np.append(starts[1:], series.size) - 1
        longest = int(np.argmax(ends - starts))
        first, last = int(starts[longest]), int(ends[longest])
        if last - first < Unread.STUCK_READINGS or moment[last] - moment[first] < Unread.STUCK_S:
            break
        if series[first] in (series.max(), series.min()):
            break
        others = series.size - (last - first + 1)
        if others < max(last - first, Unread.WINDOW):
            break
        if not (_always_changes(series[:first]) and _always_changes(series[last + 1 :])):
            break
        found.append((float(moment[first]), float(moment[last])))
        present = np.delete(present, slice(first + 1, last + 1))
    return sorted(found)


def _always_changes(series: Floats) -> bool:
    """Return whether readings mostly differ from the ones before, in every stretch of them."""
    if series.size < Unread.WINDOW:
        return series.size < 2 or bool(np.mean(np.diff(series) != 0) >= Unread.CHANGES_ALWAYS)
    changes = np.diff(series) != 0
    windows = changes[: changes.size // Unread.WINDOW * Unread.WINDOW]
    if windows.size == 0:
        return bool(changes.mean() >= Unread.CHANGES_ALWAYS)
    shares = windows.reshape(-1, Unread.WINDOW).mean(axis=1)
    return bool(changes.mean() >= Unread.CHANGES_MOSTLY and shares.min() >= Unread.CHANGES_ALWAYS)


def without_not_read(name: str, times: Floats, values: Floats) -> tuple[Floats, list[Caution]]:
    """Return a temperature with what was not read taken as missing, and what to say about it."""
    cautions = []
    odd = unanswered(values)
    if odd.any():
        cautions.append(unanswered_caution(name, values, odd))
        values = np.where(odd, np.nan, values)
    for start_s, end_s in stuck(times, values):
        cautions.append(caution("stuck_for_a_while", channel=name, start_s=start_s, end_s=end_s))
        values = np.where((times > start_s) & (times <= end_s), np.nan, values)
    return values, cautions


def unanswered_caution(name: str, values: Floats, odd: Bools) -> Caution:
    """Return the caution for readings that no sensor can have taken."""
    return caution(
        "unanswered_readings", count=int(odd.sum()), channel=name, example=float(values[odd][0])
    )
