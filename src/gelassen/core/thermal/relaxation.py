"""The posterior of a heating or cooling curve: weighted draws of sums of exponentials, the slowest bent."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import CubicSpline

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.approach import log_missing
from gelassen.core.thermal.priors import Fit


@dataclass(frozen=True, slots=True)
class TimeConstantSets:
    """Sets of time constants with equally many members."""

    chosen: NDArray[np.int64]  # indices into the list, ascending, one row a set
    alike: Floats  # how many sets have the same slowest time constant and share its prior
    bent: NDArray[np.int64]  # which of the bends the slowest has

    def picked(self, rows: NDArray[np.bool_]) -> "TimeConstantSets":
        """Return some of these sets."""
        return TimeConstantSets(self.chosen[rows], self.alike[rows], self.bent[rows])

    def with_bends(self, count: int) -> "TimeConstantSets":
        """Return each of these sets with each of so many bends."""
        bent = np.repeat(np.arange(count), len(self.chosen))
        return TimeConstantSets(np.tile(self.chosen, (count, 1)), np.tile(self.alike, count), bent)


@dataclass(frozen=True, slots=True)
class Relaxation:
    """Weighted draws of the curve, one row a draw."""

    settled: Floats  # (draws,) where the curve settles
    amplitudes: Floats  # (draws, 3) what was still missing at time zero; 0 where unused
    time_constants_s: Floats  # (draws, 3) in ascending order, the slowest last; inf where unused
    bends: Floats  # (draws,) of the slowest
    start_share: float  # share of the settled rise that was there at time zero
    weights: Floats  # (draws,) adding up to 1
    supposed: NDArray[np.int64]  # (draws,) under which account of the readings
    sets: list[TimeConstantSets]  # those worth trying on slightly different readings
    log_evidence: float  # of the readings, over all that was tried

    def under(self, number: int) -> "Relaxation":
        """Return the draws under one account of the readings."""
        rows = self.supposed == number
        names = ("settled", "amplitudes", "time_constants_s", "bends", "supposed")
        picked = {name: getattr(self, name)[rows] for name in names}
        return replace(self, **picked, weights=self.weights[rows] / self.weights[rows].sum())

    def mean_course(self, until_s: float, draws: int = Fit.MEAN_DRAWS) -> CubicSpline:
        """Return the mean of some draws as a function of time, without what the reference adds."""
        some = slice(None, None, max(self.settled.size // draws, 1))
        share = self.weights[some] / self.weights[some].sum()
        # Denser where it is steep; the spline between is far better than the readings.
        knots = until_s * np.linspace(0, 1, Fit.KNOTS) ** 2.5
        missing = self._missing(knots[:, None], some).sum(axis=2)
        return CubicSpline(knots, float(share @ self.settled[some]) - missing @ share)

    def band(
        self, elapsed_s: Floats, share: float, end_s: float, astray: Floats, less: Floats
    ) -> tuple[Floats, Floats, Floats]:
        """Return mean, lower and upper curve at these times; `share` of the draws lie between.

        `less` is subtracted from the curves, one row for each account of the readings. After `end_s`, where
        readings end, each draw departs by the share `astray` of its further rise.
        """
        some = slice(None, None, max(self.settled.size // Fit.BAND_DRAWS, 1))
        weights = self.weights[some] / self.weights[some].sum()
        curves = self.settled[some] - self._missing(elapsed_s[:, None], some).sum(axis=2)
        at_end = self.settled[some] - self._missing(np.array([[end_s]]), some).sum(axis=2)
        curves += np.where(elapsed_s[:, None] > end_s, (curves - at_end) * astray[some], 0.0)
        curves -= less[self.supposed[some]].T
        order = np.argsort(curves, axis=1)
        ranked = np.take_along_axis(curves, order, axis=1)
        below = np.cumsum(weights[order], axis=1)
        edges = [(below < part).sum(axis=1) for part in ((1 - share) / 2, (1 + share) / 2)]
        rows = np.arange(elapsed_s.size)
        last = weights.size - 1
        low, high = (ranked[rows, np.minimum(edge, last)] for edge in edges)
        return np.asarray(curves @ weights), low, high

    def time_constants(self, share: float) -> tuple[tuple[float, float, float], ...]:
        """Return time constants, each with its interval, for the commonest number of exponentials."""
        counts = np.isfinite(self.time_constants_s).sum(axis=1)
        weight = [float(self.weights[counts == n].sum()) for n in (1, 2, 3)]
        best = int(np.argmax(weight)) + 1
        rows = counts == best
        part = replace(self, weights=self.weights[rows] / self.weights[rows].sum())
        answers = []
        for constants in self.time_constants_s[rows, :best].T:
            logs = np.log(constants)
            ends = part.quantiles(logs, ((1 - share) / 2, (1 + share) / 2))
            middle = float(np.exp(part.weights @ logs))
            # The list is coarse: no interval is narrower than the distance between its entries.
            low, high = (float(np.exp(end)) for end in ends)
            near = Fit.RATIO**0.25
            answers.append((middle, min(low, middle / near), max(high, middle * near)))
        return tuple(answers)

    def missing_at(self, elapsed_s: float) -> Floats:
        """Return for each draw how far the curve is from settled at this time."""
        return np.asarray(self._missing(np.array([[elapsed_s]]), slice(None))[0].sum(axis=1))

    def slope_at(self, elapsed_s: float) -> Floats:
        """Return for each draw the slope of the curve, per second."""
        around = np.array([[elapsed_s - 1.0], [elapsed_s + 1.0]])
        before, after = self._missing(around, slice(None)).sum(axis=2)
        return np.asarray((before - after) / 2.0)

    def _missing(self, elapsed_s: Floats, some: slice) -> Floats:
        """Return what is missing of each component: times down, draws across, three deep."""
        constants, amplitudes = self.time_constants_s[some], self.amplitudes[some]
        ages = elapsed_s[:, :, None] / constants
        logs = -ages
        slowest = np.where(np.isfinite(constants), constants, -1).argmax(axis=1)
        for bend in np.unique(self.bends[some]):
            if bend > 0:
                rows = np.flatnonzero(self.bends[some] == bend)
                at = ages[:, rows, slowest[rows]]
                logs[:, rows, slowest[rows]] = log_missing(at, float(bend), self.start_share)
        return np.asarray(np.where(amplitudes == 0, 0.0, amplitudes * np.exp(logs)))

    def responses(self) -> list[tuple[float, float]]:
        """Return time constants and the mean amplitude each has; those of the wrong sign left out.

        Their shares tell how the part answers its own power.
        """
        told = self._gathered(self.amplitudes)
        way = np.sign(sum(gain for _, gain in told))
        most = max(abs(gain) for _, gain in told)
        return [(constant, way * gain) for constant, gain in told if way * gain > 1e-3 * most]

    def passages(self, *, through_slow: bool = False) -> list[tuple[float, float]]:
        """Return time constants and weights, adding up to 1, with which the reference reaches the part.

        It enters at the far end and passes one heat capacity after the other: lags in a chain, not side
        by side as those of the power. What is slower than the largest part is taken to stand beside it,
        as the walls of a case do, or with `through_slow` to be in the way of the air, too.
        """
        used = np.isfinite(self.time_constants_s)
        constants = np.where(used, self.time_constants_s, 1.0)
        sizes = np.where(used, self.amplitudes * np.sign(self.amplitudes.sum(axis=1))[:, None], 0.0)
        sizes = sizes.clip(min=0)
        main = sizes.argmax(axis=1)[:, None]
        places = np.arange(constants.shape[1])
        chained = used if through_slow else used & (places <= main)
        slower = used & ~chained
        apart = constants[:, :, None] - constants[:, None, :]
        # Partial fractions of a chain of lags.
        factors = constants[:, :, None] / np.where(apart == 0, np.inf, apart)
        both = chained[:, None, :] & (places[:, None] != places)
        weights = np.where(chained, np.where(both, factors, 1.0).prod(axis=2), 0.0)
        shares = np.where(slower, sizes, 0.0) / sizes.sum(axis=1, keepdims=True).clip(min=1e-12)
        weights = weights * (1 - shares.sum(axis=1, keepdims=True)) + shares
        return self._gathered(weights)

    def _gathered(self, amounts: Floats) -> list[tuple[float, float]]:
        """Return the mean over the draws of what each time constant has."""
        used = np.isfinite(self.time_constants_s)
        rounded = np.exp(np.round(np.log(self.time_constants_s[used]), 1))
        constants, place = np.unique(rounded, return_inverse=True)
        weighted = amounts * self.weights[:, None]
        means = np.bincount(place, weights=weighted[used], minlength=constants.size)
        return [(float(c), float(g)) for c, g in zip(constants, means, strict=True)]

    def mean(self, values: Floats) -> float:
        """Return the weighted mean over the draws, the outermost hundredths drawn in."""
        low, high = self.quantiles(values, (0.01, 0.99))
        return float(self.weights @ np.clip(values, low, high))

    def quantile(self, values: Floats, share: float) -> float:
        """Return the weighted quantile over the draws."""
        return float(self.quantiles(values, (share,))[0])

    def quantiles(self, values: Floats, shares: Sequence[float]) -> Floats:
        """Return several of them."""
        order = np.argsort(values)
        below = np.cumsum(self.weights[order]) - self.weights[order] / 2
        return np.asarray(np.interp(shares, below, values[order]))
