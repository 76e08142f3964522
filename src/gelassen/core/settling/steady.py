"""Where a temperature settles under constant load, also when the log ends before it is there."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats, SeriesLike, as_confidence, as_positive
from gelassen.core.foundation.one_thread import one_thread
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.settling.at_limit import Limit, held_at, late_rise
from gelassen.core.settling.load_log import LoadLog, read_load_log
from gelassen.core.settling.overshoot import Overshoot, find_overshoot
from gelassen.core.settling.settled_answer import Asked, settled_answer
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.swings import find_swings, mean_of
from gelassen.core.settling.thresholds import AtLimit, Enough, Parts
from gelassen.core.thermal.heating_fit import HeatingFit, LoadOnGrid, boost_length, fit_heating


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
    limit_c: float | None = None,
    held_back: bool | None = None,
    reference_se_k: float | None = None,
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
        each change of conditions since, in K, and how long before this stretch that was, in s. Slow
        bodies still follow these.
    limit_c : float, optional
        Temperature in °C at which the part holds itself back. No answer lies above it.
    held_back : bool, optional
        Whether heat held the part back at the end of the load, where clock or power tell it. Found from
        the temperature if not given.
    reference_se_k : float, optional
        Standard error of a reference that was stated once for the whole load, K. That of a room that
        somebody noted, if not given; without effect on a reference that was logged.

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
    (`core/signal/noise.py`). Changes of conditions in mid-run must be cut out before
    (docs/methods/settling.md). Over coolant, which the load warms, it is the rise once the coolant
    has settled, too.
    """
    asked = Asked(as_positive("band_k", band_k, "K"), as_confidence(confidence), "")
    log = read_load_log(
        time_s, temperature_c, reference_c, power_w, load_start_s, load_end_s,
        reference_se_k=reference_se_k,
    )  # fmt: skip
    asked = replace(asked, unit=log.unit, slowest_told=slowest_s is not None)
    if log.is_short:
        return _no_answer(log, asked, [log.too_few])
    if log.never_moved:
        return _no_answer(log, asked, [caution("constant_readings", at_c=log.last_c)])
    if not log.took_notice:
        said = caution("no_response", at_c=log.last_c)
        return replace(_no_answer(log, asked, [said]), took_notice=False)
    load = log.on_grid()
    if load is None:
        return _no_answer(log, asked, [log.too_few])
    swings = (
        None
        if load.varies
        else find_swings(
            load.grid.times_s, load.rise, load.room, load.watts, log.span.start_s, log.span.end_s
        )
    )
    if swings is not None and (swings.is_regular or not load.is_restless):
        answer = mean_of(
            swings, log.span, load.grid, load.room, hidden_k=load.hidden_k, band_k=band_k,
            confidence=asked.confidence, with_load=log.bursts,
        )  # fmt: skip
        return replace(answer, cautions=(*log.cautions, *answer.cautions))
    told = None if slowest_s is None else _known_slowest(slowest_s)
    fitted = _fit(load, log.span, told, reference_is_coolant, list(changes_before))
    if fitted.still_falls:
        return _no_answer(log, asked, [*fitted.cautions, caution("still_falling")])
    answer = settled_answer(
        fitted.fit, load.grid.times_s, fitted.span, asked, falls=fitted.overshoot is not None
    )
    return _within_limit(
        _with_doubts(answer, fitted, log), log, limit_c, held_back, slowest_s, confidence
    )


def _within_limit(
    answer: SteadyState,
    log: LoadLog,
    limit_c: float | None,
    held_back: bool | None,
    slowest_s: tuple[float, float] | None,
    confidence: float,
) -> SteadyState:
    """Return the answer, no higher than the limit. Readings before the limit tell where it would go."""
    limit = None if limit_c is None else Limit.of(log, limit_c)
    if limit is None:
        return answer
    # A temperature that stays at its limit and would go above it is held, whatever clock and power say.
    stays = _held(limit, log)
    held = stays if held_back is None else held_back or (stays and answer.value > limit.value)
    limit = limit.where_held(log) if held else limit
    free = None
    if limit.reached_s is not None and limit.reached_s - log.span.start_s > 2 * Enough.SHORTEST_S:
        until = log.times < limit.reached_s
        free = steady_state(
            log.times[until], log.temperature[until],
            reference_c=None if log.reference is None else log.reference[until],
            power_w=None if log.power is None else log.power[until],
            load_start_s=log.span.start_s, load_end_s=float(log.times[until][-1]),
            slowest_s=slowest_s, confidence=confidence,
        )  # fmt: skip
    return held_at(answer, limit, free, held=held)


def _held(limit: Limit, log: LoadLog) -> bool:
    """Return whether the temperature stays at its limit at the end of the load."""
    return limit.reached_s is not None and late_rise(log) >= limit.value - AtLimit.HELD_K


@dataclass(frozen=True, slots=True)
class _Fitted:
    """The fit of the last part of a load, and what was left out before it."""

    fit: HeatingFit
    span: LoadSpan
    overshoot: Overshoot | None
    cautions: tuple[Caution, ...]

    @property
    def still_falls(self) -> bool:
        """Whether the load ended too soon after its peak."""
        over = self.overshoot
        return over is not None and self.span.end_s - over.turn_s < Enough.SHORTEST_S


def _fit(
    load: LoadOnGrid,
    span: LoadSpan,
    slowest: tuple[float, float] | None,
    coolant: bool | None,
    before: list[tuple[float, float]],
) -> _Fitted:
    """Fit the load without a long boost, and without the part before a peak."""
    # The rise reached before is known only over a reference.
    known = np.full_like(load.rise, np.nan) if load.room is None else load.rise
    times_s, cautions = load.grid.times_s, []
    watts, length_s = None if load.varies else load.watts, span.end_s - span.start_s
    boost_s = boost_length(load.grid, watts, span)
    if boost_s > Parts.LONG_BOOST * length_s and length_s - boost_s > Enough.SHORTEST_S:
        cautions.append(caution("long_boost", length_s=boost_s))
        span, before = _from_then_on(span, before, span.start_s + boost_s, times_s, known)
    fit = fit_heating(load, span, slowest=slowest, coolant=coolant, before=before)
    # Under a load that varies and was not logged, every peak is one of the load.
    restless = load.watts is None and load.is_restless
    over = None if restless else _overshoot(load, fit, span, before)
    if over is not None:
        cautions.append(over.caution)
        if span.end_s - over.turn_s >= Enough.SHORTEST_S:
            span, before = _from_then_on(span, before, over.turn_s, times_s, known)
            fit = fit_heating(load, span, slowest=slowest, coolant=coolant, before=before)
    return _Fitted(fit, span, over, tuple(cautions))


def _with_doubts(answer: SteadyState, fitted: _Fitted, log: LoadLog) -> SteadyState:
    """Return the answer with all cautions. Its interval reaches back to a peak that may come again."""
    over, hidden_k = fitted.overshoot, fitted.fit.hidden_k
    if over is not None and answer.extrapolated and over.ended_k - answer.value > Parts.FALLS_ON_K:
        # The cause of the fall may end again.
        answer = replace(answer, high=max(answer.high, over.peak_k))
    cautions = [*log.cautions, *fitted.cautions]
    if hidden_k > Parts.HIDES_K and answer.reached and not log.noted_k:
        cautions.append(caution("hidden_by_steps", hidden_k=hidden_k))
    if log.reference is not None and answer.value < -hidden_k and answer.high < 0:
        cautions.append(caution("below_reference", below_k=-answer.value))
    window_s = (log.span.start_s, log.span.end_s)
    return replace(answer, cautions=(*cautions, *answer.cautions), window_s=window_s)


def _from_then_on(
    span: LoadSpan,
    before: Sequence[tuple[float, float]],
    from_s: float,
    times_s: Floats,
    rise_k: Floats,
) -> tuple[LoadSpan, list[tuple[float, float]]]:
    """Return the rest of a load, and the earlier changes that slow bodies still follow."""
    gone_s = from_s - span.start_s
    last = (times_s > from_s - Enough.SHORTEST_S / 2) & (times_s <= from_s) & np.isfinite(rise_k)
    changes = [(change_k, ago_s + gone_s) for change_k, ago_s in before]
    if last.any():
        changes.append((float(rise_k[last].mean()), gone_s))
    return replace(span, start_s=from_s), changes


def _overshoot(
    load: LoadOnGrid,
    fit: HeatingFit,
    span: LoadSpan,
    changes_before: Sequence[tuple[float, float]],
) -> Overshoot | None:
    """Return the overshoot beyond what room, power and coarse steps can cause."""
    loaded = (load.grid.times_s >= fit.begin_s) & (load.grid.times_s <= span.end_s)
    moved_k = float(np.ptp(fit.conditions_c[loaded]))
    told_s = [span.start_s - ago_s for _, ago_s in changes_before]
    return find_overshoot(
        load.grid.times_s, load.temperature - fit.conditions_c, fit.begin_s, span.end_s,
        [*told_s, span.start_s],
        Parts.CONDITIONS_IN_DOUBT * moved_k + 2 * fit.hidden_k,
    )  # fmt: skip


def _known_slowest(interval_s: tuple[float, float]) -> tuple[float, float]:
    """Return median and spread of a slowest time constant that was seen under other conditions."""
    try:
        low_s, high_s = map(float, interval_s)
    except (TypeError, ValueError, OverflowError):
        low_s = high_s = np.nan
    if not 0 < low_s <= high_s < np.inf:
        raise InputError(f"slowest_s is {interval_s!r}: give two times in s above zero, in order")
    spread = np.log(high_s / low_s) / (2 * 1.96)
    return float(np.sqrt(low_s * high_s)), float(np.hypot(spread, Parts.OTHER_CONDITIONS))


def _no_answer(log: LoadLog, asked: Asked, cautions: list[Caution]) -> SteadyState:
    """Return the last reading as a value without an interval."""
    return SteadyState(
        value=log.last_reading,
        low=-np.inf,
        high=np.inf,
        standard_error=np.inf,
        reached=False,
        reached_at_s=None,
        time_constants_s=(),
        trend_k_per_h=float("nan"),
        window_s=(log.span.start_s, log.span.end_s),
        extrapolated=True,
        unit=log.unit,
        confidence=asked.confidence,
        cautions=(*log.cautions, *cautions),
    )
