"""A temperature limit below the given one: the temperature stands still there while the power falls."""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import joined_spans, running_median, within
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.thresholds import LowerLimit


def shown_limit(
    times: Floats,
    temperature: Floats,
    clock: Floats,
    power: Floats | None,
    loaded: Bools,
    limit_c: float,
) -> float | None:
    """Return where the chip is held, in °C, if it shows that this is below its limit.

    A fan that is controlled to a temperature keeps it still as well, but takes no clock. So a clock must
    have been logged.

    Parameters
    ----------
    times, temperature : ndarray, shape (n,)
        Sample times in s, °C.
    clock, power : ndarray, shape (n,)
        MHz, W: what a governor takes; power may be None.
    loaded : ndarray of bool, shape (n,)
        Where the machine is under load.
    limit_c : float
        The limit that was told, °C.
    """
    taken = [(clock, LowerLimit.CLOCK_TAKEN), (power, LowerLimit.POWER_TAKEN)]
    if loaded.sum() < 20:
        return None
    smooth = running_median(temperature, times, LowerLimit.SMOOTH_S)
    top_c = float(np.percentile(smooth[loaded], 95))
    if not limit_c - LowerLimit.MOST_K <= top_c <= limit_c - LowerLimit.LEAST_K:
        return None
    still = loaded & (
        np.abs(smooth - top_c)
        <= max(
            LowerLimit.STILL_K,
            LowerLimit.STILL_STEPS * step_size(temperature),
        )
    )
    joined = joined_spans(times, still, LowerLimit.PAUSE_S)
    start, end = max(joined, key=lambda ends: ends[1] - ends[0], default=(0.0, 0.0))
    if end - start < LowerLimit.STILL_S:
        return None
    inside = within(times, start, end)
    for series, least in taken:
        if series is None:
            continue
        course = running_median(series, times, LowerLimit.SMOOTH_S)[inside]
        ahead = max(round(LowerLimit.SMOOTH_S / max((end - start) / course.size, 1e-9)), 1)
        had, left = float(course[0]), float(np.median(course[-max(course.size // 3, 1) :]))
        gone = had - left
        if not gone > least * had:
            return None
        if (
            ahead < course.size
            and (course[:-ahead] - course[ahead:]).max() > LowerLimit.AT_ONCE * gone
        ):
            return None
    return top_c
