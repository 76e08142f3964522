"""The line of clock over temperature on the way to the limit. A clock that stays on it is not held back."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median
from gelassen.core.signal.noise import step_size
from gelassen.core.throttling.thresholds import Course


@dataclass(frozen=True, slots=True)
class WarmCourse:
    """Where, near the limit, a clock (or power) follows this line, and where it leaves it."""

    follows: Bools
    leaves: Bools


def warm_course(
    times: Floats, temperature: Floats, level: Floats, loaded: Bools, near: Bools
) -> WarmCourse:
    """Fit a straight line over temperature to the loss of a clock (or power) on the way to the limit.

    Parameters
    ----------
    times, temperature, level : ndarray, shape (n,)
        Sample times in s, °C, and clock in MHz (or power in W).
    loaded, near : ndarray of bool, shape (n,)
        Under load; close to the temperature limit.

    Notes
    -----
    If there was no such way, or no straight line, both results are false: it neither follows nor leaves.
    """
    nowhere = np.zeros(times.size, dtype=bool)
    arrived = loaded & near
    if not arrived.any():
        return WarmCourse(nowhere, nowhere)
    start, arrival = float(times[loaded][0]), float(times[arrived][0])
    smooth = running_median(level, times, Course.SMOOTH_S)
    warm = running_median(temperature, times, Course.SMOOTH_S)
    way = loaded & ~near & (times > start + Course.COLD_S) & (times < arrival)
    way &= warm >= float(warm[np.searchsorted(times, arrival)]) - Course.READ_OVER_K
    way &= np.isfinite(warm) & np.isfinite(smooth)
    if way.sum() < Course.FEWEST or np.ptp(warm[way]) < Course.LEAST_K:
        return WarmCourse(nowhere, nowhere)
    slope, base = np.polyfit(warm[way], smooth[way], 1)
    scatter = float(np.std(smooth[way] - slope * warm[way] - base))
    usual, step = float(np.median(smooth[way])), step_size(level[loaded])
    if not scatter < max(Course.STRAIGHT * usual, 0.5 * step):
        return WarmCourse(nowhere, nowhere)
    below = slope * warm + base - smooth
    return WarmCourse(
        arrived & (below <= max(Course.FOLLOWS * usual, 2 * scatter, 0.6 * step)),
        arrived & (below > max(Course.LEAVES * usual, 4 * scatter, 1.5 * step)),
    )
