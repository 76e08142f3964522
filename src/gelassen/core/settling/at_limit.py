"""A part does not settle above its limit: it is held there."""

from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.settling.load_log import LoadLog
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.thresholds import AtLimit
from gelassen.core.signal.flags import running_median


@dataclass(frozen=True, slots=True)
class Limit:
    """The limit of the judged temperature, and when it was reached."""

    value: float  # in the unit of the answer: °C, or K over the mean reference
    reached_s: float | None  # the first time under load; None if never
    below_k: float = 0.0  # how far below the stated limit the part was held

    @classmethod
    def of(cls, log: LoadLog, limit_c: float) -> "Limit | None":
        """Return the limit of a log; None where the readings show that it is not the part's limit."""
        if not log.read.any():
            return None
        at, smooth = _smoothed(log)
        late = at >= at[0] + (at[-1] - at[0]) * (1 - AtLimit.LATE)
        if float(np.median(smooth[late])) > limit_c + AtLimit.BEYOND_K:
            return None
        return cls(limit_c - _reference_c(log), _first_near(at, smooth, limit_c))

    def where_held(self, log: LoadLog) -> "Limit":
        """Return the level at which the end of the load was held, if that lies clearly below the limit.

        Some governors cut the clock at the limit, and give it back only some kelvins below.
        """
        level = float(_late(log).mean())
        if level > self.value - AtLimit.BELOW_K:
            return self
        at, smooth = _smoothed(log)
        return Limit(level, _first_near(at, smooth, level + _reference_c(log)), self.value - level)


def _smoothed(log: LoadLog) -> tuple[Floats, Floats]:
    """Return the times of readings under load, and the smoothed temperatures there."""
    at = log.times[log.read]
    return at, running_median(log.temperature[log.read], at, AtLimit.SMOOTH_S)


def _reference_c(log: LoadLog) -> float:
    return 0.0 if log.reference is None else float(np.nanmean(log.reference[log.read]))


def _first_near(times: Floats, smooth: Floats, limit_c: float) -> float | None:
    near = np.flatnonzero(smooth >= limit_c - AtLimit.NEAR_K)
    return float(times[near[0]]) if near.size else None


def held_at(
    answer: SteadyState, limit: Limit, free: SteadyState | None, *, held: bool
) -> SteadyState:
    """Return the answer of a part that is held at its limit, or will be; others as they are.

    Parameters
    ----------
    answer : SteadyState
        Where the temperature goes, from the whole load.
    limit : Limit
        The limit of the log.
    free : SteadyState, optional
        Where it would go, from the part of the load before the limit was reached.
    held : bool
        Whether it was held there at the end of the load.
    """
    if not held and not answer.value > limit.value:
        return replace(answer, limit=limit.value)
    without = free if limit.reached_s is not None else answer
    told = without is not None and np.isfinite(without.value)
    goes_to = (without.value, without.low, without.high) if told and without else None
    surely = held or answer.low >= limit.value
    low = limit.value if surely else answer.low
    said = [caution("held_below_its_limit", below_k=limit.below_k)] if limit.below_k else []
    return replace(
        answer,
        cautions=(*answer.cautions, *said),
        value=limit.value,
        low=min(low, limit.value),
        high=limit.value,
        standard_error=0.0 if surely else answer.standard_error,
        reached=held,
        reached_at_s=limit.reached_s if held else None,
        extrapolated=not held,
        limit=limit.value,
        limited=True,
        limit_at_s=limit.reached_s if held else _crosses(answer, limit.value),
        without_limit=goes_to,
    )


def late_rise(log: LoadLog) -> float:
    """Return the median rise at the end of the load."""
    return float(np.median(_late(log)))


def _late(log: LoadLog) -> Floats:
    """Return the rises at the end of the load."""
    at, seen = log.times[log.read], log.temperature[log.read] - _reference_c(log)
    late = at >= at[0] + (at[-1] - at[0]) * (1 - AtLimit.LATE)
    return np.asarray(seen[late])


def _crosses(answer: SteadyState, limit: float) -> float | None:
    """Return when the fitted curve comes to the limit; None where it does so beyond what is drawn."""
    if answer.curve is None:
        return None
    above: Floats = np.flatnonzero(answer.curve.value >= limit).astype(float)
    return float(answer.curve.time_s[int(above[0])]) if above.size else None
