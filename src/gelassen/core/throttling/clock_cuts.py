"""A governor that cuts the clock at the limit and gives it back once the chip has cooled."""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import (
    forward,
    running_median,
    spans_of,
    tidied,
    usual_gap_s,
    within,
)
from gelassen.core.throttling.thresholds import ClockCuts, Smooth


def cut_by_heat(
    times: Floats,
    temperature: Floats,
    clock: Floats,
    slow: Bools,
    near: Bools,
    loaded: Bools,
    ahead_s: float = 1.5,
) -> Bools:
    """Return the stretches of low clock that began at the temperature limit and ended below it.

    A stretch that lasts to the end of the load counts if others before it were given back.

    Parameters
    ----------
    times, temperature, clock : ndarray, shape (n,)
        Sample times in s, temperature in °C, clock in MHz.
    slow, near, loaded : ndarray of bool, shape (n,)
        Where the clock is below its best, the temperature near its limit, the machine under load.
    ahead_s : float
        The clock before a stretch is read up to so long before it: smoothed flags begin a little late.
    """
    cut = np.zeros(times.size, dtype=bool)
    given_back = False
    if not near.any():
        return cut
    reach_s = max(ClockCuts.AT_CUT_S, Smooth.GAPS * usual_gap_s(times))
    hottest = float(np.nanmax(temperature))
    for start, end in spans_of(times, slow):
        around = within(times, start - reach_s, start + 2)
        # Once a cut was given back, later ones that slow readings show a little late are cuts as well.
        warm = temperature[around] >= hottest - ClockCuts.CUTS_AGAIN_WITHIN_K
        if not (warm if given_back else near[around]).any():
            continue
        before = clock[within(times, start - reach_s, start - ahead_s)]
        after = clock[within(times, start, min(start + reach_s, end))]
        if not (np.isfinite(before).any() and np.isfinite(after).any()):
            continue
        if np.nanmedian(after) > (1 - ClockCuts.SUDDEN_SHARE) * np.nanmax(before):
            continue
        works_on = loaded[within(times, end, end + reach_s)][1:].any()
        at_end = temperature[within(times, end - 2, end)]
        given_back |= bool(works_on and (at_end > hottest - ClockCuts.GIVEN_BACK_WITHIN_K).any())
        if given_back:
            cut[within(times, start, end)] = True
    return cut


def cut_again_and_again(
    times: Floats, temperature: Floats, clock: Floats, low: Bools, near: Bools, loaded: Bools
) -> Bools:
    """Return cuts as short as single readings, where there are several of them.

    `low` is where single readings of the clock are low; the rest is as for `cut_by_heat`.
    """
    ahead_s = 0.5 * usual_gap_s(times)
    cut = low & cut_by_heat(times, temperature, clock, low, near, loaded, ahead_s)
    several = len(spans_of(times, cut)) >= ClockCuts.AGAIN
    return cut if several else np.zeros(times.size, dtype=bool)


def lowered_at_limit(
    times: Floats,
    temperature: Floats,
    clock: Floats,
    slow: Bools,
    cut: Bools,
    near: Bools,
    limit_c: float,
    near_k: float,
) -> tuple[Bools, Bools]:
    """Return stretches of low clock that began at the limit, and where in them the chip is hardly cooler.

    A governor that lowers and raises the clock in steps lets the temperature swing below its limit. A
    sudden drop is not meant here: it is the end of a boost, or a cut.
    """
    begun, close = np.zeros(times.size, dtype=bool), np.zeros(times.size, dtype=bool)
    gap_s = usual_gap_s(times)
    reach_s = max(ClockCuts.AT_CUT_S, Smooth.GAPS * gap_s)
    within_k = max(ClockCuts.STAYS_WITHIN_K, near_k + 2)
    warm = running_median(temperature, times, Smooth.SHORT_S) >= limit_c - within_k
    held = forward(clock)
    drops = np.append(0.0, -np.diff(held) / held[:-1].clip(1e-9))
    far = (drops > ClockCuts.AT_ONCE_SHARE + ClockCuts.STEPS_SHARE_PER_S * gap_s) & ~cut
    for start, end in spans_of(times, tidied(times, slow)):
        if near[within(times, start - reach_s, start + 2)].any():
            later = within(times, start + max(2.0, Smooth.GAPS * gap_s), end)
            if far[later].any():
                end = float(times[later][far[later]][0]) - gap_s / 2
            inside = within(times, start, end)
            begun[inside] = True
            close[inside] = warm[inside]
    return begun, close
