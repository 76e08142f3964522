"""Checks where data enters the core: one place, one wording."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.time_kinds import seconds_of
from gelassen.core.foundation.unit_kinds import in_our_unit

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]
# Lists, arrays and pandas Series; numpy's own alias does not name the last.
SeriesLike = ArrayLike | Sequence[float] | Any

# Readings beyond it are no readings: squares and products of them must stay finite numbers.
_LARGEST = 1e18


def as_series(name: str, values: SeriesLike, *, like: Floats | None = None) -> Floats:
    """Return values as a one-dimensional float array; missing values and infinities become NaN."""
    values = in_our_unit(name, values)
    given = np.asarray(values)
    if given.dtype.kind in "mM":
        raise InputError(f"{name} holds times ({given.dtype}), not numbers")
    try:
        series = np.array(given, dtype=float)
    except (TypeError, ValueError, OverflowError) as error:
        raise InputError(f"{name} holds something that is not a number: {error}") from None
    if series.ndim != 1:
        raise InputError(
            f"{name} has shape {series.shape}; one value per sample is needed: pass one column"
        )
    if like is not None and series.size != like.size:
        raise InputError(
            f"{name} has {series.size} values, time_s has {like.size}: pass one value per sample"
        )
    with np.errstate(invalid="ignore"):
        beyond = series.size > 0 and np.nanmax(
            np.abs(series), initial=0.0, where=np.isfinite(series)
        )
    if beyond > _LARGEST:
        raise InputError(
            f"{name} holds {beyond:.3g}, which is nothing that a sensor reads: mark missing readings "
            "as NaN"
        )
    series[~np.isfinite(series)] = np.nan
    return series


def as_time(time_s: SeriesLike) -> Floats:
    """Return sample times in s as an array that never runs backwards.

    Stamps (a DatetimeIndex, datetimes, whole nanoseconds since 1970) become seconds since the first
    sample, time differences become seconds.
    """
    times = as_series("time_s", seconds_of(time_s))
    if times.size == 0:
        raise InputError("time_s is empty: there is nothing to analyse")
    missing = np.flatnonzero(np.isnan(times))
    if missing.size:
        raise InputError(f"time_s has no value at sample {missing[0]}: leave such samples out")
    back = np.flatnonzero(np.diff(times) < 0)
    if back.size:
        at = int(back[0])
        raise InputError(
            f"time_s runs backwards at sample {at + 1}: {times[at]:g} s is followed by "
            f"{times[at + 1]:g} s. Sort the log, or cut it where its clock was changed"
        )
    return times


def as_confidence(confidence: float) -> float:
    """Return the confidence if it is a share between 0 and 1."""
    if not 0 < confidence < 1:  # worded so that NaN fails too
        raise InputError(f"confidence is {confidence}, not between 0 and 1: for 95 % pass 0.95")
    return float(confidence)


def as_positive(name: str, value: float, unit: str) -> float:
    """Return the value if it is a finite number above zero."""
    if not 0 < value < np.inf:
        raise InputError(f"{name} is {value} {unit}; a number above zero is needed")
    return float(value)


def need_readings(name: str, values: Floats) -> None:
    """Refuse a channel without a single reading."""
    if not np.isfinite(values).any():
        raise InputError(
            f"all {values.size} values of {name} are missing: was the right channel chosen, "
            "and did its sensor work?"
        )
