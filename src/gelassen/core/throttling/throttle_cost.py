"""What being held back cost: clock, power and work against the part of the run that was free."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.throttling.thresholds import Cost


@dataclass(frozen=True, slots=True, kw_only=True)
class ThrottleCost(Result):
    """Shares lost while held back, in percent; NaN where not logged, never free, or free under less load.

    Attributes
    ----------
    clock_pct, power_pct, work_pct
        Mean while held back against the mean while free, under load.
    free_s
        How long it was free, in s: what the comparison stands on.
    """

    clock_pct: float
    power_pct: float
    work_pct: float
    free_s: float

    def __str__(self) -> str:
        told = [
            f"{value:.1f} % of its {name}"
            for name, value in (
                ("clock", self.clock_pct),
                ("power", self.power_pct),
                ("work", self.work_pct),
            )
            if np.isfinite(value)
        ]
        return "lost " + ", ".join(told) if told else "what was lost cannot be told"


def throttle_cost(
    time_s: Floats,
    held: Bools,
    loaded: Bools,
    *,
    clock_mhz: Floats | None,
    power_w: Floats | None,
    work_per_s: Floats | None,
) -> ThrottleCost | None:
    """Compare the held part of the load with its free part; None if it never was held.

    Parameters
    ----------
    time_s : ndarray, shape (n,)
        Sample times in s.
    held, loaded : ndarray of bool, shape (n,)
        Where the chip was held back, and where it was under load.
    clock_mhz, power_w, work_per_s : ndarray, shape (n,), or None
        What may have been lost.
    """
    if not (held & loaded).any():
        return None
    free = loaded & ~held & (time_s >= time_s[loaded][0] + Cost.COLD_S)
    if free.sum() < Cost.FEWEST_FREE:
        # Held from the start: only the cold seconds are free, and they exaggerate the loss.
        free = np.zeros_like(free)

    def lost(series: Floats | None) -> float:
        if series is None:
            return float("nan")
        usual, left = series[free & np.isfinite(series)], series[held & np.isfinite(series)]
        if usual.size < Cost.FEWEST_FREE or left.size == 0 or not usual.mean() > 0:
            return float("nan")
        return 100 * (1 - float(left.mean()) / float(usual.mean()))

    power_pct, work_pct = lost(power_w), lost(work_per_s)
    if power_pct < -Cost.MORE_PCT:
        # A chip that is held back draws less under one load. So the free part was a lighter load.
        power_pct = work_pct = float("nan")
    weight = np.gradient(time_s) if time_s.size > 1 else np.ones(time_s.size)
    return ThrottleCost(
        clock_pct=lost(clock_mhz),
        power_pct=power_pct,
        work_pct=work_pct,
        free_s=float(weight[free].sum()),
    )
