"""The answer of a fitted heating curve: value, interval, and whether it was reached."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.settling.steady_result import FittedCurve, SteadyState
from gelassen.core.settling.thresholds import Discrepancy, Settled
from gelassen.core.thermal.heating_fit import HeatingFit


@dataclass(frozen=True, slots=True)
class Asked:
    """What the caller of `steady_state` asked for, and what is known beside the log.

    Within `band_k` of the steady value, the temperature counts as settled. `slowest_told` says whether
    another load of the machine showed its slowest time constant.
    """

    band_k: float
    confidence: float
    unit: str
    slowest_told: bool = False


@dataclass(frozen=True, slots=True)
class _Draws:
    """Draws from the posterior, one entry a draw."""

    settled: Floats  # where it settles
    missing: Floats  # what was missing of that when the load ended
    astray: Floats  # by how much of the extrapolated part each draw may be wrong


def settled_answer(
    fit: HeatingFit, times_s: Floats, span: LoadSpan, asked: Asked, *, falls: bool
) -> SteadyState:
    """Return where a fitted curve settles, with all that stays in doubt.

    `times_s` are the steps it was fitted on; `falls` says that it was fitted after a peak.
    """
    relaxation, length = fit.relaxation, span.end_s - span.start_s
    draws = _draws(fit, length, falls=falls)
    tail = (1 - asked.confidence) / 2
    shares = (tail, 0.159, 0.5, 0.841, 1 - tail)
    low, below, middle, above, high = map(float, relaxation.quantiles(draws.settled, shares))
    sure = float(relaxation.weights @ (np.abs(draws.missing) <= asked.band_k))
    reached = sure >= Settled.SURE_REACHED
    # An unfinished curve has a long tail on the far side. There the mean has the smaller error.
    # A fan that may speed up widens the interval, and moves no value: it may as well not.
    value = middle if reached else relaxation.mean(relaxation.settled)
    cautions: list[Caution] = []
    missing_k = float(relaxation.quantile(draws.missing, 0.5))
    if not reached:
        cautions.append(
            caution(
                "not_settled",
                band_k=asked.band_k,
                minutes=length / 60,
                missing_k=abs(missing_k),
            )
        )
        if not asked.slowest_told and _is_blind(fit, high - low, asked.band_k):
            low, high = _opened(fit, draws, asked.confidence, rising=missing_k >= 0)
            cautions.append(caution("slowest_not_seen", minutes=length / 60))
    constants = relaxation.time_constants(asked.confidence)
    return SteadyState(
        value=value,
        low=low,
        high=high,
        standard_error=(above - below) / 2,
        power_w=fit.settled_w,
        reached=reached,
        reached_at_s=_reached_at(fit, value, asked.band_k, span) if reached else None,
        time_constants_s=tuple(middle for middle, _, _ in constants),
        time_constant_intervals_s=tuple((low_s, high_s) for _, low_s, high_s in constants),
        curve=_curve(fit, times_s, span, asked.confidence, constants[-1][0], draws.astray),
        trend_k_per_h=3600 * relaxation.quantile(relaxation.slope_at(length), 0.5),
        window_s=(span.start_s, span.end_s),
        extrapolated=not reached,
        unit=asked.unit,
        confidence=asked.confidence,
        missing_k=missing_k,
        cautions=tuple(cautions),
    )


def _draws(fit: HeatingFit, length_s: float, *, falls: bool) -> _Draws:
    """Return draws of the settled value and of what is missing, with the doubt of the extrapolation."""
    relaxation = fit.relaxation
    missing = relaxation.missing_at(length_s)
    rng = np.random.default_rng(2)
    noise = rng.standard_normal((4, missing.size))
    # The error hidden by a step is uniform within the step.
    hidden_k = fit.hidden_k * np.sqrt(3) * rng.uniform(-1, 1, missing.size)
    fans = rng.uniform(size=missing.size) < Discrepancy.FAN_CHANCE * (1 - fit.fanless)
    if falls:
        astray = Discrepancy.BEYOND_FALLING * noise[0]
    else:
        fanless = fit.fanless * (Discrepancy.BEYOND_FANLESS - Discrepancy.BEYOND)
        astray = (Discrepancy.BEYOND + fanless) * noise[0]
        astray = astray - np.where(fans, Discrepancy.FAN_TAKES * np.abs(noise[2]), 0.0)
    floor_k = np.hypot(Discrepancy.FLOOR_K, Discrepancy.FLOOR_SHARE * fit.seen_k)
    floor_k = np.hypot(floor_k, Discrepancy.OF_A_MEAN * fit.varies * fit.seen_k)
    settled = relaxation.settled + hidden_k + astray * missing + floor_k * noise[3]
    tails_k, tails_doubt_k = fit.tails_missing(np.array([length_s]))
    missing = missing + tails_k[0] + tails_doubt_k * noise[1]
    return _Draws(settled, missing, astray)


def _is_blind(fit: HeatingFit, width_k: float, band_k: float) -> bool:
    """Return whether the interval is too wide for what the temperature was seen to move."""
    return width_k > Settled.OPEN_BEYOND * (fit.seen_k + 2 * band_k)


def _opened(
    fit: HeatingFit, draws: _Draws, confidence: float, *, rising: bool
) -> tuple[float, float]:
    """Return an interval that is open on the side to which the temperature was still going."""
    within = fit.relaxation.quantile(draws.settled, 1 - confidence if rising else confidence)
    return (within, np.inf) if rising else (-np.inf, within)


def _reached_at(fit: HeatingFit, value: float, band_k: float, span: LoadSpan) -> float | None:
    # The fitted curve does not hold during the boost.
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
    """Return the fitted course, extended until it settles or by 60 % of the load.

    `times_s` are those of the grid it was fitted on; `astray` is the share of the extrapolated part by
    which each draw may be wrong.
    """
    length, first = span.end_s - span.start_s, fit.begin_s - span.start_s
    beyond_s = Settled.CURVE_CONSTANTS * slowest_s - length
    least, most = Settled.CURVE_BEYOND
    beyond = float(np.clip(beyond_s, least * length, most * length))
    elapsed = first + (length + beyond - first) * np.linspace(0, 1, Settled.CURVE_POINTS) ** 2
    tails = fit.tails_of_each(elapsed)
    value, low, high = fit.relaxation.band(elapsed, confidence, length, astray, tails)
    if fit.varies:  # the conditions follow a load that comes and goes
        finer = np.linspace(elapsed[0], elapsed[-1], Settled.VARYING_POINTS)
        value, low, high = (np.interp(finer, elapsed, one) for one in (value, low, high))
        elapsed = finer
    drawn_s = span.start_s + elapsed
    conditions_c = np.interp(
        drawn_s,
        np.append(times_s, drawn_s[-1]),
        np.append(fit.conditions_c, fit.settled_conditions_c),
    )
    return FittedCurve(time_s=drawn_s, value=value, low=low, high=high, conditions_c=conditions_c)
