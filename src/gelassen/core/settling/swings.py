"""Temperatures that swing under a steady load, such as with a fan that switches on and off.

Nothing settles there. The answer is the mean over whole swings, with the range of the swings.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import median_filter

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import t_quantile
from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.settling.steady_result import FittedCurve, SteadyState
from gelassen.core.settling.thresholds import Swings as At
from gelassen.core.signal.grid import Grid


@dataclass(frozen=True, slots=True)
class Swings:
    """The swings of a load, and the means of whole swings, from one peak to the next."""

    since_s: float  # the first peak
    period_s: float
    low: float  # mean of its turning points
    high: float
    means: Floats  # empty if it turned back only once
    power_w: float = float("nan")  # mean over the swings

    @property
    def is_regular(self) -> bool:
        """Whether it swung often enough, with similar swings."""
        return self.means.size > 0

    def caution(self, unit: str, with_load: bool) -> Caution:
        """Return the caution.

        `unit` is that of the temperatures, `with_load` whether it follows its load.
        """
        code = "swings" if self.is_regular else "swung_once"
        return caution(
            f"{code}_with_load" if with_load else code,
            low=self.low, high=self.high, unit=unit, period_s=self.period_s,
        )  # fmt: skip


def find_swings(
    times_s: Floats,
    rise_k: Floats,
    room_c: Floats | None,
    power_w: Floats | None,
    start_s: float,
    end_s: float,
) -> Swings | None:
    """Return the swings of a load, or None where it does not swing by itself.

    Parameters
    ----------
    times_s, rise_k : array, one value a step
        Rise over its reference, or temperature; NaN where not read.
    room_c, power_w : array, optional
        Reference and power: a part follows what these do.
    start_s, end_s : float
        The load.
    """
    used = np.isfinite(rise_k) & (times_s >= start_s + At.BOOST_S) & (times_s <= end_s)
    if not used.any():
        return None
    times, rise = times_s[used], rise_k[used]
    width_s = max(At.BLOCK_S, (end_s - start_s) / At.BLOCKS)
    number = ((times - start_s) / width_s).astype(int)
    count = np.bincount(number)
    middle = np.bincount(number, times)[count > 0] / count[count > 0]
    means = np.bincount(number, rise)[count > 0] / count[count > 0]
    means = median_filter(means, 3, mode="nearest")  # removes spikes of the load
    turns = _turns(means, max(At.LEAST_K, At.SHARE * float(np.ptp(means))))
    peaks, troughs = turns[::2], turns[1::2]  # they alternate, beginning with a peak
    if troughs.size == 0:
        return None
    at_s = middle[peaks]
    periods = np.diff(at_s) if at_s.size > 1 else 2 * (middle[troughs] - at_s)
    period_s = float(np.mean(periods))
    if period_s > At.LONGEST_S or end_s - middle[turns[-1]] > At.GOES_ON * period_s:
        return None
    within = (times >= at_s[0]) & (times <= middle[turns[-1]])
    power = np.empty(0) if power_w is None else power_w[used][within]
    power = power[np.isfinite(power)]
    if power.size and _spread(power) > At.POWER_SWINGS * np.median(power):
        return None
    heights = means[peaks[: troughs.size]] - means[troughs[: peaks.size]]
    unlike = max(np.std(periods) / period_s, np.std(heights) / np.mean(heights))
    each: Floats = np.empty(0)
    if unlike <= At.ALIKE and periods.size >= At.FEWEST and at_s.size > At.FEWEST:
        whole = within & (times <= at_s[-1])
        which = np.searchsorted(at_s, times[whole], side="right").clip(1, at_s.size - 1) - 1
        each = np.bincount(which, rise[whole]) / np.bincount(which)
    low, high = float(means[troughs].mean()), float(means[peaks].mean())
    room = None if room_c is None else room_c[used][within]
    if not _by_itself(high - low, each, room, float(np.ptp(means))):
        return None
    power_mean = float(power.mean()) if power.size else float("nan")
    return Swings(float(at_s[0]), period_s, low, high, np.asarray(each), power_mean)


def _by_itself(height_k: float, each: Floats, room_c: Floats | None, range_k: float) -> bool:
    """Return whether swings are the part's own: not the room's, and not noise on what still settles."""
    if room_c is not None and _spread(room_c) > At.ROOM_SWINGS * height_k:
        return False
    if each.size:
        return bool(np.ptp(each) <= At.RIDES * height_k)
    return height_k >= max(At.ONCE_K, At.ONCE_SHARE * range_k)


def _spread(values: Floats) -> float:
    """Return how far values lie apart, without the outermost."""
    present = values[np.isfinite(values)]
    return float(np.ptp(np.percentile(present, [5, 95]))) if present.size else 0.0


def _turns(series: Floats, least: float) -> NDArray[np.int64]:
    """Return where a series turns, leaving out what goes back and forth by less than this."""
    turns: list[int] = []
    low = high = 0
    way = 1  # a load heats first
    for k, value in enumerate(series):
        if value > series[high]:
            high = k
        if value < series[low]:
            low = k
        if way > 0 and series[high] - value > least:
            turns.append(high)
            way, low = -1, k
        elif way < 0 and value - series[low] > least:
            turns.append(low)
            way, high = 1, k
    return np.array(turns, dtype=np.int64)


def mean_of(
    swings: Swings,
    span: LoadSpan,
    grid: Grid,
    room: Floats | None,
    *,
    hidden_k: float,
    band_k: float,
    confidence: float,
    with_load: bool,
) -> SteadyState:
    """Answer with the mean over whole swings, or with what it swings between.

    Parameters
    ----------
    swings : Swings
        What was found.
    span : LoadSpan
        The load.
    grid, room : Grid and array
        Steps of time, and the reference at each.
    hidden_k : float
        What the steps of the sensors hide, as a standard error.
    band_k, confidence : float
        As for `steady_state`.
    with_load : bool
        Whether it follows a load that comes and goes.
    """
    count, height = swings.means.size, swings.high - swings.low
    if swings.is_regular:
        # Few swings hardly tell their scatter, so it is joined to a share of their height.
        freedom = count - 1 + At.USUAL_FREEDOM
        squares = float(((swings.means - swings.means.mean()) ** 2).sum())
        squares += At.USUAL_FREEDOM * (At.DIFFER * height) ** 2
        error = float(np.hypot(np.sqrt(squares / freedom / count), hidden_k))
        half = float(t_quantile((1 + confidence) / 2, freedom)) * error
        value = float(swings.means.mean())
    else:
        value, half, error = (swings.low + swings.high) / 2, height / 2, height / 4
    unit = "°C" if room is None else "K"
    reached = swings.is_regular and float(np.ptp(swings.means)) <= 2 * band_k
    shown = (grid.times_s >= swings.since_s) & (grid.times_s <= span.end_s)
    drawn_s = grid.times_s[shown]
    flat = np.ones(drawn_s.size)
    return SteadyState(
        value=value,
        low=value - half,
        high=value + half,
        standard_error=error,
        reached=reached,
        reached_at_s=swings.since_s if reached else None,
        time_constants_s=(),
        trend_k_per_h=float("nan"),
        window_s=(span.start_s, span.end_s),
        extrapolated=not reached,
        unit=unit,
        confidence=confidence,
        curve=FittedCurve(
            time_s=drawn_s,
            value=value * flat,
            low=(value - half) * flat,
            high=(value + half) * flat,
            conditions_c=0 * flat if room is None else room[shown],
        ),
        power_w=swings.power_w,
        swings_between=(swings.low, swings.high),
        cautions=(swings.caution(unit, with_load),),
    )
