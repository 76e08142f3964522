"""Boost loss: a clock that falls gradually with temperature, without any limit.

Boost that a chip loses as it warms is a smooth function of its temperature, and power follows clock and
leakage, up or down. A power limit looks different: power falls at once where a boost ends, or keeps
one level while the clock gives way.
"""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median, spans_of, tidied, within
from gelassen.core.signal.noise import noise_std, step_size
from gelassen.core.throttling.power_limit import keeps_level_over, no_slope
from gelassen.core.throttling.thresholds import BoostLoss


def lost_gradually(
    times: Floats,
    temperature: Floats,
    power: Floats,
    lost: Bools,
    loaded: Bools,
    clock: Floats | None = None,
    best: float = float("nan"),
) -> Bools:
    """Return which stretches of loss are boost loss.

    Parameters
    ----------
    times, temperature, power : ndarray, shape (n,)
        Sample times in s, °C, W.
    lost, loaded : ndarray of bool, shape (n,)
        Where something was lost on a level of power; under load.
    clock : ndarray, shape (n,), optional
        Clock in MHz. Without it only power that falls at once shows a limit.
    best : float
        The best clock the run held, MHz.
    """
    gradual = np.zeros(times.size, dtype=bool)
    if not lost.any():
        return gradual
    watts = running_median(power, times, BoostLoss.SMOOTH_S)
    clocks = None if clock is None else running_median(clock, times, BoostLoss.SMOOTH_S)
    step = 0.0 if clock is None else step_size(clock[loaded]) / best
    free = loaded & ~lost & np.isfinite(temperature)
    scatter = noise_std(power[loaded])
    for start, end in spans_of(times, tidied(times, lost)):
        span = within(times, start, end)
        before = _among(times, free, *(start - ago for ago in BoostLoss.BEFORE_S))
        if not before.any():
            continue  # lost from the beginning on
        first, last = (start + later for later in BoostLoss.AFTER_S)
        after = _among(times, loaded, first, min(last, end))
        if not after.any():
            after = _among(times, loaded, start, end)
        warmed = _middle(temperature[after]) - _middle(temperature[before])
        warmer_k = warmed if warmed > 0 else 0.0  # if it was not read, it is taken to be no warmer
        if _fell(watts, before, after) > BoostLoss.POWER_SHARE + BoostLoss.POWER_PER_K * warmer_k:
            continue
        if clocks is not None:
            most = BoostLoss.CLOCK_SHARE + BoostLoss.CLOCK_PER_K * warmer_k
            if _fell(clocks, before, after) > max(most, BoostLoss.STEPS * step):
                continue
            earlier = free & (times < start)
            if _on_a_limit(temperature, power, watts, clocks / best, earlier, span, step, scatter):
                continue
        gradual[span] = True
    return gradual


def _on_a_limit(
    temperature: Floats,
    power: Floats,
    watts: Floats,
    clock_share: Floats,
    earlier: Bools,
    span: slice,
    step: float,
    scatter: float,
) -> bool:
    """Return whether a loss shows a power limit: it came too fast for warmth, or power kept its level.

    `watts` is the smoothed power, `clock_share` the smoothed clock as a share of the best, `step` that of
    its sensor, `earlier` the free samples before the loss, `scatter` that of the power.
    """
    fine = step < BoostLoss.FINE
    low, high = BoostLoss.ON_THE_WAY if fine else (BoostLoss.ON_THE_WAY[0] - step, 1.0)
    way = earlier & (clock_share >= low) & (clock_share <= high)
    count, level = int(way.sum()), _middle(watts[span])
    if count < BoostLoss.FEWEST and fine:
        return True
    in_steps = not fine and 1 - _middle(clock_share[span]) <= BoostLoss.STEPS * step
    if count >= BoostLoss.FEWEST and not in_steps:
        by_chance = 2.5 * scatter / np.sqrt(count)
        apart = abs(_middle(watts[way]) - level)
        way[span] = True
        alike = apart <= BoostLoss.LEVEL_SHARE * level + by_chance
        if alike and no_slope(temperature[way], power[way], level):
            return True
    return bool(keeps_level_over(temperature[span], power[span], level))


def _among(times: Floats, where: Bools, start_s: float, end_s: float) -> Bools:
    return np.asarray(where & (times >= start_s) & (times <= end_s))


def _fell(values: Floats, before: Bools, after: Bools) -> float:
    had = _middle(values[before])
    return 1 - _middle(values[after]) / had if had > 0 else 0.0


def _middle(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(np.median(present)) if present.size else float("nan")
