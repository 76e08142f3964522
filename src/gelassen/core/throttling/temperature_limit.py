"""At which temperature heat held a chip: the stated limit, a lower one, or none."""

from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.flags import running_median, spans_of
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.chip_log import ChipLog
from gelassen.core.throttling.find_states import find_states
from gelassen.core.throttling.readings import Readings, read_states
from gelassen.core.throttling.states import State
from gelassen.core.throttling.thresholds import LowerLimit
from gelassen.core.throttling.thresholds import Throttling as At


@dataclass(frozen=True, slots=True)
class AtLimit:
    """The states of a chip, shape (n, 5), the limits that explain them, and what to say about these.

    `limit_c` is infinite if the stated limit cannot be that of the chip.
    """

    probability: Floats
    limit_c: float
    limit_w: float | None
    cautions: tuple[Caution, ...]


def states_at_limit(log: ChipLog, limit_c: float) -> AtLimit | None:
    """Return the states for the limit that explains the log best; None if nothing was read that tells."""
    if not -50 < limit_c < 250:
        raise InputError(f"limit_c is {limit_c} °C; a limit between -50 and 250 °C is needed")
    if np.nanmin(log.temperature) > limit_c:
        return _with_limit(log, np.inf, caution("limit_below_all_readings", limit_c=limit_c))
    readings = read_states(log, limit_c)
    if readings is None:
        return None
    found = find_states(readings)
    beyond_k = _beyond_k(log, limit_c, found.probability[:, State.HEAT])
    if beyond_k > At.BEYOND_K and log.heat_flag is None:
        return _with_limit(
            log, np.inf, caution("not_the_limit", beyond_k=beyond_k, limit_c=limit_c)
        )
    shown_c = _plateau_c(readings, found.probability)
    if shown_c is None:
        return AtLimit(found.probability, limit_c, found.limit_w, ())
    at_c = shown_c + LowerLimit.AT_K
    lower = read_states(log, at_c)
    better = None if lower is None else find_states(lower)
    if better is None or better.evidence <= found.evidence + LowerLimit.PRIOR:
        return AtLimit(found.probability, limit_c, found.limit_w, ())
    below_k = limit_c - shown_c
    said = caution("held_below_limit", shown_c=shown_c, below_k=below_k, limit_c=limit_c)
    return AtLimit(better.probability, at_c, better.limit_w, (said,))


def _with_limit(log: ChipLog, limit_c: float, said: Caution) -> AtLimit | None:
    readings = read_states(log, limit_c)
    if readings is None:
        return None
    found = find_states(readings)
    return AtLimit(found.probability, limit_c, found.limit_w, (said,))


def _plateau_c(log: Readings, probability: Floats) -> float | None:
    """Return a temperature below the limit that the chip kept while something unknown held it; or None."""
    if (
        not np.isfinite(log.limit_c)
        or log.heat is not None
        or not log.has_clock
        or log.reached.any()
    ):
        return None
    smooth = running_median(log.temperature, log.times, At.SMOOTH_S)
    shown_c = float(np.percentile(smooth[log.loaded], LowerLimit.HOT_PCT))
    if not LowerLimit.LEAST_K <= log.limit_c - shown_c <= LowerLimit.MOST_K:
        return None
    still = log.loaded & (np.abs(smooth - shown_c) <= LowerLimit.STILL_K)
    lasts = max((end - start for start, end in spans_of(log.times, still)), default=0.0)
    held = probability[:, [State.HEAT, State.OTHER]].sum(axis=1)
    unknown = still.any() and held[still].mean() > At.CUTS_SHARE
    return shown_c if lasts >= LowerLimit.STILL_S and unknown else None


def _beyond_k(log: ChipLog, limit_c: float, by_heat: Floats) -> float:
    """Return how far a part stayed above its limit without being held back by heat, in K."""
    late = log.loaded & (log.times >= load_end_s(log)) & np.isfinite(log.temperature)
    if not late.any() or by_heat[late].mean() >= At.SURE:
        return 0.0
    return float(np.median(log.temperature[late])) - limit_c


def at_limit_probability(log: ChipLog, limit_c: float, by_heat: Floats) -> float:
    """Return the probability that heat holds the chip in the last third of its load.

    A governor may cut the clock and raise it again. So a tenth of the time is enough. A chip that is held
    back hovers around its limit. One close below it is not at it.
    """
    late = log.loaded & (log.times >= load_end_s(log))
    if not np.isfinite(limit_c) or not late.any():
        return 0.0
    smooth = running_median(log.temperature, log.times, At.SMOOTH_S)
    close_k = max(At.SITS_K, step_size(log.temperature) / 2)
    sits = float(np.median(smooth[late])) - (limit_c - close_k)
    held = float(np.quantile(by_heat[late], 1 - At.CUTS_SHARE))
    return max(held, float(ndtr(sits / At.SITS_DOUBT_K)))


def load_end_s(log: ChipLog) -> float:
    """Return when the last third of the load begins, in s."""
    if not log.loaded.any():
        return float("inf")
    start, end = log.times[log.loaded][[0, -1]]
    return float(end - At.LATE * (end - start))
