"""The effect of power wander on a temperature, without the part that heat itself causes."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.signal.grid import Grid, lagged
from gelassen.core.signal.noise import noise_density
from gelassen.core.thermal.priors import Power
from gelassen.core.thermal.relaxation import Relaxation


@dataclass(frozen=True, slots=True)
class PowerEffect:
    """Temperature changes, one a step of the grid, in K."""

    wander_k: Floats  # by power wander that heat does not explain
    leakage_doubt_k: Floats  # by one standard uncertainty of the share that heat explains


def power_effect(
    watts: Floats,
    approach_k: Floats,
    rise_k: Floats,
    relaxation: Relaxation,
    used: Bools,
    span: LoadSpan,
    grid: Grid,
) -> PowerEffect | None:
    """Follow the wander of the power through the heat capacities; None if power does not tell.

    Power that changes because the chip warms (leakage, a little less boost) belongs to the steady state
    and is not wander. Its share is the slope of power over temperature, with a prior of what silicon
    usually does. Power before `used` is part of the fitted amplitudes.
    """
    times = grid.times_s
    before = watts[times < span.start_s]
    idle_w = float(np.median(before)) if before.size else 0.0
    mean_w = float(watts[used].mean())
    if abs(mean_w - idle_w) <= Power.LEAST_CHANGE * mean_w or mean_w <= 0:
        return None  # so small a change does not tell the effect of one watt
    course = np.where(used, approach_k - approach_k[used].mean(), 0.0)
    share = np.where(used, watts / mean_w - 1, 0.0)
    per_k, doubt_per_k = _per_kelvin(share[used], course[used], grid.step_s)
    answer = _Answer(relaxation, rise_k, times < span.start_s, mean_w / (mean_w - idle_w))
    wander_k, leakage_k = answer.to(np.array([share - per_k * course, course]), grid.step_s)
    return PowerEffect(wander_k, doubt_per_k * leakage_k)


def settled_power(
    watts: Floats, approach_k: Floats, settled_k: float, used: Bools, grid: Grid
) -> float:
    """Return the power that belongs to the settled rise: the mean, plus what further warming adds."""
    mean_w, mean_k = float(watts[used].mean()), float(approach_k[used].mean())
    if mean_w <= 0:
        return mean_w
    per_k, _ = _per_kelvin(watts[used] / mean_w - 1, approach_k[used] - mean_k, grid.step_s)
    return float(mean_w * (1 + per_k * (settled_k - mean_k)))


def _per_kelvin(share: Floats, course: Floats, step_s: float) -> tuple[float, float]:
    """Return the share of power gained per kelvin, and its standard uncertainty."""
    per_k, known = Power.USUAL_PER_K, Power.SPREAD_PER_K**-2.0
    for _ in range(2):
        density = max(noise_density(share - per_k * course, step_s), 1e-8)
        told = step_s / density
        information = told * float(course @ course) + known
        per_k = (told * float(course @ share) + known * Power.USUAL_PER_K) / information
    return per_k, information**-0.5


class _Answer:
    """How the temperature follows a change of power that is given as a share of it."""

    def __init__(
        self, relaxation: Relaxation, rise_k: Floats, resting: Bools, whole: float
    ) -> None:
        rest_k = rise_k[resting & np.isfinite(rise_k)]
        start_k = float(np.median(rest_k)) if rest_k.size else 0.0
        total_k = relaxation.quantile(relaxation.settled, 0.5) - start_k
        self._responses = relaxation.responses()
        # Parts that settled before the fit began respond at once.
        self._at_once_k = max(total_k - sum(gain for _, gain in self._responses), 0.0)
        self._whole = whole

    def to(self, share: Floats, step_s: float) -> Floats:
        """Return the answers to several courses of the power, one row each."""
        answer = self._at_once_k * lagged(share, step_s, Power.AT_ONCE_S)
        for tau, gain in self._responses:
            answer = answer + gain * lagged(share, step_s, tau)
        return np.asarray(self._whole * answer)
