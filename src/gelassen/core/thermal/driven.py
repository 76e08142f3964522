"""Loads that come and go: how bodies with each time constant follow the power as it was.

A fit of one step of power takes a load that varies for noise. Here each time constant follows the logged
power itself, so that the mean over the load and its ups and downs are fitted together.
"""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.load_span import LoadSpan
from gelassen.core.signal.grid import Grid, lagged
from gelassen.core.thermal.priors import Power
from gelassen.core.thermal.relaxation import Relaxation


@dataclass(frozen=True, slots=True)
class Driven:
    """The power of a load that varies, as shares of its mean."""

    _share: Floats  # (steps,) departure from the mean power, as a share; 0 before the load
    _whole: float  # mean power over the change from rest to it
    _step_s: float

    @property
    def variance(self) -> float:
        """Variance of the power under load, in units of the mean power squared."""
        return float(np.var(self._share[self._share != 0])) if self._share.any() else 0.0

    def followed(self, time_constants_s: Floats) -> Floats:
        """Return how each body follows, (steps, constants), for a step of size 1 from rest to the mean."""
        rows = [lagged(self._share, self._step_s, constant) for constant in time_constants_s]
        return np.asarray(self._whole * np.array(rows).T)

    def course(self, relaxation: Relaxation) -> Floats:
        """Return the ups and downs of the temperature, in K, that a fit sees, one value a step."""
        told = relaxation.responses()
        constants, gains = np.array(told).T
        return np.asarray(self.followed(constants) @ gains)


def driven_by(watts: Floats, span: LoadSpan, grid: Grid) -> Driven | None:
    """Return the power as a drive; None if the change from rest is too small to tell one watt's effect."""
    loaded = (grid.times_s >= span.start_s) & (grid.times_s <= span.end_s)
    before = watts[grid.times_s < span.start_s]
    idle_w = float(np.median(before)) if before.size else 0.0
    mean_w = float(
        watts[loaded & (grid.times_s < _whole_turns(grid.times_s, watts, loaded))].mean()
    )
    if mean_w - idle_w <= Power.LEAST_CHANGE * mean_w:
        return None
    share = np.where(loaded, watts / mean_w - 1, 0.0)
    return Driven(share, mean_w / (mean_w - idle_w), grid.step_s)


def _whole_turns(times: Floats, watts: Floats, loaded: Bools) -> float:
    """Return until when the mean is taken: a last turn that the log cuts short is left out."""
    at, level = times[loaded], watts[loaded]
    high = level > (level.min() + level.max()) / 2
    rises = at[1:][high[1:] & ~high[:-1]]
    end = float(at[-1])
    turns = np.diff(np.append(at[0], rises))
    turns = turns[turns > 0]
    regular = turns.size >= Power.FEWEST_TURNS and turns.std() <= Power.TURNS_ALIKE * turns.mean()
    return float(rises[-1]) if regular else end
