"""A boost that ends: power steps down early in a load and keeps its new level."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median, within
from gelassen.core.throttling.chip_log import ChipLog
from gelassen.core.throttling.power_limit import keeps_level_over
from gelassen.core.throttling.thresholds import BoostEnd as At
from gelassen.core.throttling.thresholds import PowerLimit


@dataclass(frozen=True, slots=True)
class _BoostEnd:
    """When the boost ended, and the power before and after."""

    at_s: float
    from_w: float
    to_w: float


def _boost_end(times: Floats, power: Floats, loaded: Bools, near_limit: Bools) -> _BoostEnd | None:
    """Return the end of a boost; None if the power shows none.

    A power limit that sets in later looks like this. Heat does not: the chip is below its limit then.
    """
    if not loaded.any():
        return None
    start, end = times[loaded][[0, -1]]
    if end - start < At.LASTS_S:
        return None
    read = loaded & np.isfinite(power)
    smooth = running_median(power, times, At.SMOOTH_S)
    late = read & (times > start + At.LATEST_S)
    if late.sum() < At.FEWEST:
        return None
    level = float(np.median(smooth[late]))
    on_level = np.abs(smooth - level) <= At.LEVEL_SHARE * level
    if not level > 0 or np.mean(on_level[late]) < At.MOSTLY:
        return None
    early = read & (times <= start + At.LATEST_S)
    above = np.flatnonzero(early & (smooth > (1 + At.DROP_SHARE) * level))
    if not above.size:
        return None
    at_s = float(times[above[-1]])
    boost = read & (times >= start + At.SETTLES_S) & (times <= at_s)
    sudden = bool(np.any(on_level[within(times, at_s, at_s + At.SUDDEN_S)]))
    if boost.sum() < At.FEWEST_BEFORE or not sudden or near_limit[boost].any():
        return None
    return _BoostEnd(at_s, float(np.median(power[boost])), level)


@dataclass(frozen=True, slots=True)
class BoostLimit:
    """A boost that ended, and since when a power limit held the chip back, if that is told."""

    flags: Bools
    said: Caution


def boost_limit(log: ChipLog, near: Bools) -> BoostLimit | None:
    """Return when a boost ended, and where a power limit that the log does not state held the chip then."""
    if log.power is None or log.allowed_w is not None or log.power_flag is not None:
        return None
    ended = _boost_end(log.times, log.power, log.loaded, near)
    if ended is None:
        return None
    same = _same_load(log, ended)
    if same is False:
        return None
    sizes = {"from_w": ended.from_w, "to_w": ended.to_w, "at_s": ended.at_s}
    nowhere = np.zeros_like(log.loaded)
    if same is None:
        return BoostLimit(nowhere, caution("boost_or_lighter_load", **sizes))
    after = log.loaded & (log.times > ended.at_s + At.SUDDEN_S)
    warmed_k = _range(log.temperature[after])
    if warmed_k < PowerLimit.WARMING_K:
        return BoostLimit(nowhere, caution("boost_ended_unclear", **sizes, warmed_k=warmed_k))
    # A free chip draws more as it warms. Under a limit, power keeps its level.
    if not keeps_level_over(log.temperature[after], log.power[after], ended.to_w):
        return None
    return BoostLimit(log.loaded & (log.times > ended.at_s), caution("boost_ended", **sizes))


def _same_load(log: ChipLog, ended: _BoostEnd) -> bool | None:
    """Return whether the load stayed the same when the boost ended; None if nothing tells."""
    before = log.loaded & (log.times <= ended.at_s)
    after = log.loaded & (log.times > ended.at_s + At.SUDDEN_S)
    if log.load is not None:
        return abs(_middle(log.load[before]) - _middle(log.load[after])) <= At.BUSY_PCT
    if log.clock is not None:  # a lighter load leaves the clock as it is
        return _middle(log.clock[after]) < (1 - At.CLOCK_SHARE) * _middle(log.clock[before])
    return None


def _range(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(np.ptp(np.percentile(present, [2, 98]))) if present.size else 0.0


def _middle(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(np.median(present)) if present.size else float("nan")
