"""The log of one chip, checked, with gaps bridged."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.recording.under_load import under_load
from gelassen.core.signal.flags import forward
from gelassen.core.signal.renewal import bridged
from gelassen.core.throttling.thresholds import ChipLog as At


@dataclass(frozen=True, slots=True, kw_only=True)
class ChipLog:
    """Readings of one chip, one entry a sample; None where they were not logged."""

    times: Floats
    temperature: Floats
    clock: Floats | None
    power: Floats | None
    power_read: Bools  # where the power was read, not bridged
    load: Floats | None
    count: Floats | None
    allowed_w: Floats | None  # the given power limit
    heat_flag: Floats | None
    power_flag: Floats | None
    loaded: Bools


def read_chip_log(
    time_s: SeriesLike,
    temperature_c: SeriesLike,
    *,
    clock_mhz: SeriesLike | None,
    power_w: SeriesLike | None,
    power_limit_w: float | SeriesLike | None,
    load_pct: SeriesLike | None,
    throttle_count: SeriesLike | None,
    heat_flag: SeriesLike | None,
    power_flag: SeriesLike | None,
) -> ChipLog:
    """Check the arguments of `find_throttling`, and bridge what loggers read at moments of their own."""
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    clock = _optional("clock_mhz", clock_mhz, times)
    if clock is not None:  # a clock is never zero, so a reading of zero is invalid
        clock = np.where(clock > 0, clock, np.nan) if (clock > 0).any() else None
    power = _optional("power_w", power_w, times)
    if power is not None and not np.nanmax(power) > 0:
        power = None  # a meter that reads nothing tells nothing
    load = _optional("load_pct", load_pct, times)
    power_read = np.zeros(times.size, dtype=bool) if power is None else np.isfinite(power)
    temperature = bridged(times, temperature)
    clock = None if clock is None else bridged(times, clock)
    power = None if power is None else bridged(times, power)
    # A load that was not read for a while is taken to go on.
    load = None if load is None else bridged(times, load, At.LOAD_UNREAD_S)
    loaded = under_load(times, temperature, load, power, clock)
    # What was read at rest alone tells nothing.
    clock, power = (
        one if one is not None and np.isfinite(one[loaded]).any() else None
        for one in (clock, power)
    )
    return ChipLog(
        times=times,
        temperature=temperature,
        clock=clock,
        power=power,
        power_read=power_read,
        load=load,
        count=_optional("throttle_count", throttle_count, times),
        allowed_w=_allowed(power_limit_w, times),
        heat_flag=_optional("heat_flag", heat_flag, times),
        power_flag=_optional("power_flag", power_flag, times),
        loaded=loaded,
    )


def _optional(name: str, values: SeriesLike | None, times: Floats) -> Floats | None:
    if values is None:
        return None
    series = as_series(name, values, like=times)
    return series if np.isfinite(series).any() else None


def _allowed(power_limit_w: float | SeriesLike | None, times: Floats) -> Floats | None:
    if power_limit_w is None:
        return None
    if np.ndim(power_limit_w) == 0:
        limit = float(np.asarray(power_limit_w, dtype=float))
        if not limit > 0:
            raise InputError(f"power_limit_w is {limit} W; a limit above zero is needed")
        return np.full(times.size, limit)
    limits = _optional("power_limit_w", power_limit_w, times)
    if limits is None or not (limits > 0).any():
        return None
    return forward(np.where(limits > 0, limits, np.nan))  # a limit of zero was not read
