"""A chip whose temperature stands still at its limit while its clock and power give way."""

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import joined_spans, running_median, within
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.thresholds import Held, Smooth


def gives_way_at_limit(
    times: Floats,
    temperature: Floats,
    clock: Floats,
    power: Floats,
    limit_c: float,
    loaded: Bools,
) -> Bools:
    """Return where both clock and power are below what they were on arrival at the limit.

    Boost loss ends where the temperature is constant. A clock that keeps falling there is held back by
    heat, even if it falls by less than ordinary boost loss. A clock read in coarse steps need not be
    lower, only not higher.

    Parameters
    ----------
    times, temperature, clock, power : ndarray, shape (n,)
        Sample times in s, °C, MHz, W.
    limit_c : float
        The limit, °C.
    loaded : ndarray of bool, shape (n,)
        Where the machine is under load.
    """
    given = np.zeros(times.size, dtype=bool)
    rides_k = max(Held.RIDES_K, 0.5 + step_size(temperature) / 2)
    rides = loaded & (running_median(temperature, times, Smooth.LONG_S) >= limit_c - rides_k)
    joined = joined_spans(times, rides, Held.PAUSE_S)
    if not any(end - start >= Held.RIDES_S for start, end in joined):
        return given
    slow_clock, slow_power = (
        running_median(series, times, Smooth.LONG_S) for series in (clock, power)
    )
    for start, end in joined:
        before = within(times, start - Held.ARRIVAL_S, start)
        then = loaded[before]
        if end - start < Held.RIDES_S or then.sum() < Held.FEWEST:
            continue
        had_clock, had_power = (_middle(series[before][then]) for series in (clock, power))
        inside = within(times, start, end)
        coarse = step_size(clock[loaded]) > Held.COARSE * had_clock
        lower = slow_clock[inside] <= (1.0 if coarse else 1 - Held.CLOCK_LOST) * had_clock
        given[inside] = lower & (slow_power[inside] < (1 - Held.POWER_LOST) * had_power)
    return given & loaded


def _middle(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(np.median(present)) if present.size else float("nan")
