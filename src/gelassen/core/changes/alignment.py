"""The offset between the clocks of two logs, from the moments at which both change."""

import math
from dataclasses import dataclass

import numpy as np

from gelassen.core.changes.thresholds import Alignment as At
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, SeriesLike, as_confidence, as_series, as_time
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Alignment(Result):
    """The offset of one log against another in time.

    Attributes
    ----------
    offset_s
        What must be added to the times of the second log; NaN if it cannot be told.
    low_s, high_s
        Its interval; infinite if it cannot be told.
    correlation
        Of the changes of both at that offset, between 0 and 1.
    lags_s, correlations
        The course from which the offset was read, for a figure.
    cautions
        Why it cannot be told.
    """

    offset_s: float
    low_s: float
    high_s: float
    correlation: float
    lags_s: Floats
    correlations: Floats
    cautions: tuple[Caution, ...] = ()

    def __str__(self) -> str:
        if not math.isfinite(self.offset_s):
            return "offset: cannot tell"
        return f"offset {self.offset_s:.1f} s ({self.low_s:.1f} to {self.high_s:.1f} s)"


def align_changes(
    time_a: SeriesLike,
    values_a: SeriesLike,
    time_b: SeriesLike,
    values_b: SeriesLike,
    *,
    later_s: float = 0.0,
    confidence: float = 0.95,
) -> Alignment:
    """Find the offset at which the changes of two channels fall together.

    Parameters
    ----------
    time_a, values_a : array_like, shape (n,)
        Times in s and readings of the first log; NaN marks a missed one.
    time_b, values_b : array_like, shape (m,)
        Those of the second, by its own clock.
    later_s : float
        How much later the second may answer than the first, in s (negative: earlier): a temperature
        follows power. The offset is corrected by three quarters of it, give or take as much.
    confidence : float
        For the interval.

    Raises
    ------
    InputError
        Series of different shapes, or with fewer than five readings.

    Notes
    -----
    The cross-correlation of differences on a common grid gives the offset to within a step; least
    squares of one series on the other, moved by fractions of a step, refine it. The curvature of the
    sum of squares gives its standard error, widened for the memory of the residuals; the times of
    single samples are not better known than half an interval, which is added.
    """
    level = as_confidence(confidence)
    a_t, a = _present(time_a, values_a, "first")
    b_t, b = _present(time_b, values_b, "second")
    if np.ptp(a) == 0 or np.ptp(b) == 0:
        return _cannot_tell("one of the channels never changes")
    step = max(
        min(_usual(a_t), _usual(b_t)),
        (max(np.ptp(a_t), np.ptp(b_t)) or 1.0) / At.MOST_POINTS,
    )
    coarse = max(_usual(a_t), _usual(b_t))
    grid_a = np.arange(a_t[0], a_t[-1] + step / 2, step)
    grid_b = np.arange(b_t[0], b_t[-1] + step / 2, step)
    if min(grid_a.size, grid_b.size) < At.FEWEST:
        return _cannot_tell("too few samples")
    # A slow response is taken over a longer window, which averages noise and coarse steps.
    width = max(round(max(coarse, At.WINDOW * abs(later_s)) / step), 1)
    change_a = _changes(np.interp(grid_a, a_t, a), width)
    change_b = _changes(np.interp(grid_b, b_t, b), width)
    from scipy.signal import correlate, correlation_lags  # only here: they take long to import

    raw = correlate(change_a, change_b, mode="full")
    norm_of = math.sqrt(float(change_a @ change_a) * float(change_b @ change_b))
    course = raw / norm_of if norm_of > 0 else raw
    lags = correlation_lags(change_a.size, change_b.size) * step + (grid_a[0] - grid_b[0])
    best = int(np.argmax(course))
    peak = float(course[best])
    near = np.abs(lags - lags[best]) <= max(4 * coarse, 3 * abs(later_s), 10 * step)
    rival = float(course[~near].max()) if (~near).any() else 0.0
    if peak < At.LEAST:
        return _cannot_tell("no change stands out in both", lags, course, peak)
    if rival > At.RIVAL * peak:
        return _cannot_tell(
            f"two offsets fit about as well ({lags[best]:.0f} s and "
            f"{lags[~near][np.argmax(course[~near])]:.0f} s)",
            lags, course, peak,
        )  # fmt: skip
    if later_s:  # the level of a slow response lags much longer than its first rise
        offset, error = float(lags[best]) + At.LATER * later_s, coarse / 2
    else:
        offset, error = _refined(a_t, a, b_t, b, float(lags[best]), coarse)
    spread = math.sqrt(error**2 + (_usual(a_t) ** 2 + _usual(b_t) ** 2) / 12 + (later_s / 2) ** 2)
    half = float(normal_quantile((1 + level) / 2)) * spread
    return Alignment(
        offset_s=offset,
        low_s=offset - half,
        high_s=offset + half,
        correlation=peak,
        lags_s=lags,
        correlations=course,
    )


def _present(time: SeriesLike, values: SeriesLike, which: str) -> tuple[Floats, Floats]:
    t = as_time(time)
    x = as_series("values", values, like=t)
    good = np.isfinite(x)
    good[1:] &= np.diff(t) > 0
    if good.sum() < 5:
        raise InputError(f"the {which} channel has fewer than five readings: choose another")
    return t[good], x[good]


def _usual(times: Floats) -> float:
    return float(np.median(np.diff(times)))


def _changes(values: Floats, width: int) -> Floats:
    change = values[width:] - values[:-width]
    return np.asarray(change - change.mean(), dtype=float)


def _refined(
    a_t: Floats, a: Floats, b_t: Floats, b: Floats, start: float, coarse: float
) -> tuple[float, float]:
    """Return the offset that fits best by least squares, and its standard error."""
    offsets = np.linspace(start - 1.5 * coarse, start + 1.5 * coarse, 61)
    sums = np.array([_misfit(a_t, a, b_t, b, offset)[0] for offset in offsets])
    best = int(np.argmin(sums))
    if best in (0, offsets.size - 1) or not np.isfinite(sums).all():
        return start, coarse
    curve = np.polyfit(offsets[best - 1 : best + 2], sums[best - 1 : best + 2], 2)
    offset = (
        float(offsets[best])
        if curve[0] <= 0
        else float(np.clip(-curve[1] / (2 * curve[0]), *offsets[[best - 1, best + 1]]))
    )
    total, residuals, slope = _misfit(a_t, a, b_t, b, offset)
    memory = 0.0
    if residuals.size > 3 and residuals.std() > 0:
        memory = float(np.clip(np.corrcoef(residuals[1:], residuals[:-1])[0, 1], 0.0, 0.98))
    information = float(slope @ slope)
    if information <= 0:
        return start, coarse
    variance = total / max(residuals.size - 3, 1) / information * (1 + memory) / (1 - memory)
    return offset, min(math.sqrt(variance), coarse)


def _misfit(
    a_t: Floats, a: Floats, b_t: Floats, b: Floats, offset: float
) -> tuple[float, Floats, Floats]:
    """Fit the second log, moved in time, to the first; return sum of squares, residuals and time slope."""
    moved = b_t + offset
    inside = (a_t >= moved[0]) & (a_t <= moved[-1])
    if inside.sum() < 5:
        return math.inf, np.zeros(0), np.zeros(0)
    at, y = a_t[inside], a[inside]
    x = np.interp(at, moved, b)
    if np.ptp(x) == 0:
        return math.inf, np.zeros(0), np.zeros(0)
    gain, level = np.polyfit(x, y, 1)
    residuals = y - (gain * x + level)
    return float(residuals @ residuals), residuals, gain * np.gradient(x, at)


def _cannot_tell(
    why: str, lags: Floats | None = None, course: Floats | None = None, peak: float = 0.0
) -> Alignment:
    none = np.zeros(0)
    return Alignment(
        offset_s=math.nan, low_s=-math.inf, high_s=math.inf, correlation=peak,
        lags_s=none if lags is None else lags, correlations=none if course is None else course,
        cautions=(caution("offset_unknown", why=why),),
    )  # fmt: skip
