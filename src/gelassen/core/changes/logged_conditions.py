"""Logged conditions that changed suddenly, such as a fan that stops or cores that begin to work.

They show the moment of a change better than the temperature does, which follows later.
"""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.changes.thresholds import Logged
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import usual_gap_s
from gelassen.core.signal.noise import noise_std

# Ending of the channel, its component, the smallest change that counts, and its levels in words.
_KINDS = {
    ".speed_rpm": ("fan", 100.0, "{:.0f} rpm"),
    ".flow_lpm": ("flow", 0.1, "{:.2f} L/min"),
    ".duty_pct": ("fan", 8.0, "{:.0f} %"),
    ".load_pct": ("load", 5.0, "{:.0f} %"),
}
_PARTS = ("fan.", "loop.", "cpu.all.", "gpu.")


@dataclass(frozen=True, slots=True)
class ConditionChange:
    """A channel that went to another level between two samples."""

    channel: str
    from_s: float  # the last sample at the level before
    to_s: float  # the first one that had left it
    before: float
    after: float

    def away_s(self, at_s: float) -> float:
        """Return how far a moment lies from it, in s."""
        return abs(self.to_s - at_s)

    @property
    def what(self) -> str:
        """What changed: "fan", "flow" or "load"."""
        return _kind_of(self.channel)[0]

    def __str__(self) -> str:
        words = _kind_of(self.channel)[2]
        return f"{self.channel} went from {words.format(self.before)} to {words.format(self.after)}"


def _kind_of(channel: str) -> tuple[str, float, str]:
    return next(kind for end, kind in _KINDS.items() if channel.endswith(end))


def condition_changes(
    frame: pd.DataFrame, times: Floats, span: tuple[float, float], temperature: Floats
) -> list[ConditionChange]:
    """Return the changes of fans, flow and load within a load, in order of time; one for each moment.

    Parameters
    ----------
    frame : DataFrame
        All channels.
    times, temperature : array, shape (n,)
        Sample times in s, and the temperature that fans may follow.
    span : tuple of float
        Start and end of the load, in s.
    """
    found: list[ConditionChange] = []
    names = [str(name) for name in frame.columns.tolist()]
    for end in _KINDS:  # the speed is what a fan did, and the duty is what it was set to
        for name in names:
            if not (name.endswith(end) and name.startswith(_PARTS)):
                continue
            own = _changes_of(name, frame[name].to_numpy(dtype=float), times, span)
            if _KINDS[end][0] == "fan":
                own = [one for one in own if not _by_its_curve(one, times, temperature)]
            found += [one for one in own if all(_apart(one, other) for other in found)]
    return sorted(found, key=lambda one: one.to_s)


def _apart(one: ConditionChange, other: ConditionChange) -> bool:
    return abs(one.to_s - other.to_s) > Logged.APART_S


def _changes_of(
    name: str, series: Floats, times: Floats, span: tuple[float, float]
) -> list[ConditionChange]:
    """Return where one channel suddenly went to another level; nothing if that happens repeatedly."""
    inside = np.flatnonzero(np.isfinite(series) & (times >= span[0]) & (times <= span[1]))
    if inside.size < 20:
        return []
    inside = inside[:: max(round(Logged.FINE_S / usual_gap_s(times[inside])), 1)]
    at, level = times[inside], series[inside]
    if level.size < 20 or not np.ptp(level) > 0:
        return []
    least = _kind_of(name)[1]
    borders = np.arange(2, level.size - 2)
    before, after = _means(at, level, borders, Logged.WINDOW_S)
    near_before, near_after = _around(at, level, borders)
    change, at_once = after - before, near_after - near_before
    needed = np.maximum(Logged.SHARE * np.maximum(np.abs(before), np.abs(after)), least)
    needed = np.maximum(needed, Logged.CLEAR * noise_std(level))
    clear = (at[borders] - span[0] > Logged.APART_S) & (np.abs(change) >= needed)
    clear &= at_once * np.sign(change) >= Logged.MOST_AT_ONCE * np.abs(change)
    tops = _highest(at[borders], np.abs(change), clear)
    if len(tops) > Logged.MOST:
        return []
    long_before, long_after = _means(at, level, borders, Logged.LASTING_S)
    lasts = (long_after - long_before) * np.sign(change) >= Logged.LASTS * np.abs(change)
    found = []
    for k in (k for k in tops if lasts[k]):
        top = int(borders[k])
        # A fan takes seconds to come to speed. Its change began at the last reading of the old level.
        foot = int(np.searchsorted(at, at[top] - Logged.WINDOW_S))
        left = np.flatnonzero(np.abs(level[foot:top] - before[k]) < Logged.LEFT * abs(change[k]))
        border = foot + int(left[-1]) + 1 if left.size else top
        around = at[border] + np.array(
            [
                -Logged.WINDOW_S,
                Logged.AT_ONCE_S,
                Logged.WINDOW_S + Logged.AT_ONCE_S,
            ]
        )
        start, there, end = np.searchsorted(at, around)
        start, there = min(start, border - 1), min(there, level.size - 1)
        levels = [float(np.median(part)) for part in (level[start:border], level[there : end + 1])]
        found.append(ConditionChange(name, float(at[border - 1]), float(at[border]), *levels))
    return found


def _highest(at: Floats, size: Floats, clear: Bools) -> list[int]:
    """Return the places of the largest changes that lie apart, at most one more than is allowed."""
    found: list[int] = []
    order = np.argsort(-size)
    for k in order[clear[order]]:
        if all(abs(at[k] - at[other]) > Logged.APART_S for other in found):
            found.append(int(k))
        if len(found) > Logged.MOST:
            break
    return found


def _means(
    at: Floats, level: Floats, borders: "np.ndarray[tuple[int], np.dtype[np.intp]]", window_s: float
) -> tuple[Floats, Floats]:
    """Return the mean before each border, and after it."""
    total = np.concatenate([[0.0], np.cumsum(level)])
    first = np.minimum(np.searchsorted(at, at[borders] - window_s), borders - 2)
    last = np.maximum(np.searchsorted(at, at[borders] + window_s), borders + 2)
    before = (total[borders] - total[first]) / (borders - first)
    after = (total[last] - total[borders]) / (last - borders)
    return np.asarray(before), np.asarray(after)


def _around(
    at: Floats, level: Floats, borders: "np.ndarray[tuple[int], np.dtype[np.intp]]"
) -> tuple[Floats, Floats]:
    """Return the readings just before each border, and those a fan needs to come to speed after it."""
    last = np.searchsorted(at, at[borders] + Logged.AT_ONCE_S).clip(max=level.size - 1)
    before = (level[borders - 1] + level[borders - 2]) / 2
    after = (level[last] + level[np.maximum(last - 1, borders)]) / 2
    return np.asarray(before), np.asarray(after)


def _by_its_curve(change: ConditionChange, times: Floats, temperature: Floats) -> bool:
    """Return whether the temperature had moved the way that makes a fan on a curve do this."""
    known = np.isfinite(temperature)
    ago = temperature[known & (np.abs(times - change.from_s + Logged.CURVE_S) <= Logged.AT_ONCE_S)]
    # A fan that changed by itself moves the temperature the other way.
    just = temperature[known & (times >= change.from_s) & (times <= change.to_s + Logged.AT_ONCE_S)]
    if not (ago.size and just.size):
        return False
    moved = float(np.median(just) - np.median(ago))
    return moved * float(np.sign(change.after - change.before)) >= Logged.CURVE_K
