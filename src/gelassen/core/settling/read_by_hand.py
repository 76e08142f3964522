"""Where a temperature settles, from a reading that somebody took off a screen."""

import math
from dataclasses import dataclass

from gelassen.core.settling.thresholds import ReadByHand


@dataclass(frozen=True, slots=True)
class FromReading:
    """A steady temperature that was worked out from one reading.

    `value_c` in °C with `standard_error` in K; `how` is the reading it came from: "end", "highest" or
    "mean".
    """

    value_c: float
    standard_error: float
    how: str


def settled_from_reading(
    *,
    highest_c: float | None = None,
    mean_c: float | None = None,
    end_c: float | None = None,
    rest_c: float | None = None,
    minutes: float | None = None,
    doubt_k: float | None = None,
) -> FromReading | None:
    """Return where a load settles, from the best of the readings; None without any.

    Parameters
    ----------
    highest_c, mean_c, end_c
        The highest reading under load, the mean over all of it, and the reading at its end, in °C.
    rest_c
        The reading before the load, in °C; a usual room if not given.
    minutes
        How long the load lasted; as long as usual if not given.
    doubt_k
        How far such readings lie from the steady state, as a standard deviation, if the tester knows it.

    Notes
    -----
    A load of t minutes is still short of the rise by a share of ``A exp(-t / T)``. The highest reading
    lies above the end by chance. A mean over the whole load also has the rise in it: it is short by a
    share of ``M / t``. Constants and their source: `core/settling/thresholds.py`.
    """
    lasted = ReadByHand.USUAL_MINUTES if minutes is None else minutes
    start_c = ReadByHand.USUAL_REST_C if rest_c is None else rest_c
    short = ReadByHand.SHORT * math.exp(-lasted / ReadByHand.MINUTES)
    doubt = ReadByHand.SHORT_DOUBT * short + ReadByHand.LEAST_SHARE
    if minutes is None:
        doubt += ReadByHand.LENGTH_UNKNOWN
    if end_c is not None:
        how, read_c, more_k, own_k = "end", end_c, 0.0, ReadByHand.END_K
    elif highest_c is not None:
        how, read_c = "highest", highest_c
        more_k, own_k = -ReadByHand.HIGHEST_OVER_K, ReadByHand.HIGHEST_K
    elif mean_c is not None:
        how, read_c, more_k, own_k = "mean", mean_c, 0.0, ReadByHand.END_K
        short += min(ReadByHand.MEAN_MINUTES / max(lasted, 1.0), ReadByHand.MEAN_MOST)
        doubt += ReadByHand.MEAN_DOUBT * short
    else:
        return None
    rise_k = max(read_c + more_k - start_c, 0.0) / (1 - min(short, ReadByHand.SHORT_MOST))
    error_k = math.hypot(own_k, doubt * rise_k) if doubt_k is None else doubt_k
    return FromReading(start_c + rise_k, error_k, how)
