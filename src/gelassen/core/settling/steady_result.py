"""The result of a steady state."""

from dataclasses import dataclass, field

import numpy as np

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class FittedCurve(Result):
    """The fitted approach and its interval, from where the fit begins to a while beyond the log.

    `value`, `low` and `high` are in the unit of the steady value, at the mean reference and mean power of
    the load. Adding `conditions_c`, the effect of reference and power at each moment, gives °C that can be
    drawn beside the readings. Beyond the log, `conditions_c` goes to its settled value.
    """

    time_s: Floats
    value: Floats
    low: Floats
    high: Floats
    conditions_c: Floats


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
    power_w
        The power that belongs to the value, in W; NaN where it was not logged.
    took_notice
        False if the temperature read the same at rest and under load: then nothing can be told.
    swings_between
        Where the temperature turns, low and high, if it swings for as long as it is loaded: then the
        value is the mean over its swings.
    missing_k
        How much of the value had not been reached when the log ended, in K; NaN if that is unknown.
    limit
        The limit in the unit of `value`: K over the mean reference, or °C. None if it was not told.
    limited, limit_at_s
        Whether the part is held at its limit, or will be: then `value` is the limit. When it reaches it,
        in s; None if that lies far beyond the log.
    without_limit
        Where it would settle without a limit: value, low, high. None if that cannot be told.
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
    cautions: tuple[Caution, ...] = ()
    time_constant_intervals_s: tuple[tuple[float, float], ...] = ()
    curve: FittedCurve | None = field(default=None, repr=False)
    power_w: float = float("nan")
    took_notice: bool = True
    swings_between: tuple[float, float] | None = None
    missing_k: float = float("nan")
    limit: float | None = None
    limited: bool = False
    limit_at_s: float | None = None
    without_limit: tuple[float, float, float] | None = None

    @property
    def is_mean(self) -> bool:
        """Whether the load came and went, so that the value is the mean over it and no steady state."""
        return any(one.code == "load_in_bursts" for one in self.cautions)

    def __str__(self) -> str:
        if self.limited:
            words = self.limit_words()
            return "\n".join([words, *(f"  caution: {text}" for text in self.cautions)])
        goes = "settles at" if self.swings_between is None else "swings about"
        goes = "comes and goes with the load about" if self.is_mean else goes
        return "\n".join([self.in_words(goes), *(f"  caution: {text}" for text in self.cautions)])

    def limit_words(self) -> str:
        """Return what a part does that is held at its limit, or will be."""
        at, minute = f"{self.value:.1f} {self.unit}", None
        if self.limit_at_s is not None:
            minute = (self.limit_at_s - self.window_s[0]) / 60
        if self.reached and any(one.code == "held_below_its_limit" for one in self.cautions):
            words = (
                f"is held back by heat at {at} from about minute {minute or 0:.0f} of the load on"
            )
        elif self.reached:
            when = f"at about minute {minute or 0:.0f} of the load"
            words = f"reached its limit, {at}, {when}, and stays there"
        else:
            when = "later" if minute is None else f"at about minute {minute:.0f} of the load"
            words = f"will reach its limit, {at}, {when}, and be held there"
        if self.without_limit is None:
            return f"{words}; where it would settle without a limit cannot be told"
        value, low, high = self.without_limit
        percent = f"{100 * self.confidence:g} %"
        within = f"{percent}: {_end(low)} to {_end(high)}"
        return f"{words}; without a limit it would settle at {value:.1f} {self.unit} ({within})"

    def in_words(self, goes: str) -> str:
        """Return the answer in one line; `goes` says what the temperature does about the value."""
        if not np.isfinite(self.low) and not np.isfinite(self.high):
            return f"last read {self.value:.1f} {self.unit}; cannot tell where it settles"
        percent = f"{100 * self.confidence:g} %"
        answer = f"{goes} {self.value:.1f} {self.unit}"
        if np.isfinite(self.low) and np.isfinite(self.high):
            answer += f" ({percent}: {self.low:.1f} to {self.high:.1f})"
        elif np.isfinite(self.low):
            answer += f"; cannot tell how far above {self.low:.1f} {self.unit}"
        else:
            answer += f"; cannot tell how far below {self.high:.1f} {self.unit}"
        if self.reached and self.reached_at_s is not None:
            answer += f", reached after {(self.reached_at_s - self.window_s[0]) / 60:.0f} min"
        else:
            answer += ", not reached: extrapolated"
        return answer


def _end(value: float) -> str:
    """Return an end of an interval."""
    return f"{value:.1f}" if np.isfinite(value) else "open"
