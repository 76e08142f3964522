"""Power from a counter of energy."""

import math
from collections.abc import Callable

from gelassen.bench.sensors.sysfile import SysFile

# A counter that restarts, as after its driver was bound again, looks like a wrap. No desktop machine
# draws this much. A mean over this long a gap may hide a wrap.
_MOST_W = 10_000.0
_LONGEST_GAP_S = 60.0


class EnergyMeter:
    """Mean power since the last reading, in W.

    Parameters
    ----------
    file
        The counter, in µJ.
    range_uj
        The value after which it begins at 0 again; None if unknown.
    clock
        Time in s.
    """

    def __init__(self, file: SysFile, range_uj: float | None, clock: Callable[[], float]) -> None:
        self._file, self._range_uj, self._clock = file, range_uj, clock
        self._last: tuple[float, float] | None = None

    def read(self) -> float:
        """Return the power; NaN if there is nothing yet to compare with."""
        last, self._last = (
            self._last,
            None,
        )  # after a failed reading there is nothing to compare with
        energy_uj, now_s = self._file.read(), self._clock()
        self._last = (energy_uj, now_s)
        if last is None or not 0 < now_s - last[1] < _LONGEST_GAP_S:
            return math.nan
        used_uj = energy_uj - last[0]
        if used_uj < 0:
            used_uj += self._range_uj if self._range_uj is not None else math.nan
        power_w = used_uj * 1e-6 / (now_s - last[1])
        return power_w if 0 <= power_w < _MOST_W else math.nan
