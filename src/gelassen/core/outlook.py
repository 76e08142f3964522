"""What could be said if the load ended now: the steady state by the path a finished run takes."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.errors import InputError
from gelassen.core.judging import (
    choose_reference,
    choose_temperature,
    hottest_reading,
    with_mean_of_cores,
)
from gelassen.core.result import Result
from gelassen.core.steady import steady_state
from gelassen.core.tabular import series_of

# A chip that spends its last minutes this near to its limit is held there: power tells, not temperature.
_AT_LIMIT_K, _LOOK_BACK_S = 1.5, 120.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlook(Result):
    """Where a run that still goes on will settle, and how well that is known by now.

    Attributes
    ----------
    value, low, high
        The steady rise (K; °C without a reference) and its interval. At the limit: the steady power.
    within
        Half the width of the interval; infinite if it cannot be told.
    unit
        "K", "°C", or "W" at the limit.
    at_limit
        Whether the chip is held at its limit temperature, so that power is what settles.
    channel
        The channel that is judged by.
    """

    value: float
    low: float
    high: float
    within: float
    unit: str
    at_limit: bool
    channel: str

    def __str__(self) -> str:
        if not np.isfinite(self.within):
            return "cannot tell yet where it settles"
        held = "at the limit, held back; " if self.at_limit else ""
        return f"{held}settles at {self.value:.1f} ±{self.within:.1f} {self.unit}"


def outlook(
    frame: pd.DataFrame,
    load_start_s: float,
    *,
    channel: str | None = None,
    reference: str | None = None,
    limit_c: float | None = None,
    confidence: float = 0.95,
) -> Outlook | None:
    """Say where a run settles, from what was read so far; None without any temperature.

    Parameters
    ----------
    frame : DataFrame
        Index: elapsed seconds. Columns: channels.
    load_start_s : float
        When the load began, in s.
    channel, reference, limit_c, confidence
        As for `summarise_run`.

    Raises
    ------
    InputError
        A channel that is not there.
    """
    frame = with_mean_of_cores(frame, channel)
    times = frame.index.to_numpy(dtype=float)
    loaded = times >= load_start_s
    over = choose_reference(frame, reference, named=False)
    chosen, _ = choose_temperature(frame, loaded, channel, over)
    if chosen is None:
        return None
    temperature = series_of(frame, chosen)
    power = series_of(frame, "cpu.package.power_w")
    if temperature is None or not np.isfinite(temperature[loaded]).any():
        return None
    room = None if over is None else series_of(frame, over)
    late = loaded & (times > times[-1] - _LOOK_BACK_S)
    hottest = hottest_reading(frame, temperature)[late]
    near = limit_c is not None and float(np.nanmedian(hottest)) > limit_c - _AT_LIMIT_K
    try:
        if near and power is not None and np.isfinite(power[late]).any():
            answer = steady_state(times, power, load_start_s=load_start_s, confidence=confidence)
            unit = "W"
        else:
            answer = steady_state(
                times, temperature, reference_c=room, power_w=power, load_start_s=load_start_s,
                confidence=confidence,
            )  # fmt: skip
            unit = answer.unit
    except InputError:
        return None
    return Outlook(
        value=answer.value,
        low=answer.low,
        high=answer.high,
        within=(answer.high - answer.low) / 2,
        unit=unit,
        at_limit=near,
        channel=chosen,
    )
