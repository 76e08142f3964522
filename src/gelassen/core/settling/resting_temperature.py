"""Whether a temperature has come back to rest, by its level, its slope and its expected end."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats, SeriesLike, as_positive, as_series, as_time
from gelassen.core.foundation.result import Result
from gelassen.core.settling.recovery import recovery
from gelassen.core.settling.thresholds import Rest as At


@dataclass(frozen=True, slots=True, kw_only=True)
class Rest(Result):
    """Whether a part rests.

    Attributes
    ----------
    rested
        Whether it is within `band_k` of where it is going, and not above its known level.
    still_k
        How far it still has to go, in K (positive: it will cool); NaN if that cannot be told.
    slope_k_per_min
        How fast it moved at the end, in K/min.
    level_k
        Where it was at the end.
    text
        What it waits for, in words.
    """

    rested: bool
    still_k: float
    slope_k_per_min: float
    level_k: float
    text: str

    def __str__(self) -> str:
        return self.text


def at_rest(
    time_s: SeriesLike,
    rise_k: SeriesLike,
    *,
    band_k: float = 1.0,
    known_level_k: float | None = None,
) -> Rest:
    """Return whether a part without a load has come to rest.

    Parameters
    ----------
    time_s, rise_k : array_like, shape (n,)
        Times in s from when the load ended (or watching began), and rise over the reference in K.
    band_k : float
        How near to where it is going counts as rested, in K.
    known_level_k : float, optional
        The rise at which it rested before; a part that settles clearly above it is not yet rested,
        since something behind it is still warm.

    Raises
    ------
    InputError
        Arrays of different lengths, or times that run backwards.

    Notes
    -----
    Readings that hardly move over some minutes rest. Else the way back is fitted as in
    `core/settling/recovery.py`; the far end of the interval of where it is going must be within the band.
    """
    times = as_time(time_s)
    rise = as_series("rise_k", rise_k, like=times)
    as_positive("band_k", band_k, "K")
    there = np.isfinite(rise)
    times, rise = times[there], rise[there]
    if times.size < 3 or times[-1] - times[0] < At.SHORTEST_S:
        return Rest(
            rested=False, still_k=np.nan, slope_k_per_min=np.nan,
            level_k=float(rise[-1]) if rise.size else np.nan, text="watching for a minute at least",
        )  # fmt: skip
    level = float(rise[times > times[-1] - At.LAST_S].mean())
    slope, unsure = _slope(times, rise)
    if times[-1] - times[0] >= 2 * At.SHORTEST_S and abs(slope) + unsure <= band_k / At.SLOWEST_MIN:
        low = high = level
    else:
        low, high = _where_to(times, rise)
    still = level - (low + high) / 2
    rested = max(abs(level - low), abs(high - level)) <= band_k
    text = (
        "at rest"
        if rested
        else f"about {abs(still):.1f} K {'above' if still > 0 else 'below'} rest"
    )
    if not rested and abs(still) <= band_k:
        text += ", not yet sure"
    if known_level_k is not None and level > known_level_k + max(band_k, At.LEVEL_K):
        rested = False
        still = max(still, level - known_level_k)
        text = f"{level - known_level_k:.1f} K above where it rested before"
    if not rested and not np.isfinite(still):
        text = f"moves by {slope:+.1f} K/min; cannot tell yet where to"
    return Rest(rested=rested, still_k=still, slope_k_per_min=slope, level_k=level, text=text)


def _slope(times: Floats, rise: Floats) -> tuple[float, float]:
    """Return the slope of the last minutes in K/min and its standard error, from means over blocks."""
    recent = times > times[-1] - At.COURSE_S
    number = ((times[recent] - times[recent][0]) / At.BLOCK_S).astype(int)
    counts = np.bincount(number)
    means = np.bincount(number, weights=rise[recent])[counts > 0] / counts[counts > 0]
    minutes = np.flatnonzero(counts) * At.BLOCK_S / 60
    if means.size < 3:
        return float("nan"), float("nan")
    slope, start = np.polyfit(minutes, means, 1)
    left = means - start - slope * minutes
    scatter = float(np.sqrt(left @ left / (means.size - 2)))
    return float(slope), scatter / float(np.sqrt(((minutes - minutes.mean()) ** 2).sum()))


def _where_to(times: Floats, rise: Floats) -> tuple[float, float]:
    """Return the interval of where the readings are going."""
    back = recovery(times, rise, float(times[0]) - 1e-6, confidence=0.9)
    if back is None:
        return -np.inf, np.inf
    return back.rest_low_k, back.rest_high_k
