"""Power and heat of a run: mean power, energy, thermal resistance, work for each joule."""

import math
from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.distributions import normal_quantile
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.recording.series import series_of
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.signal.noise import noise_density, quantisation_error


@dataclass(frozen=True, slots=True, kw_only=True)
class PowerAndHeat(Result):
    """Power over the hold, and what follows from it; NaN where it was not logged.

    Attributes
    ----------
    power_w, power_low_w, power_high_w
        Mean package power over the hold, with the interval its scatter allows. A meter that is wrong
        by a constant share is not covered.
    energy_j
        Package energy over the hold.
    wall_power_w
        Mean power at the wall or the supply over the hold.
    resistance_k_per_w, resistance_low_k_per_w, resistance_high_k_per_w
        Steady rise over the power that belongs to it, and its interval; infinite ends mean "cannot tell".
    work_per_j
        Work done for each joule of package energy; of wall energy if the package's was not logged.
    """

    power_w: float
    power_low_w: float
    power_high_w: float
    energy_j: float
    wall_power_w: float
    resistance_k_per_w: float
    resistance_low_k_per_w: float
    resistance_high_k_per_w: float
    work_per_j: float

    def __str__(self) -> str:
        if math.isnan(self.resistance_k_per_w):
            return f"{self.power_w:.1f} W"
        return (
            f"{self.power_w:.1f} W, {self.resistance_k_per_w:.3f} K/W "
            f"({self.resistance_low_k_per_w:.3f} to {self.resistance_high_k_per_w:.3f})"
        )


def heat_of_run(
    run: PreparedRun, held: Bools, steady: SteadyState | None, confidence: float
) -> PowerAndHeat:
    """Return power and heat over the hold of a run; without a reference there is no resistance."""
    told = steady is not None and run.reference is not None and steady.took_notice
    return power_and_heat(
        run.times, held, power_w=run.power_w, wall_w=series_of(run.frame, "wall.supply.power_w"),
        work_per_s=run.work_per_s, steady=steady if told else None, confidence=confidence,
    )  # fmt: skip


def power_and_heat(
    time_s: Floats,
    held: Bools,
    *,
    power_w: Floats | None,
    wall_w: Floats | None = None,
    work_per_s: Floats | None = None,
    steady: SteadyState | None = None,
    confidence: float = 0.95,
) -> PowerAndHeat:
    """Work out power and heat over a hold.

    Parameters
    ----------
    time_s : ndarray, shape (n,)
        Times in s, never backwards.
    held : ndarray of bool, shape (n,)
        Which samples belong to the hold.
    power_w, wall_w, work_per_s : ndarray, shape (n,), optional
        Package power, power at the wall, work per second; NaN marks a missed reading.
    steady : SteadyState, optional
        Steady rise over a reference; without one there is no resistance.
    confidence : float
        Share of such intervals that should cover the truth.

    Notes
    -----
    Relative uncertainties of rise and power are independent and add in squares [1]_.

    References
    ----------
    .. [1] JCGM 100:2008 (GUM), 5.1.2.
    """
    mean_w, half_w, energy_j = _over(time_s, held, power_w, confidence)
    wall_mean_w, _, wall_j = _over(time_s, held, wall_w, confidence)
    work, _, done = _over(time_s, held, work_per_s, confidence)
    spent_j = energy_j if energy_j > 0 else wall_j
    resistance, low, high = _resistance(steady, mean_w, half_w)
    return PowerAndHeat(
        power_w=mean_w,
        power_low_w=mean_w - half_w,
        power_high_w=mean_w + half_w,
        energy_j=energy_j,
        wall_power_w=wall_mean_w,
        resistance_k_per_w=resistance,
        resistance_low_k_per_w=low,
        resistance_high_k_per_w=high,
        work_per_j=done / spent_j if work > 0 and spent_j > 0 else math.nan,
    )


def _over(
    time_s: Floats, held: Bools, values: Floats | None, confidence: float
) -> tuple[float, float, float]:
    """Return mean, half width of its interval, and integral over the hold; NaN without readings."""
    if values is None:
        return math.nan, math.nan, math.nan
    present = held & np.isfinite(values)
    if not present.any():
        return math.nan, math.nan, math.nan
    t, x = time_s[present], values[present]
    mean = float(x.mean())
    span_s = float(time_s[held][-1] - time_s[held][0])
    if x.size < 4 or span_s <= 0:
        return mean, math.inf, mean * span_s
    interval_s = span_s / max(x.size - 1, 1)
    error = math.hypot(math.sqrt(noise_density(x, interval_s) / span_s), quantisation_error(x))
    # Gaps are filled by the mean.
    covered_s = float(t[-1] - t[0])
    integral = float(((x[1:] + x[:-1]) / 2 * np.diff(t)).sum()) + mean * (span_s - covered_s)
    return mean, float(normal_quantile((1 + confidence) / 2)) * error, integral


def _resistance(
    steady: SteadyState | None, power_w: float, half_w: float
) -> tuple[float, float, float]:
    if steady is None or not power_w > 0:
        return math.nan, math.nan, math.nan
    # A chip that leaks more as it warms settles at a higher power than it drew before.
    settled_w = steady.power_w if steady.power_w > 0 else power_w
    half_w, power_w = half_w * settled_w / power_w, settled_w
    value = steady.value / power_w
    share = half_w / power_w
    below = math.hypot((steady.value - steady.low) / power_w, value * share)
    above = math.hypot((steady.high - steady.value) / power_w, value * share)
    return value, value - below, value + above
