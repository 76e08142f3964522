"""Readings of one load, averaged in bins that lengthen with time, with their covariance."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.grid import Grid
from gelassen.core.signal.noise import noise_covariance
from gelassen.core.signal.restless import restless_std
from gelassen.core.thermal.driven import Driven
from gelassen.core.thermal.early_error import early_error
from gelassen.core.thermal.priors import Doubt, Fit
from gelassen.core.thermal.relaxation_fit import Account
from gelassen.core.thermal.slow_bodies import ANY, SlowTails, TailSize


@dataclass(frozen=True, slots=True)
class LoadBins:
    """The bins, and all that makes their means uncertain."""

    middle_s: Floats  # time since the load began, at the middle of each bin
    duration_s: Floats
    _used: Bools
    _place: NDArray[np.int64]  # the bin of each step that is used
    _kept: Bools
    _whole_s: float  # the whole length
    _hidden_k: float
    _logged: tuple[bool, bool]  # power, room
    _restless_k: float = 0.0  # ups and downs that a load which was not logged may cause
    _rounding: Floats | float = 0.0  # covariance
    _before: Sequence[tuple[float, float]] = ()  # changes before this load: see `SlowTails`

    @classmethod
    def of(
        cls,
        grid: Grid,
        curve: Floats,
        used: Bools,
        start_s: float,
        hidden_k: float,
        power: bool,
        room: bool,
        before: Sequence[tuple[float, float]] = (),
    ) -> "LoadBins":
        """Return the bins of one load."""
        elapsed = grid.times_s[used] - start_s
        place = _bins(elapsed, grid.step_s)
        seconds = np.bincount(place, weights=np.isfinite(curve[used]) * grid.step_s)
        kept = seconds > 0
        middle = np.asarray(np.bincount(place, weights=elapsed)[kept] / np.bincount(place)[kept])
        duration = np.asarray(seconds[kept], dtype=np.float64)
        whole_s = float(elapsed[-1])
        logged = (power, room)
        restless_k = 0.0 if power else restless_std(curve[used], grid.step_s)
        return cls(
            middle, duration, used, place, kept, whole_s, hidden_k, logged, restless_k, _before=before
        )  # fmt: skip

    def with_rounding(self, error: Floats) -> "LoadBins":
        """Return the same bins, with the rounding error of a moving reference."""
        sizes = self._means(error)
        near = np.abs(np.sqrt(self.middle_s)[:, None] - np.sqrt(self.middle_s))
        alike = np.exp(-near / (Doubt.ALIKE * np.sqrt(self._whole_s)))
        return replace(self, _rounding=np.outer(sizes, sizes) * alike)

    def driven(self, drive: Driven, time_constants_s: Floats) -> Floats:
        """Return how bodies with these time constants follow a load that varies, (bins, constants)."""
        return np.column_stack([self._means(one) for one in drive.followed(time_constants_s).T])

    def tails(self, rise: Floats, *sizes: TailSize) -> list[SlowTails]:
        """Return slow tails of these sizes, for a change as large as this rise shows."""
        change = _change(self._means(rise))
        return [SlowTails(self.middle_s, change, size, self._before) for size in sizes or (ANY,)]

    def accounts(
        self,
        tails: list[SlowTails],
        rise: Floats,
        doubts: list[Floats],
        noise: tuple[float, float],
    ) -> list[Account]:
        """Return the means of the rise with their covariance, one account for each assumption of tails."""
        series, middle = self._means(rise), self.middle_s
        rough_k = early_error(middle, float(np.ptp(series)), self._whole_s)
        density, scatter_k = noise
        covariance = noise_covariance(middle, self.duration_s, density, scatter_k**2)
        covariance += np.diag(self._hidden_k**2 + rough_k**2) + self._rounding
        apart_s = np.abs(middle[:, None] - middle)
        power, room = self._logged
        if not power:
            unlogged_k = Doubt.UNLOGGED_WANDER * float(np.ptp(series))
            if self._restless_k > Doubt.RESTLESS * float(np.ptp(series)):
                unlogged_k = Doubt.RESTLESS_LOAD * self._restless_k
            covariance += unlogged_k**2 * np.exp(-apart_s / Doubt.WANDER_S)
        if not room:
            covariance += Doubt.UNLOGGED_ROOM_K**2 * np.exp(-apart_s / Doubt.ROOM_S)
        for doubt in doubts:
            column = self._means(doubt)
            covariance += np.outer(column, column)
        return [
            Account(series + one.usual, covariance + one.covariance, one.size.chance)
            for one in tails
        ]

    def _means(self, series: Floats) -> Floats:
        values = series[self._used]
        present = np.isfinite(values)
        size = self._kept.size
        count = np.bincount(self._place[present], minlength=size)
        total = np.bincount(self._place[present], weights=values[present], minlength=size)
        return np.asarray(total[self._kept] / count[self._kept])


def _change(series: Floats) -> float:
    """Return how far the series went, with its sign."""
    tenth = max(series.size // 10, 1)
    way = np.sign(series[-tenth:].mean() - series[:tenth].mean()) or 1.0
    return float(way * np.ptp(series))


def _bins(elapsed_s: Floats, step_s: float) -> NDArray[np.int64]:
    """Return the bin of each moment: short where the curve is steep, at most a share of the load long."""
    length = elapsed_s[-1] - elapsed_s[0]
    edges = [float(elapsed_s[0])]
    while edges[-1] < elapsed_s[-1]:
        width = np.clip(
            Fit.BIN_GROWS * (edges[-1] + step_s), step_s, max(length / Fit.BINS, step_s)
        )
        edges.append(edges[-1] + float(width))
    return np.clip(np.searchsorted(edges, elapsed_s, side="right") - 1, 0, len(edges) - 1)
