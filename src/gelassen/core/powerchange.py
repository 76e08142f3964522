"""The moment at which power changed, near one at which a temperature did."""

import numpy as np

from gelassen.core.inputs import Floats
from gelassen.core.noise import noise_std

# A change of power this near a change of temperature is what made it, if it is so large and stands out
# from its noise so far.
_NEAR_S, _WINDOW_S, _LEAST_SHARE, _CLEAR = 60.0, 60.0, 0.05, 3.5


def power_change_near(
    times: Floats, power: Floats, moment_s: float, sign: float
) -> tuple[float, float] | None:
    """Return between which two samples power changed near a moment, this way; None if it did not."""
    near = np.isfinite(power) & (np.abs(times - moment_s) <= _NEAR_S + _WINDOW_S)
    at, level = times[near], power[near]
    if level.size < 8:
        return None
    total = np.concatenate([[0.0], np.cumsum(level)])
    borders = np.flatnonzero(np.abs(at - moment_s) <= _NEAR_S)
    borders = borders[(borders >= 3) & (borders <= level.size - 3)]
    if not borders.size:
        return None
    first = np.searchsorted(at, at[borders] - _WINDOW_S)
    last = np.searchsorted(at, at[borders] + _WINDOW_S)
    before = (total[borders] - total[first]) / np.maximum(borders - first, 1)
    after = (total[last] - total[borders]) / np.maximum(last - borders, 1)
    best = int(np.argmax(sign * (after - before)))
    change = float(sign * (after - before)[best])
    least = max(_LEAST_SHARE * float(before[best]), _CLEAR * noise_std(level))
    if change < least:
        return None
    k = int(borders[best])
    return float(at[k - 1]), float(at[k])
