"""The steady state of a run that still goes on, found in the same way as for a finished run."""

from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result
from gelassen.core.recording.judging import (
    choose_reference,
    choose_temperature,
    is_coolant,
    with_mean_of_cores,
)
from gelassen.core.recording.part_series import part_series
from gelassen.core.recording.series import series_of
from gelassen.core.settling.steady import steady_state
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.thresholds import Looking


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlook(Result):
    """Where a run that still goes on will settle, with its present interval.

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
    chosen = choose_temperature(frame, loaded, channel, over).channel
    if chosen is None:
        return None
    temperature = series_of(frame, chosen)
    if temperature is None or not np.isfinite(temperature[loaded]).any():
        return None
    part = part_series(frame, chosen, temperature)
    power = part.power_w
    room = None if over is None else series_of(frame, over)
    late = loaded & (times > times[-1] - Looking.LOOK_BACK_S)
    hottest = part.hottest_c[late]
    near = limit_c is not None and float(np.nanmedian(hottest)) > limit_c - Looking.AT_LIMIT_K
    try:
        if near and power is not None and np.isfinite(power[late]).any():
            value, within = _held_power(times[loaded], power[loaded])
            return Outlook(
                value=value, low=value - within, high=value + within, within=within, unit="W",
                at_limit=True, channel=chosen,
            )  # fmt: skip
        answer = steady_state(
            times, temperature, reference_c=room, power_w=power, load_start_s=load_start_s,
            confidence=confidence, reference_is_coolant=is_coolant(over),
        )  # fmt: skip
    except InputError:
        return None
    answer = widened_for_looking(answer)
    return Outlook(
        value=answer.value,
        low=answer.low,
        high=answer.high,
        within=(answer.high - answer.low) / 2,
        unit=answer.unit,
        at_limit=False,
        channel=chosen,
    )


def _held_power(times: Floats, power: Floats) -> tuple[float, float]:
    """Return the power a chip holds at its limit, and how far it may still move.

    The governor moves it in steps and spikes that no exponential describes. So the means of two stretches
    are compared, and their scatter is added.
    """
    late = times > times[-1] - 2 * Looking.STRETCH_S
    number = ((times[-1] - times[late]) / Looking.BLOCK_S).astype(int)  # 0 is the newest
    known = np.isfinite(power[late])
    counts = np.bincount(number[known])
    means = np.bincount(number[known], weights=power[late][known])[counts > 0] / counts[counts > 0]
    half = means.size // 2
    if half < 3 or times[-1] - times[0] < 2 * Looking.STRETCH_S:
        return float(means.mean()), float("inf")
    new, old = means[:half], means[half:]
    scatter = float(np.hypot(new.std(ddof=1), old.std(ddof=1))) / np.sqrt(half)
    return float(new.mean()), abs(float(new.mean() - old.mean())) + 2 * scatter


def widened_for_looking(steady: SteadyState) -> SteadyState:
    """Return a steady state with a wider interval, for a run that ended because its interval was narrow."""
    return replace(
        steady,
        low=steady.value - Looking.FOR_LOOKING * (steady.value - steady.low),
        high=steady.value + Looking.FOR_LOOKING * (steady.high - steady.value),
        standard_error=Looking.FOR_LOOKING * steady.standard_error,
    )
