"""Where a temperature settles under constant load, also when the log ends before it is there."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from gelassen.core.errors import InputError
from gelassen.core.grid import Grid, lagged, make_grid
from gelassen.core.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_confidence,
    as_positive,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.loadspan import LoadSpan, span_from_level, span_from_temperature
from gelassen.core.noise import noise_covariance, noise_density, quantisation_error, step_size
from gelassen.core.powereffect import power_effect
from gelassen.core.relaxation import Relaxation, fit_relaxation, time_constant_list
from gelassen.core.result import Result

_BINS = 80
# A boost of the clock lasts up to about a minute and is not the steady state.
_BOOST_S = 60.0
_FEWEST_READINGS = 10
# How late a change of the room arrives, before the first fit tells better: a typical heatsink.
USUAL_LAG_S = 120.0
# Exponentials allowed in each pass; each pass knows noise, room and power better. Bends: the last.
_PASSES = (2, 3, 3)
# Conductances and heat capacities are lumps: early in the load the curve is trusted to 1 %.
_ROUGH = 0.01
# How a change of the reference arrives is inferred, and the rise itself depends on it a little: fans
# on curves turn faster, leakage grows. Shares of the delay's effect and of the change itself.
_DELAY_IN_DOUBT, _GAIN_IN_DOUBT = 0.5, 0.2
# What power that wandered did to the temperature is inferred too.
_WANDER_IN_DOUBT = 0.35
# Power that is not logged wanders all the same: by this share, for about so long.
_UNLOGGED_WANDER, _WANDER_S = 0.004, 300.0
# So does a room that is not logged.
_UNLOGGED_ROOM_K, _ROOM_S = 0.4, 2400.0
# Share of what is extrapolated that stays in doubt: no model of three bodies is the machine.
_BEYOND_IN_DOUBT = 0.04
# Share of the settled rise at rest, where no reference tells it.
_USUAL_START = 0.12
_CURVE_POINTS = 60
# "Reached" is said only when it is likely: saying it too early is the worse mistake.
_SURE_REACHED = 0.8


@dataclass(frozen=True, slots=True, kw_only=True)
class FittedCurve(Result):
    """The fitted approach and its interval, from where the fit begins to a while beyond the log.

    In the unit of the steady value, at the mean reference and mean power of the load.
    """

    time_s: Floats
    value: Floats
    low: Floats
    high: Floats


@dataclass(frozen=True, slots=True, kw_only=True)
class SteadyState(Result):
    """Where the temperature settles; infinite ends of the interval mean "cannot tell".

    Attributes
    ----------
    value, low, high
        The steady value and its confidence interval: K of rise if a reference was given, else °C.
    standard_error
        Standard uncertainty of `value`, in K. Says what this one log leaves open, not what
        remounting the cooler would change.
    reached, reached_at_s
        Whether the log ends within `band_k` of the value (said only if likely to be so), and from
        when on it stays there, in s.
    time_constants_s
        The time constants that explain most of the curve, ascending, in s.
    time_constant_intervals_s
        The interval of each of them.
    curve
        The fitted approach; None where nothing could be fitted.
    trend_k_per_h
        How fast the temperature still moved at the end of the load, in K/h.
    window_s
        The stretch that was taken as the load, start and end in s.
    extrapolated
        True if the value lies beyond what was measured.
    cautions
        What weakens the answer, and what to do about it.
    """

    value: float
    low: float
    high: float
    standard_error: float
    reached: bool
    reached_at_s: float | None
    time_constants_s: tuple[float, ...]
    trend_k_per_h: float
    window_s: tuple[float, float]
    extrapolated: bool
    unit: str
    confidence: float
    cautions: tuple[str, ...] = ()
    time_constant_intervals_s: tuple[tuple[float, float], ...] = ()
    curve: FittedCurve | None = None

    def __str__(self) -> str:
        percent = f"{100 * self.confidence:g} %"
        answer = f"settles at {self.value:.1f} {self.unit}"
        if np.isfinite(self.low) and np.isfinite(self.high):
            answer += f" ({percent}: {self.low:.1f} to {self.high:.1f})"
        elif np.isfinite(self.low):
            answer += f"; cannot tell how far above {self.low:.1f} {self.unit}"
        elif np.isfinite(self.high):
            answer += f"; cannot tell how far below {self.high:.1f} {self.unit}"
        else:
            answer += "; cannot tell how exactly"
        if self.reached and self.reached_at_s is not None:
            answer += f", reached after {(self.reached_at_s - self.window_s[0]) / 60:.0f} min"
        else:
            answer += ", not reached: extrapolated"
        return "\n".join([answer, *(f"  caution: {text}" for text in self.cautions)])


def steady_state(
    time_s: SeriesLike,
    temperature_c: SeriesLike,
    *,
    reference_c: SeriesLike | None = None,
    power_w: SeriesLike | None = None,
    load_start_s: float | None = None,
    band_k: float = 0.5,
    confidence: float = 0.95,
) -> SteadyState:
    """Say where a temperature settles if load and room stay as they were during the load.

    Parameters
    ----------
    time_s : array_like, shape (n,)
        Sample times in s, irregular if need be.
    temperature_c : array_like, shape (n,)
        Temperature of the part in °C; NaN marks a missed reading.
    reference_c : array_like, shape (n,), optional
        Room air or coolant in °C. With it the answer is a rise in K.
    power_w : array_like, shape (n,), optional
        Power of the part in W: tells when the load ran, and lets the answer allow for its wander.
    load_start_s : float, optional
        When the load began, in s. Found from power or temperature if not given.
    band_k : float
        How near to the value counts as reached, in K.
    confidence : float
        Share of such intervals that should cover the truth.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no reading at all, options out of
        range.

    Notes
    -----
    Readings are averaged in bins that lengthen with time since the start. Sums of up to three
    exponentials are fitted to them and averaged by their evidence (`core/relaxation.py`). A change
    of the reference arrives late: it is delayed by the fitted time constants, each by its share.
    Wander of the power that heat does not explain is followed through the fitted time constants and
    subtracted. The noise's memory and the steps of the sensors widen the interval
    (`core/noise.py`). Not yet done: conductances that change during the run (fans on curves, free
    convection) are treated as constant; changes of conditions in mid-run must be cut out before.
    """
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    confidence = as_confidence(confidence)
    as_positive("band_k", band_k, "K")
    reference = None if reference_c is None else as_series("reference_c", reference_c, like=times)
    power = None if power_w is None else as_series("power_w", power_w, like=times)
    cautions: list[str] = []
    if reference is not None:
        need_readings("reference_c", reference)
        cautions += _reference_cautions(reference)
    if power is not None and not np.isfinite(power).any():
        power = None
        cautions.append("power was not read: its wander could not be allowed for")

    span = _load_span(times, temperature, power, load_start_s)
    inside = (times >= span.start_s) & (times <= span.end_s) & np.isfinite(temperature)
    unit = "°C" if reference is None else "K"
    if span.found_end and times[-1] - span.end_s > max(5.0, 0.01 * (span.end_s - span.start_s)):
        cautions.append(
            f"the load ended at {span.end_s:.0f} s: what was logged afterwards is left out"
        )
    if inside.sum() < _FEWEST_READINGS or np.ptp(times[inside]) <= 0:
        return _cannot_tell(times, temperature, reference, span, confidence, cautions)

    grid = make_grid(times[times <= span.end_s], span.end_s)
    curve = grid.averaged(times, temperature)
    room = None if reference is None else grid.filled(times, reference)
    watts = None if power is None else grid.filled(times, power)
    begin_s = span.start_s + _boost_length(grid, watts, span)
    fit = _fit(grid, curve, room, watts, span, begin_s)
    answer = _answer(fit, span, begin_s, band_k, confidence, unit)
    if fit.hidden_k > 0.1 and answer.reached:
        step = step_size(temperature[inside])
        cautions.append(
            f"readings move in steps of {step:g} K with little noise: up to {fit.hidden_k:.1f} K stay "
            "unseen"
        )
    return replace(answer, cautions=(*cautions, *answer.cautions))


@dataclass(frozen=True, slots=True)
class _Fit:
    """A fitted curve, and what its readings cannot show."""

    relaxation: Relaxation
    hidden_k: float  # by the steps of the sensors
    unseen_k: float  # that, and what is in doubt about reference and power
    seen_k: float  # how far the readings rose


def _load_span(
    times: Floats, temperature: Floats, power: Floats | None, load_start_s: float | None
) -> LoadSpan:
    span = None if power is None else span_from_level(times, power)
    span = span or span_from_temperature(times, temperature)
    if load_start_s is None:
        return span
    if not times[0] - 1 <= load_start_s < times[-1]:
        raise InputError(
            f"load_start_s is {load_start_s:g} s; the log runs from {times[0]:g} to {times[-1]:g} s"
        )
    if span.end_s <= load_start_s:
        return LoadSpan(float(load_start_s), float(times[-1]), True, False)
    return replace(span, start_s=float(load_start_s), found_start=True)


def _reference_cautions(reference: Floats) -> list[str]:
    missing = float(np.mean(~np.isfinite(reference)))
    if missing > 0.05:
        return [
            f"the reference is missing in {100 * missing:.0f} % of the log; straight lines bridge it"
        ]
    return []


def _boost_length(grid: Grid, watts: Floats | None, span: LoadSpan) -> float:
    """Return how many seconds at the start of the load are left out."""
    length = span.end_s - span.start_s
    usual = min(_BOOST_S, 0.05 * length)
    if watts is None:
        return usual
    under_load = watts[(grid.times_s >= span.start_s) & (grid.times_s <= span.end_s)]
    typical = float(np.median(under_load[under_load.size // 2 :]))
    # The first reading may still be ramping up; a boost is what lies above the usual from then on.
    ended = np.flatnonzero(under_load[2:] <= 1.05 * typical)
    boost = (float(ended[0]) + 4) * grid.step_s if ended.size else 0.0
    return max(min(boost, length / 3), usual)


def _fit(
    grid: Grid,
    curve: Floats,
    room: Floats | None,
    watts: Floats | None,
    span: LoadSpan,
    begin_s: float,
) -> _Fit:
    """Fit the curve twice or more: each pass knows noise, room and power better."""
    times = grid.times_s
    used = (times >= begin_s) & (times <= span.end_s)
    elapsed = times[used] - span.start_s
    constants = time_constant_list(grid.step_s)
    bins = _bins(elapsed, grid.step_s)
    seconds = np.bincount(bins, weights=np.isfinite(curve[used]) * grid.step_s)
    kept = seconds > 0
    duration: Floats = np.asarray(seconds[kept], dtype=np.float64)
    middle = np.asarray(np.bincount(bins, weights=elapsed)[kept] / np.bincount(bins)[kept])
    latter = curve[used][elapsed.size // 2 :]
    hidden_k = float(
        np.hypot(
            quantisation_error(latter), 0.0 if room is None else quantisation_error(room[used])
        )
    )
    rise = curve if room is None else curve - lagged(room, grid.step_s, USUAL_LAG_S)
    density = max(noise_density(np.diff(curve[used], 2) / np.sqrt(6), grid.step_s), 1e-4)
    scatter_k = max(float(np.sqrt(density / grid.step_s)), 1e-3)
    apart_s = np.abs(middle[:, None] - middle)
    doubts: list[Floats] = []
    start_share, among = None, None
    for number, most in enumerate(_PASSES, start=1):
        last = number == len(_PASSES)
        series = _bin_means(rise[used], bins, kept)
        rough_k = _ROUGH * float(np.ptp(series)) * np.exp(-middle / (0.1 * elapsed[-1]))
        covariance = noise_covariance(middle, duration, density, scatter_k**2)
        covariance += np.diag(hidden_k**2 + rough_k**2)
        if watts is None:
            unlogged_k = _UNLOGGED_WANDER * float(np.ptp(series))
            covariance += unlogged_k**2 * np.exp(-apart_s / _WANDER_S)
        if room is None:
            covariance += _UNLOGGED_ROOM_K**2 * np.exp(-apart_s / _ROOM_S)
        for doubt in doubts:
            column = _bin_means(doubt[used], bins, kept)
            covariance += np.outer(column, column)
        relaxation = fit_relaxation(
            middle, series, covariance, constants, most=most, among=among if last else None,
            start_share=start_share if last else None, draws=4000 if last else 500,
        )  # fmt: skip
        among = relaxation.sets
        start_share = _start_share(relaxation, rise, room is not None, times < span.start_s)
        approach = relaxation.mean_curve((times - span.start_s).clip(min=0))
        density = max(noise_density((rise - approach)[used], grid.step_s), 1e-4)
        scatter_k = max(float(np.nanstd((rise - approach)[used])), 1e-3)
        rise, doubts = curve.copy(), []
        if room is not None:
            felt = _as_felt(room, relaxation, grid.step_s)
            rise -= felt
            doubts += [_GAIN_IN_DOUBT * (felt - felt[used].mean()), _DELAY_IN_DOUBT * (room - felt)]
        if watts is not None:
            effect = power_effect(watts, approach, rise, relaxation, used, span, grid)
            if effect is not None:
                rise -= effect.wander_k
                doubts += [_WANDER_IN_DOUBT * effect.wander_k, effect.leakage_doubt_k]
    rise = rise[used]
    tenth = max(rise.size // 10, 1)
    seen_k = abs(_mean(rise[-tenth:]) - _mean(rise[:tenth]))
    return _Fit(relaxation, hidden_k, hidden_k, seen_k)


def _start_share(relaxation: Relaxation, rise: Floats, over: bool, before: Bools) -> float:
    """Return which share of the settled rise was there when the load began."""
    settled = relaxation.quantile(relaxation.settled, 0.5)
    if not over or settled <= 1:
        return _USUAL_START
    rest = rise[before & np.isfinite(rise)]
    start = (
        float(np.median(rest))
        if rest.size
        else settled - float(relaxation.quantile(relaxation.missing_at(0.0), 0.5))
    )
    return float(np.clip(start / settled, 0.02, 0.9))


def _mean(values: Floats) -> float:
    present = values[np.isfinite(values)]
    return float(present.mean()) if present.size else 0.0


def _as_felt(room: Floats, relaxation: Relaxation, step_s: float) -> Floats:
    """Return the reference as the part feels it: late, through the same heat capacities."""
    responses = relaxation.responses()
    total = sum(gain for _, gain in responses)
    if total <= 0:
        return room
    parts = [gain / total * lagged(room, step_s, constant) for constant, gain in responses]
    return np.asarray(np.sum(parts, axis=0))


def _bins(elapsed_s: Floats, step_s: float) -> NDArray[np.int64]:
    """Return the bin of each moment: short where the curve is steep, at most a share of the load long."""
    length = elapsed_s[-1] - elapsed_s[0]
    edges = [float(elapsed_s[0])]
    while edges[-1] < elapsed_s[-1]:
        width = np.clip(0.08 * (edges[-1] + step_s), step_s, max(length / _BINS, step_s))
        edges.append(edges[-1] + float(width))
    return np.clip(np.searchsorted(edges, elapsed_s, side="right") - 1, 0, len(edges) - 1)


def _bin_means(series: Floats, bins: NDArray[np.int64], kept: Bools) -> Floats:
    present = np.isfinite(series)
    count = np.bincount(bins[present], minlength=kept.size)
    total = np.bincount(bins[present], weights=series[present], minlength=kept.size)
    return np.asarray(total[kept] / count[kept])


def _answer(
    fit: _Fit, span: LoadSpan, begin_s: float, band_k: float, confidence: float, unit: str
) -> SteadyState:
    relaxation, length = fit.relaxation, span.end_s - span.start_s
    missing = relaxation.missing_at(length)
    doubt_k = np.hypot(fit.unseen_k, _BEYOND_IN_DOUBT * missing)
    noise = np.random.default_rng(2).standard_normal(missing.size)
    settled = relaxation.settled + doubt_k * noise
    tail = (1 - confidence) / 2
    low, high = relaxation.quantile(settled, tail), relaxation.quantile(settled, 1 - tail)
    error = (relaxation.quantile(settled, 0.841) - relaxation.quantile(settled, 0.159)) / 2

    sure = float(relaxation.weights @ (np.abs(missing) <= band_k))
    reached = sure >= _SURE_REACHED
    # Half-known answers have a long tail on the far side: there the mean is nearer on average.
    value = relaxation.quantile(settled, 0.5) if reached else relaxation.mean(settled)
    cautions: list[str] = []
    reached_at = _reached_at(relaxation, value, band_k, span) if reached else None
    if not reached:
        cautions.append(
            f"not settled within {band_k:g} K when the load ended after {length / 60:.1f} min: "
            f"{abs(relaxation.quantile(missing, 0.5)):.1f} K of the answer are extrapolated"
        )
    if not reached and high - low > 1.5 * (fit.seen_k + 2 * band_k):
        rising = relaxation.quantile(missing, 0.5) >= 0
        low, high = (low, np.inf) if rising else (-np.inf, high)
        cautions.append(
            f"cannot tell: the slowest time constant does not show in {length / 60:.1f} min of load. "
            "Load longer"
        )
    constants = relaxation.time_constants(confidence)
    return SteadyState(
        value=value,
        low=low,
        high=high,
        standard_error=error,
        reached=reached,
        reached_at_s=reached_at,
        time_constants_s=tuple(middle for middle, _, _ in constants),
        time_constant_intervals_s=tuple((low_s, high_s) for _, low_s, high_s in constants),
        curve=_curve(relaxation, span, begin_s, confidence, constants[-1][0]),
        trend_k_per_h=3600 * relaxation.quantile(relaxation.slope_at(length), 0.5),
        window_s=(span.start_s, span.end_s),
        extrapolated=not reached,
        unit=unit,
        confidence=confidence,
        cautions=tuple(cautions),
    )


def _reached_at(
    relaxation: Relaxation, value: float, band_k: float, span: LoadSpan
) -> float | None:
    elapsed = np.linspace(0, span.end_s - span.start_s, 1000)
    away = np.flatnonzero(np.abs(relaxation.mean_curve(elapsed) - value) > band_k)
    if away.size == 0:
        return span.start_s
    return span.start_s + float(elapsed[min(away[-1] + 1, elapsed.size - 1)])


def _curve(
    relaxation: Relaxation, span: LoadSpan, begin_s: float, confidence: float, slowest_s: float
) -> FittedCurve:
    """Return the fitted course, drawn on for as long as it takes to settle, within reason."""
    length, first = span.end_s - span.start_s, begin_s - span.start_s
    beyond = float(np.clip(4 * slowest_s - length, 0.1 * length, 0.6 * length))
    elapsed = first + (length + beyond - first) * np.linspace(0, 1, _CURVE_POINTS) ** 2
    value, low, high = relaxation.band(elapsed, confidence)
    return FittedCurve(time_s=span.start_s + elapsed, value=value, low=low, high=high)


def _cannot_tell(
    times: Floats,
    temperature: Floats,
    reference: Floats | None,
    span: LoadSpan,
    confidence: float,
    cautions: list[str],
) -> SteadyState:
    """Answer a log too short for any curve: the last reading, and that it says nothing."""
    series = temperature
    if reference is not None:
        present = np.isfinite(reference)
        series = temperature - np.interp(times, times[present], reference[present])
    inside = np.isfinite(series) & (times <= span.end_s)
    count = int((inside & (times >= span.start_s)).sum())
    cautions.append(
        f"cannot tell: {count} readings under load; at least {_FEWEST_READINGS} are needed"
    )
    return SteadyState(
        value=float(series[inside][-1]) if inside.any() else float(np.nanmean(series)),
        low=-np.inf,
        high=np.inf,
        standard_error=np.inf,
        reached=False,
        reached_at_s=None,
        time_constants_s=(),
        trend_k_per_h=float("nan"),
        window_s=(span.start_s, span.end_s),
        extrapolated=True,
        unit="°C" if reference is None else "K",
        confidence=confidence,
        cautions=tuple(cautions),
    )
