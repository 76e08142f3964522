"""Where a temperature settles under constant load, also when the log ends before it is there."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Floats,
    SeriesLike,
    as_confidence,
    as_positive,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.foundation.one_thread import one_thread
from gelassen.core.recording.load_span import (
    LoadSpan,
    in_bursts,
    span_from_level,
    span_from_temperature,
)
from gelassen.core.settling.overshoot import Overshoot, find_overshoot
from gelassen.core.settling.steady_result import FittedCurve, SteadyState
from gelassen.core.settling.swings import find_swings, mean_of
from gelassen.core.signal.grid import Grid, make_grid
from gelassen.core.signal.noise import quantisation_error
from gelassen.core.signal.unread import without_not_read
from gelassen.core.thermal.heating_fit import HeatingFit, boost_length, fit_heating
from gelassen.core.thermal.relaxation_fit import USUAL_SLOWEST

_FEWEST_READINGS = 10
# Seconds of load that can say where minutes lead; below, nothing is answered.
_SHORTEST_S = 60.0
# Share of what is extrapolated that stays in doubt: no model of three bodies is the machine. Strong
# bends tell of a fan on a curve, and curves have kinks: by the bend beyond free convection, more is.
# Where no fan is at work there is less that could.
_BEYOND_IN_DOUBT, _KINKS_IN_DOUBT, _FREE_CONVECTION = 0.1, 0.4, 0.25
_BEYOND_FANLESS = 0.03
# A fan or a governor that catches up makes a fall, and stops it: where, nothing measured so far shows.
_FALL_IN_DOUBT = 0.5
# What room and power did to the rise is known within this share, where a fall is told from it.
_CONDITIONS_IN_DOUBT = 0.5
# A boost that takes more of the load is a load of its own.
_LONG_BOOST = 1 / 3
# A fall that is taken to go on by more than this may be a swing.
_FALLS_ON_K = 1.0
# All that is left in doubt together is a little less than its parts, each chosen to be safe: on the bench
# and on random machines their intervals covered more often than they said.
_NARROWED = 0.95
_CURVE_POINTS = 60
# By how much (of its logarithm) a change of fans or of the case moves the slowest time constant.
_OTHER_CONDITIONS = 0.3
# "Reached" is said only when it is likely: saying it too early is the worse mistake.
_SURE_REACHED = 0.65
# A log shows rest if it begins so long before the load.
_REST_S = 10.0


@one_thread
def steady_state(
    time_s: SeriesLike,
    temperature_c: SeriesLike,
    *,
    reference_c: SeriesLike | None = None,
    power_w: SeriesLike | None = None,
    load_start_s: float | None = None,
    load_end_s: float | None = None,
    band_k: float = 0.5,
    confidence: float = 0.95,
    slowest_s: tuple[float, float] | None = None,
    reference_is_coolant: bool | None = None,
    changes_before: Sequence[tuple[float, float]] = (),
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
    load_end_s : float, optional
        When it ended, in s. Found likewise if not given; a load in bursts needs it where pauses are long.
    band_k : float
        How near to the value counts as reached, in K.
    confidence : float
        Share of such intervals that should cover the truth.
    slowest_s : tuple of float, optional
        The 95 % interval of the slowest time constant, where another load of this machine told it.
    reference_is_coolant : bool, optional
        Whether the reference lies beside the part and is warmed by the load, as coolant is. Found from how
        it moves if not given.
    changes_before : sequence of tuples, optional
        Where this is a stretch of a longer load: by how much the steady value changed at its start and at
        each change of conditions since, in K, and how long before this stretch that was, in s. What warms
        up slowly is still busy with these.

    Raises
    ------
    InputError
        Arrays of different lengths, times that run backwards, no reading at all, options out of
        range.

    Notes
    -----
    Readings are averaged in bins that lengthen with time since the start
    (`core/thermal/heating_fit.py`). Sums of up to three exponentials, the slowest bent or not, are
    fitted to them and averaged by their evidence (`core/thermal/relaxation_fit.py`). A change of the
    reference arrives late: it is delayed by the fitted time constants. Wander of the power that heat
    does not explain is followed through them and subtracted (`core/thermal/power_effect.py`). What
    stays in doubt of both, the noise's memory and the steps of the sensors widen the interval
    (`core/signal/noise.py`). Changes of conditions in mid-run must be cut out before; docs/methods.md
    tells the rest. Over coolant, which the load warms, it is the rise once the coolant has settled,
    too.
    """
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    confidence = as_confidence(confidence)
    as_positive("band_k", band_k, "K")
    reference = None if reference_c is None else as_series("reference_c", reference_c, like=times)
    power = None if power_w is None else as_series("power_w", power_w, like=times)
    temperature, cautions = without_not_read("the temperature", times, temperature)
    if reference is not None:
        need_readings("reference_c", reference)
        reference, not_read = without_not_read("the reference", times, reference)
        cautions += [*not_read, *_reference_cautions(reference)]
    if power is not None and not np.isfinite(power).any():
        power = None
        cautions.append("power was not read: its wander could not be allowed for")
    elif power is not None and not np.nanmax(power) > 0:
        power = None
        cautions.append(
            "power never reads above zero: it is left out. Check its sensor and its sign"
        )

    span = _load_span(times, temperature, power, load_start_s, load_end_s)
    inside = (times >= span.start_s) & (times <= span.end_s) & np.isfinite(temperature)
    unit = "°C" if reference is None else "K"
    bursts = power is not None and in_bursts(power[inside])
    if bursts:
        power = None
        cautions.append(
            "the load came in bursts: the answer is the mean over them; the hottest moments lie above it"
        )
    if span.found_end and times[-1] - span.end_s > max(5.0, 0.01 * (span.end_s - span.start_s)):
        cautions.append(
            f"the load ended at {span.end_s:.0f} s: what was logged afterwards is left out"
        )
    if inside.sum() < _FEWEST_READINGS or np.ptp(times[inside]) < _SHORTEST_S:
        cautions.append(_too_few(times, temperature, span))
        return _no_answer(times, temperature, reference, span, confidence, cautions)
    if _deaf(times, temperature, span):
        cautions.append(
            f"cannot tell: it reads {temperature[inside][0]:.1f} °C at rest and under load. It is stuck, "
            "or no temperature"
        )
        nothing = _no_answer(times, temperature, reference, span, confidence, cautions)
        return replace(nothing, took_notice=False)

    # No finer than the temperature was read: what lies between its readings says nothing of its noise.
    grid = make_grid(times[np.isfinite(temperature)], span.end_s)
    curve = grid.averaged(times, temperature)
    late = grid.times_s >= (span.start_s + span.end_s) / 2
    if np.isfinite(curve).sum() < _FEWEST_READINGS or not np.isfinite(curve[late]).any():
        cautions.append(_too_few(times, temperature, span))
        return _no_answer(times, temperature, reference, span, confidence, cautions)
    room = None if reference is None else grid.filled(times, reference)
    watts = None if power is None else grid.filled(times, power)
    slowest = USUAL_SLOWEST if slowest_s is None else _known_slowest(slowest_s)
    hidden_k = _hidden_by_steps(times, temperature, reference, span)
    rise = curve if room is None else curve - room
    swings = find_swings(grid.times_s, rise, room, watts, span.start_s, span.end_s)
    if swings is not None:
        answer = mean_of(swings, span, grid, room, hidden_k, band_k, confidence, bursts)
        return replace(answer, cautions=(*cautions, *answer.cautions))

    def fitted(part: LoadSpan, before: Sequence[tuple[float, float]]) -> HeatingFit:
        return fit_heating(
            grid, curve, room, watts, part, hidden_k, slowest, reference_is_coolant, before
        )

    # How far a part had come is known over a reference only.
    known = np.full_like(rise, np.nan) if room is None else rise
    part, before = span, list(changes_before)
    boost_s, length_s = boost_length(grid, watts, span), span.end_s - span.start_s
    if boost_s > _LONG_BOOST * length_s and length_s - boost_s > _SHORTEST_S:
        cautions.append(
            f"power was higher for the first {boost_s:.0f} s: the answer is where it settles at what "
            "followed"
        )
        part, before = _from_then_on(span, before, span.start_s + boost_s, grid.times_s, known)
    fit = fitted(part, before)
    over = _overshoot(grid, curve, fit, part, before)
    if over is not None:
        cautions.append(str(over))
        if span.end_s - over.turn_s < _SHORTEST_S:
            cautions.append("cannot tell: it still falls when the load ends. Load longer")
            return _no_answer(times, temperature, reference, span, confidence, cautions)
        part, before = _from_then_on(part, before, over.turn_s, grid.times_s, known)
        fit = fitted(part, before)
    answer = _answer(fit, grid.times_s, part, band_k, confidence, unit, over is not None)
    if over is not None and answer.extrapolated and over.ended_k - answer.value > _FALLS_ON_K:
        # What makes it fall may let go again.
        answer = replace(answer, high=max(answer.high, over.peak_k))
    if fit.hidden_k > 0.1 and answer.reached:
        cautions.append(
            f"coarse readings with little noise hide about {fit.hidden_k:.1f} K: a finer sensor would "
            "say more"
        )
    if reference is not None and answer.value < -fit.hidden_k and answer.high < 0:
        cautions.append(
            f"it lies {-answer.value:.1f} K below its reference: is one of the two sensors wrong, or is "
            "this the wrong reference?"
        )
    window_s = (span.start_s, span.end_s)
    return replace(answer, cautions=(*cautions, *answer.cautions), window_s=window_s)


def _hidden_by_steps(
    times: Floats, temperature: Floats, reference: Floats | None, span: LoadSpan
) -> float:
    """Return what the steps of both sensors hide where it settles, as a standard error in K."""
    loaded = (times >= span.start_s) & (times <= span.end_s)
    late = loaded & (times >= (span.start_s + span.end_s) / 2)
    room_k = 0.0 if reference is None else quantisation_error(reference[loaded])
    return float(np.hypot(quantisation_error(temperature[late]), room_k))


def _from_then_on(
    span: LoadSpan,
    before: Sequence[tuple[float, float]],
    from_s: float,
    times_s: Floats,
    rise_k: Floats,
) -> tuple[LoadSpan, list[tuple[float, float]]]:
    """Return the rest of a load, and what changed before it: slow bodies still follow that."""
    gone_s = from_s - span.start_s
    last = (times_s > from_s - _SHORTEST_S / 2) & (times_s <= from_s) & np.isfinite(rise_k)
    changes = [(change_k, ago_s + gone_s) for change_k, ago_s in before]
    if last.any():
        changes.append((float(rise_k[last].mean()), gone_s))
    return replace(span, start_s=from_s), changes


def _overshoot(
    grid: Grid,
    curve: Floats,
    fit: HeatingFit,
    span: LoadSpan,
    changes_before: Sequence[tuple[float, float]],
) -> Overshoot | None:
    """Return the overshoot that neither room nor power nor coarse steps account for."""
    loaded = (grid.times_s >= fit.begin_s) & (grid.times_s <= span.end_s)
    moved_k = float(np.ptp(fit.conditions_c[loaded]))
    told_s = [span.start_s - ago_s for _, ago_s in changes_before]
    return find_overshoot(
        grid.times_s, curve - fit.conditions_c, fit.begin_s, span.end_s, [*told_s, span.start_s],
        _CONDITIONS_IN_DOUBT * moved_k + 2 * fit.hidden_k,
    )  # fmt: skip


def _known_slowest(told: tuple[float, float]) -> tuple[float, float]:
    """Return median and spread of a slowest time constant that was seen under other conditions."""
    try:
        low_s, high_s = map(float, told)
    except (TypeError, ValueError):
        low_s = high_s = np.nan
    if not 0 < low_s <= high_s < np.inf:
        raise InputError(f"slowest_s is {told!r}: give two times in s above zero, in order")
    spread = np.log(high_s / low_s) / (2 * 1.96)
    return float(np.sqrt(low_s * high_s)), float(np.hypot(spread, _OTHER_CONDITIONS))


def _load_span(
    times: Floats,
    temperature: Floats,
    power: Floats | None,
    load_start_s: float | None,
    load_end_s: float | None,
) -> LoadSpan:
    span = None if power is None else span_from_level(times, power)
    span = span or span_from_temperature(times, temperature)
    if load_end_s is not None:
        start_s = span.start_s if load_start_s is None else load_start_s
        if not start_s < load_end_s <= times[-1] + 1:
            raise InputError(
                f"load_end_s is {load_end_s:g} s; the load began at {start_s:g} s and the log ends at "
                f"{times[-1]:g} s"
            )
        span = LoadSpan(span.start_s, float(load_end_s), span.found_start, False)
    if load_start_s is None:
        return span
    if not times[0] - 1 <= load_start_s < times[-1]:
        raise InputError(
            f"load_start_s is {load_start_s:g} s; the log runs from {times[0]:g} to {times[-1]:g} s"
        )
    if span.end_s <= load_start_s:
        return LoadSpan(float(load_start_s), float(times[-1]), True, False)
    return replace(span, start_s=float(load_start_s), found_start=True)


def _deaf(times: Floats, temperature: Floats, span: LoadSpan) -> bool:
    """Say whether the load began within the log and the reading never took notice."""
    present = np.isfinite(temperature)
    rested = present & (times < span.start_s - _REST_S)
    return bool(span.found_start and rested.any() and np.ptp(temperature[present]) == 0)


def _reference_cautions(reference: Floats) -> list[str]:
    missing = float(np.mean(~np.isfinite(reference)))
    if missing > 0.05:
        return [
            f"the reference is missing in {100 * missing:.0f} % of the log; straight lines bridge it"
        ]
    return []


def _answer(
    fit: HeatingFit,
    times_s: Floats,
    span: LoadSpan,
    band_k: float,
    confidence: float,
    unit: str,
    falls: bool,
) -> SteadyState:
    relaxation, length = fit.relaxation, span.end_s - span.start_s
    missing = relaxation.missing_at(length)
    beyond = (
        _BEYOND_IN_DOUBT
        + fit.fanless * (_BEYOND_FANLESS - _BEYOND_IN_DOUBT)
        + _KINKS_IN_DOUBT * (relaxation.bends - _FREE_CONVECTION).clip(min=0)
    )
    if falls:
        beyond = beyond.clip(min=_FALL_IN_DOUBT)
    rng = np.random.default_rng(2)
    noise = rng.standard_normal((2, missing.size))
    # What a step hides is as likely to lie anywhere in it, and nowhere else.
    hidden_k = fit.hidden_k * np.sqrt(3) * rng.uniform(-1, 1, missing.size)
    settled = relaxation.settled + hidden_k + beyond * missing * noise[0]
    tails_k, tails_doubt_k = fit.tails_missing(np.array([length]))
    missing = missing + tails_k[0] + tails_doubt_k * noise[1]
    tail = (1 - confidence) / 2
    shares = (tail, 0.159, 0.5, 0.841, 1 - tail)
    middle = relaxation.quantile(settled, 0.5)
    settled = middle + _NARROWED * (settled - middle)
    low, below, middle, above, high = map(float, relaxation.quantiles(settled, shares))

    sure = float(relaxation.weights @ (np.abs(missing) <= band_k))
    reached = sure >= _SURE_REACHED
    # Half-known answers have a long tail on the far side: there the mean is nearer on average.
    value = middle if reached else relaxation.mean(settled)
    cautions: list[str] = []
    reached_at = _reached_at(fit, value, band_k, span) if reached else None
    if not reached:
        cautions.append(
            f"not settled within {band_k:g} K when the load ended after {length / 60:.1f} min: "
            f"{abs(relaxation.quantile(missing, 0.5)):.1f} K of the answer are extrapolated"
        )
    if not reached and high - low > 1.5 * (fit.seen_k + 2 * band_k):
        # Open on one side, an interval can miss the truth on the other only.
        rising = relaxation.quantile(missing, 0.5) >= 0
        within = relaxation.quantile(settled, 1 - confidence if rising else confidence)
        low, high = (within, np.inf) if rising else (-np.inf, within)
        cautions.append(
            f"cannot tell: the slowest time constant does not show in {length / 60:.1f} min of load. "
            "Load longer"
        )
    constants = relaxation.time_constants(confidence)
    return SteadyState(
        value=value,
        low=low,
        high=high,
        standard_error=(above - below) / 2,
        power_w=fit.settled_w,
        reached=reached,
        reached_at_s=reached_at,
        time_constants_s=tuple(middle for middle, _, _ in constants),
        time_constant_intervals_s=tuple((low_s, high_s) for _, low_s, high_s in constants),
        curve=_curve(fit, times_s, span, confidence, constants[-1][0], beyond * noise[0]),
        trend_k_per_h=3600 * relaxation.quantile(relaxation.slope_at(length), 0.5),
        window_s=(span.start_s, span.end_s),
        extrapolated=not reached,
        unit=unit,
        confidence=confidence,
        cautions=tuple(cautions),
    )


def _reached_at(fit: HeatingFit, value: float, band_k: float, span: LoadSpan) -> float | None:
    # Before the fit begins its course tells nothing: a boost came first.
    elapsed = np.linspace(fit.begin_s - span.start_s, span.end_s - span.start_s, 1000)
    course = fit.course(elapsed) - fit.tails_missing(elapsed)[0]
    away = np.flatnonzero(np.abs(course - value) > band_k)
    if away.size == 0:
        return fit.begin_s
    return span.start_s + float(elapsed[min(away[-1] + 1, elapsed.size - 1)])


def _curve(
    fit: HeatingFit,
    times_s: Floats,
    span: LoadSpan,
    confidence: float,
    slowest_s: float,
    astray: Floats,
) -> FittedCurve:
    """Return the fitted course, drawn on for as long as it takes to settle, within reason.

    `times_s` are those of the grid it was fitted on; `astray` is by how much of what is extrapolated
    each draw may be wrong.
    """
    length, first = span.end_s - span.start_s, fit.begin_s - span.start_s
    beyond = float(np.clip(4 * slowest_s - length, 0.1 * length, 0.6 * length))
    elapsed = first + (length + beyond - first) * np.linspace(0, 1, _CURVE_POINTS) ** 2
    tails = fit.tails_of_each(elapsed)
    value, low, high = fit.relaxation.band(elapsed, confidence, length, astray, tails)
    low, high = (value + _NARROWED * (end - value) for end in (low, high))
    drawn_s = span.start_s + elapsed
    conditions_c = np.interp(
        drawn_s,
        np.append(times_s, drawn_s[-1]),
        np.append(fit.conditions_c, fit.settled_conditions_c),
    )
    return FittedCurve(time_s=drawn_s, value=value, low=low, high=high, conditions_c=conditions_c)


def _too_few(times: Floats, temperature: Floats, span: LoadSpan) -> str:
    """Say how little of a load was read."""
    inside = np.isfinite(temperature) & (times >= span.start_s) & (times <= span.end_s)
    return (
        f"cannot tell: {int(inside.sum())} readings in {span.end_s - span.start_s:.0f} s of load; at least "
        f"{_FEWEST_READINGS} in {_SHORTEST_S:.0f} s are needed. Load longer"
    )


def _no_answer(
    times: Floats,
    temperature: Floats,
    reference: Floats | None,
    span: LoadSpan,
    confidence: float,
    cautions: list[str],
) -> SteadyState:
    """Return the last reading, and that it says nothing."""
    series = temperature
    if reference is not None:
        present = np.isfinite(reference)
        series = temperature - np.interp(times, times[present], reference[present])
    inside = np.isfinite(series) & (times <= span.end_s)
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
