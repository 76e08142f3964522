"""Temperatures that peak under a steady load and fall again, since a fan or a governor is late.

A fan that starts late makes a different machine in mid-run. No sum of exponentials describes both. So the
steady state is found only from what follows the peak.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.settling.thresholds import Overshoot as At
from gelassen.core.signal.noise import MAD_TO_STD


@dataclass(frozen=True, slots=True)
class Overshoot:
    """A peak under load, and the fall after it."""

    peak_s: float
    peak_k: float
    fell_k: float
    ended_k: float
    turn_s: float  # start of the last approach

    @property
    def caution(self) -> Caution:
        """The caution that says what it means for the answer."""
        return caution("overshoot", peak_s=self.peak_s, fell_k=self.fell_k)


def find_overshoot(
    times_s: Floats,
    rise_k: Floats,
    begin_s: float,
    end_s: float,
    changes_s: Sequence[float] = (),
    allowed_k: float = 0.0,
) -> Overshoot | None:
    """Return the overshoot of a load, or None.

    Parameters
    ----------
    times_s, rise_k : array, one value a step
        Rise over its reference; NaN where not read.
    begin_s, end_s : float
        The load without its first seconds, in s.
    changes_s : sequence of float
        When conditions changed before, in s. A fall that begins at a change is not an overshoot; one that
        began between the last two is.
    allowed_k : float
        Fall that room and power may have caused, in K.
    """
    told, own_s = sorted(changes_s), begin_s
    if len(told) > 1:
        begin_s = min(told[-2] + At.BOOST_S, begin_s)
    used = np.isfinite(rise_k) & (times_s >= begin_s) & (times_s <= end_s)
    if not used.any():
        return None
    width_s = max(At.BLOCK_S, (end_s - begin_s) / At.BLOCKS)
    number = ((times_s[used] - begin_s) / width_s).astype(int)
    count = np.bincount(number)
    full = count > 0.5 * np.median(count[count > 0])
    if full.sum() < 4 * At.LAST:
        return None
    means = np.bincount(number, rise_k[used])[full] / count[full]
    scatter = MAD_TO_STD * float(np.median(np.abs(np.diff(means, 2)))) / np.sqrt(6)
    # A median of three removes spikes of the load.
    means = median_filter(means, 3, mode="nearest")
    middle = begin_s + (np.flatnonzero(full) + 0.5) * width_s
    peak = int(np.argmax(means))
    ended = float(means[-At.LAST :].mean())
    fell = float(means[peak]) - ended
    climbed = float(means[peak] - means[: peak + 1].min())
    near_s = max(At.NEAR_S, At.WIDTHS * width_s)
    if any(abs(middle[peak] - change) < near_s for change in told):
        return None
    least = max(
        At.LEAST_K + allowed_k,
        At.CLEAR * scatter,
        At.SHARE * climbed,
    )
    if peak >= means.size - At.LAST or fell < least or climbed < fell:
        return None
    # Slopes over four means. After the steepest one the fall only slows down.
    slopes = (means[peak + At.LAST :] - means[peak : -At.LAST]) / At.LAST
    steep = np.flatnonzero(slopes <= At.NEARLY * slopes.min()) if slopes.size else np.array([0])
    turn_s = max(float(middle[peak + int(steep[-1])]), own_s)
    return Overshoot(float(middle[peak]), float(means[peak]), fell, ended, turn_s)
