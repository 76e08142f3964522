"""Which samples are under load, and which of these surely not beside a pause."""

import numpy as np
from scipy.ndimage import binary_dilation

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.load_span import span_from_level, span_from_temperature
from gelassen.core.recording.thresholds import UnderLoad
from gelassen.core.signal.flags import usual_gap_s


def under_load(
    times: Floats,
    temperature: Floats,
    load: Floats | None,
    power: Floats | None,
    clock: Floats | None,
) -> Bools:
    """Return which samples are under load. The load channel tells best."""
    if load is not None:
        busy = np.nan_to_num(load, nan=0.0) > 0.5 * float(np.nanmax(load))
        return np.asarray(busy & (np.nanmax(load) > UnderLoad.BUSY_PCT))
    spans = [None if level is None else span_from_level(times, level) for level in (power, clock)]
    by_power, by_clock = spans
    span = by_power or by_clock or span_from_temperature(times, temperature)
    end_s = span.end_s
    if by_power and by_clock and power is not None and by_clock.end_s > end_s:
        # A board that takes half of the power away does not end the load: the clock is still up.
        after = (times > end_s) & (times <= by_clock.end_s) & np.isfinite(power)
        loaded = (times >= span.start_s) & (times <= by_clock.end_s)
        if after.any() and np.median(_above_rest(power, loaded)[after]) > UnderLoad.STILL_LOADED:
            end_s = by_clock.end_s
    return np.asarray((times >= span.start_s) & (times <= end_s))


def without_pauses(times: Floats, loaded: Bools, power: Floats | None) -> Bools:
    """Return which samples are under load, as are those just before and after them."""
    rests = ~loaded
    if power is not None:
        rests = rests | (_above_rest(power, loaded) <= UnderLoad.AT_REST)
    around = max(round(UnderLoad.AROUND_S / usual_gap_s(times)), 1)
    return np.asarray(~binary_dilation(rests, iterations=around))


def _above_rest(power: Floats, loaded: Bools) -> Floats:
    """Return how far power is above its rest, as a share of the load's; NaN where rest was not seen."""
    known = np.isfinite(power)
    if not ((known & loaded).any() and (known & ~loaded).any()):
        return np.full(power.size, np.nan)
    rest_w = float(np.median(power[known & ~loaded]))
    top_w = float(np.percentile(power[known & loaded], 90))
    if not rest_w < UnderLoad.TOLD_APART * top_w:
        return np.full(power.size, np.nan)
    return np.asarray((power - rest_w) / (top_w - rest_w))
