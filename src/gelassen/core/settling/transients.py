"""How a temperature came up under load and went back to rest after it."""

import math
from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.settling.thresholds import Course
from gelassen.core.signal.noise import noise_std, step_size


@dataclass(frozen=True, slots=True, kw_only=True)
class Transients(Result):
    """Times in s from the start or the end of the load; None where the log does not show it.

    Attributes
    ----------
    first_minute_k
        Rise in the first minute of load; NaN without readings before the load.
    spike_k
        By how much the first half minute overshot what came right after it; 0 if it did not.
    within_1k_s
        When the temperature came within 1 K of its steady value for good.
    half_back_s
        When half of the rise under load was gone again.
    rest_s
        When it was back within 1 K of rest.
    left_k
        What was left over rest at the end of the log; NaN without rest or cooldown.
    """

    first_minute_k: float
    spike_k: float
    within_1k_s: float | None
    half_back_s: float | None
    rest_s: float | None
    left_k: float

    def __str__(self) -> str:
        parts = []
        if self.within_1k_s is not None:
            parts.append(f"within 1 K after {self.within_1k_s:.0f} s")
        if self.rest_s is not None:
            parts.append(f"back at rest after {self.rest_s:.0f} s")
        return ", ".join(parts) or "not seen in this log"


def transients(
    time_s: Floats,
    rise_k: Floats,
    load_s: tuple[float, float],
    *,
    steady_k: float | None = None,
) -> Transients:
    """Say how a temperature came up and went back.

    Parameters
    ----------
    time_s, rise_k : ndarray, shape (n,)
        Times in s, never backwards, and the rise over the reference (or the temperature itself);
        NaN marks a missed reading.
    load_s : tuple of float
        Start and end of the load.
    steady_k : float, optional
        Where it settles; without it there is no time to come within 1 K of it.
    """
    present = np.isfinite(rise_k)
    t, x = time_s[present], rise_k[present]
    start, end = load_s
    rest = _mean(x[(t < start) & (t >= start - Course.REST_S)])
    load, after = (t >= start) & (t <= end), t > end
    begin_s, end_s = Course.MINUTE_S
    minute = _mean(x[(t >= start + begin_s) & (t <= start + end_s) & load])
    smooth_t, smooth_x = _smoothed(t[load], x[load])
    cool_t, cool_x = _smoothed(t[after], x[after])
    top = float(smooth_x[-1]) if smooth_x.size else math.nan
    back = None
    if cool_x.size and math.isfinite(rest) and top > rest:
        back = _first_below(cool_t, cool_x, (top + rest) / 2)
    return Transients(
        first_minute_k=minute - rest,
        spike_k=_spike(t[load] - start, x[load]),
        within_1k_s=None if steady_k is None else _since(smooth_t, smooth_x, steady_k, start),
        half_back_s=None if back is None else back - end,
        rest_s=_at_rest(cool_t, cool_x, rest, end),
        left_k=float(cool_x[-1]) - rest if cool_x.size else math.nan,
    )


def _mean(values: Floats) -> float:
    return float(values.mean()) if values.size else math.nan


def _smoothed(t: Floats, x: Floats) -> tuple[Floats, Floats]:
    """Return means of short blocks at their middle times."""
    if t.size < 2:
        return t, x
    numbers = np.floor((t - t[0]) / Course.SMOOTH_S).astype(int)
    counts = np.bincount(numbers)
    with_any = counts > 0
    sums = np.bincount(numbers, weights=x)[with_any]
    times = np.bincount(numbers, weights=t)[with_any]
    return times / counts[with_any], sums / counts[with_any]


def _spike(loaded_s: Floats, x: Floats) -> float:
    """Return by how much the first half minute stands out over the minute that follows it."""
    first = x[loaded_s <= Course.SPIKE_S]
    following = x[(loaded_s > Course.SPIKE_S) & (loaded_s <= Course.AFTER_SPIKE_S)]
    if first.size < 3 or following.size < 3:
        return 0.0
    over = float(first.max() - following.max())
    sigmas, steps, least_k = Course.SPIKE
    return over if over > max(sigmas * noise_std(x), steps * step_size(x), least_k) else 0.0


def _since(t: Floats, x: Floats, value: float, start: float) -> float | None:
    """Return from when on it stayed within the band; None if it did not in this log."""
    outside = np.flatnonzero(np.abs(x - value) > Course.BAND_K)
    if outside.size == 0:
        return 0.0
    if outside[-1] + 1 >= x.size:
        return None
    return float(t[outside[-1] + 1] - start)


def _first_below(t: Floats, x: Floats, level: float) -> float | None:
    below: Bools = x <= level
    return float(t[int(np.argmax(below))]) if below.any() else None


def _at_rest(t: Floats, x: Floats, rest: float, end: float) -> float | None:
    if not (t.size and math.isfinite(rest)):
        return None
    reached = _first_below(t, x, rest + Course.BAND_K)
    return None if reached is None else reached - end
