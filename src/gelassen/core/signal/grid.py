"""Irregular readings brought onto an even grid, and the lag of a slow body on that grid."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.recursion import recursion
from gelassen.core.signal.thresholds import Grid as At


@dataclass(frozen=True, slots=True)
class Grid:
    """Even steps of time; readings are averaged into them."""

    start_s: float
    step_s: float
    size: int

    @property
    def times_s(self) -> Floats:
        """The middle of each step."""
        return np.asarray(self.start_s + self.step_s * np.arange(self.size), dtype=float)

    def averaged(self, time_s: Floats, values: Floats) -> Floats:
        """Return the mean of the readings in each step, NaN where there are none."""
        place = np.rint((time_s - self.start_s) / self.step_s).astype(int)
        use = np.isfinite(values) & (place >= 0) & (place < self.size)
        count = np.bincount(place[use], minlength=self.size)
        total = np.bincount(place[use], weights=values[use], minlength=self.size)
        return np.where(count > 0, total / np.maximum(count, 1), np.nan)

    def filled(self, time_s: Floats, values: Floats) -> Floats:
        """As `averaged`, with gaps bridged by straight lines and the ends held."""
        series = self.averaged(time_s, values)
        present = np.isfinite(series)
        if not present.any():
            return series
        return np.interp(self.times_s, self.times_s[present], series[present])


def make_grid(time_s: Floats, end_s: float) -> Grid:
    """Return a grid from the first sample to `end_s`, no finer than the samples are."""
    inside = time_s[time_s <= end_s]
    gaps = np.diff(inside)
    gaps = gaps[gaps > 0]
    typical = float(np.median(gaps)) if gaps.size else 1.0
    length = float(inside[-1] - inside[0])
    step = max(typical, length / At.MOST_POINTS, 1e-6)
    return Grid(float(inside[0]), step, int(length / step) + 1)


def lagged(values: Floats, step_s: float, time_constant_s: float) -> Floats:
    """Return how a body with this time constant follows `values`, at rest at the beginning.

    Of several courses, time is the last axis.
    """
    keep = float(np.exp(-step_s / time_constant_s))
    half = (1 - keep) / 2
    first = values[..., :1]
    over = values - first
    driven = half * over
    driven[..., 1:] += half * over[..., :-1]
    return np.asarray(first + recursion(driven, keep))
