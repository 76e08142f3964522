"""Moments at which power went to another level: the temperature must change there as well."""

import numpy as np

from gelassen.core.changes.thresholds import Power
from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.noise import MAD_TO_STD, noise_std


def power_changes(times: Floats, power: Floats, span: tuple[float, float]) -> list[float]:
    """Return the moments within a load, in s, at which power went to another level and stayed there."""
    inside = np.isfinite(power) & (times >= span[0]) & (times <= span[1])
    at, level = times[inside], power[inside]
    if level.size < 20 or np.median(level) <= 0:
        return []
    borders = np.arange(3, level.size - 2)
    change = _changes(at, level, borders)
    wander = float(np.median(np.abs(change))) * MAD_TO_STD
    least = max(
        Power.LEAST_SHARE * float(np.median(level)),
        Power.CLEAR * noise_std(level),
        Power.BEYOND_WANDER * wander,
    )
    found: list[float] = []
    order = np.argsort(-np.abs(change))
    for k in order[np.abs(change[order]) >= least]:
        moment = float(at[borders[k]])
        if all(abs(moment - other) >= Power.APART_S for other in found):
            found.append(moment)
        if len(found) >= Power.MOST:
            break
    return sorted(found)


def power_change_near(
    times: Floats, power: Floats, moment_s: float, sign: float
) -> tuple[float, float] | None:
    """Return the two samples between which power changed in this direction near a moment; else None."""
    near = np.isfinite(power) & (
        np.abs(times - moment_s) <= Power.NEAR_S + Power.CLIMB_S + Power.WINDOW_S
    )
    at, level = times[near], power[near]
    if level.size < 8:
        return None
    borders = np.flatnonzero(np.abs(at - moment_s) <= Power.NEAR_S + Power.CLIMB_S)
    borders = borders[(borders >= 3) & (borders <= level.size - 3)]
    away_s = np.abs(at[borders] - moment_s)
    if not (away_s <= Power.NEAR_S).any():
        return None
    change = sign * _changes(at, level, borders)
    best = int(np.argmax(np.where(away_s <= Power.NEAR_S, change, -np.inf)))
    # At the edge of the window it may be the start of a change a little further away.
    climb = np.abs(at[borders] - at[borders[best]]) <= Power.CLIMB_S
    best = int(np.argmax(np.where(climb, change, -np.inf)))
    if change[best] < max(
        Power.LEAST_SHARE * float(np.median(level)),
        Power.CLEAR * noise_std(level),
    ):
        return None
    k = int(borders[best])
    return float(at[k - 1]), float(at[k])


def _changes(
    at: Floats, level: Floats, borders: "np.ndarray[tuple[int], np.dtype[np.intp]]"
) -> Floats:
    """Return the mean in the minute from each border on, less that in the minute before it."""
    total = np.concatenate([[0.0], np.cumsum(level)])
    first = np.searchsorted(at, at[borders] - Power.WINDOW_S)
    last = np.searchsorted(at, at[borders] + Power.WINDOW_S)
    before = (total[borders] - total[first]) / np.maximum(borders - first, 1)
    after = (total[last] - total[borders]) / np.maximum(last - borders, 1)
    return np.asarray(after - before)
