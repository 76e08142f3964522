"""Whether the machine itself changed during the test, from repeated runs of one setup."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.core.comparing.mounting import fit_shared_mountings
from gelassen.core.comparing.priors import Drift
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.distributions import t_beyond, t_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import SeriesLike, as_confidence, as_series
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class MachineDrift(Result):
    """A trend of repeated runs of one setup.

    Attributes
    ----------
    per_day, low, high
        Change of the value a day, with its interval; infinite ends mean "cannot tell".
    over_all
        Change from the first of these runs to the last.
    distinguishable
        Whether that is beyond chance.
    middle_days
        The moment to which values would be corrected.
    """

    per_day: float
    low: float
    high: float
    p_value: float
    over_all: float
    distinguishable: bool
    middle_days: float
    runs: int
    confidence: float
    cautions: tuple[Caution, ...] = ()

    def correction(self, days: float) -> float:
        """Return what must be added to a value measured then; 0 where no trend was found."""
        return -self.per_day * (days - self.middle_days) if self.distinguishable else 0.0

    def __str__(self) -> str:
        if not math.isfinite(self.low):
            return "drift of the machine: cannot tell"
        verdict = "" if self.distinguishable else ", which chance explains"
        return f"drift of the machine: {self.over_all:+.2f} over the repeats{verdict}"


def machine_drift(
    days: SeriesLike,
    value: SeriesLike,
    *,
    mount: Sequence[str | None] | None = None,
    day: Sequence[str | None] | None = None,
    confidence: float = 0.95,
    shared_error: SeriesLike | None = None,
) -> MachineDrift:
    """Look for a trend in repeated runs of one setup.

    Parameters
    ----------
    days, value : array_like, shape (n,)
        When each run began, in days from any zero, and its value.
    mount : sequence of str or None, optional
        The mounting of each run: the same word, not remounted between. Another mounting is not a drift.
    day : sequence of str or None, optional
        The day of each run. Runs of one day share something, which is no drift either.
    confidence : float
        For the interval and the verdict.
    shared_error : array_like, shape (n,), optional
        What one standard deviation of an error that all runs share moves each of them by.

    Raises
    ------
    InputError
        Lengths that differ.

    Notes
    -----
    A straight line by least squares; Student's t with n - 2 degrees of freedom, fewer where runs share
    mountings, or else days (`core/comparing/mounting.py`).
    """
    level = as_confidence(confidence)
    moments = as_series("days", days)
    values = as_series("value", value)
    if moments.size != values.size:
        raise InputError(f"value has {values.size} entries, days has {moments.size}")
    groups = [_names_of("mount", mount, moments.size), _names_of("day", day, moments.size)]
    good = np.isfinite(moments) & np.isfinite(values)
    shared = np.zeros(good.size)
    if shared_error is not None:
        shared = as_series("shared_error", shared_error, like=moments)
    moments, values, shared = moments[good], values[good], shared[good]
    groups = [[name for name, kept in zip(names, good, strict=True) if kept] for names in groups]
    if moments.size < Drift.FEWEST_RUNS or np.ptp(moments) == 0:
        return MachineDrift(
            per_day=math.nan, low=-math.inf, high=math.inf, p_value=math.nan, over_all=math.nan,
            distinguishable=False,
            middle_days=float(moments.mean()) if moments.size else math.nan,
            runs=int(moments.size), confidence=level,
            cautions=(caution("trend_needs_runs"),),
        )  # fmt: skip
    middle = float(moments.mean())
    centred = moments - middle
    square = float(centred @ centred)
    slope = float(centred @ values) / square
    left = values - values.mean() - slope * centred
    freedom: float = values.size - 2
    least = max(Drift.DIGITS * float(np.abs(values).max()), Drift.LEAST)
    error = math.sqrt(max(float(left @ left) / freedom, least**2) / square)
    moved = float(centred @ shared) / square
    line = np.column_stack([np.ones_like(centred), centred])
    fits = (fit_shared_mountings(values, line, names) for names in groups)
    mounted = next((fit for fit in fits if fit is not None), None)
    if mounted is not None:
        fit, trend = SetupFit.of_mountings(mounted), np.array([0.0, 1.0])
        slope, error = float(fit.means[1]), float(fit.errors(trend[None])[0])
        freedom, moved = fit.freedom_of(trend), float(mounted.weights[:, 1] @ shared)
    error = math.hypot(error, moved)
    half = float(t_quantile((1 + level) / 2, freedom)) * error
    p_value = float(2 * t_beyond(abs(slope) / error, freedom)) if half < math.inf else math.nan
    return MachineDrift(
        per_day=slope, low=slope - half, high=slope + half, p_value=p_value,
        over_all=slope * float(np.ptp(moments)), distinguishable=p_value < 1 - level, middle_days=middle,
        runs=int(values.size), confidence=level,
        cautions=() if half < math.inf else (caution("trend_on_one_mounting"),),
    )  # fmt: skip


def _names_of(what: str, given: Sequence[str | None] | None, size: int) -> list[str | None]:
    names: list[str | None] = [None] * size if given is None else list(given)
    if len(names) != size:
        raise InputError(f"{what} has {len(names)} entries, days has {size}")
    return names
