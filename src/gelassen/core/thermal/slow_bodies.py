"""Bodies that warm up slowly: board, drives, walls of the case.

Heat also flows into heavy bodies beside the cooler. They add one or two per cent of the rise, over a
quarter of an hour to hours. That is too little to fit time constants to, and too much to leave out of an
interval. So the curve has two tails with fixed time constants and small unknown sizes. Some machines have
such bodies and some have hardly any. Both assumptions are tried, and each counts by its evidence.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Floats

_TIME_CONSTANTS_S = np.array([900.0, 3000.0])


@dataclass(frozen=True, slots=True)
class TailSize:
    """An assumption of the share of the rise in each tail: mean, standard deviation, and its probability.

    The mean is above zero, since bodies that are being warmed take heat away.
    """

    usual: float
    spread: float
    chance: float = 1.0


HARDLY_ANY, SOME, HEAVY = (
    TailSize(0.0005, 0.001, 0.44), TailSize(0.008, 0.008, 0.44), TailSize(0.03, 0.03, 0.12),
)  # fmt: skip
SUPPOSED = (SOME, HARDLY_ANY, HEAVY)
# The first two in one: their common mean and standard deviation.
ANY = TailSize(0.004, 0.0065)


@dataclass(frozen=True, slots=True)
class SlowTails:
    """Both tails at the moments of the readings, in the unit of the series."""

    middle_s: Floats  # (bins,) time since the load began
    change: float  # the whole change of the series, with its sign
    size: TailSize = ANY
    # Changes before time 0, which these bodies have not followed yet: how large each was, and how long
    # before it was, in s.
    before: Sequence[tuple[float, float]] = ()

    @property
    def usual(self) -> Floats:
        """The mean of what the tails still miss at each moment."""
        return np.asarray(self.size.usual * self.columns(self.middle_s).sum(axis=1))

    @property
    def covariance(self) -> Floats:
        """The covariance of what the tails still miss."""
        columns = self._spread(self.middle_s)
        return np.asarray(columns @ columns.T)

    def told(self, left: Floats, covariance: Floats) -> "TailsTold":
        """Return the sizes of both tails, given the readings.

        Parameters
        ----------
        left : array, shape (bins,)
            The series, with what its tails usually miss added, less the fitted course.
        covariance : array, shape (bins, bins)
            Covariance of the series, that of the tails included.
        """
        # Conditional mean and covariance of jointly normal quantities.
        seen = self._spread(self.middle_s)
        told = np.linalg.solve(covariance, np.column_stack([left, seen]))
        both = seen.T @ told
        return TailsTold(self, both[:, 0], np.eye(seen.shape[1]) - both[:, 1:])

    def columns(self, elapsed_s: Floats) -> Floats:
        """Return what each tail would miss at these times if its share were 1."""
        earlier = [size * np.exp(-since_s / _TIME_CONSTANTS_S) for size, since_s in self.before]
        changes = self.change + np.sum(earlier, axis=0)
        return np.asarray(changes * np.exp(-elapsed_s[:, None] / _TIME_CONSTANTS_S))

    def _spread(self, elapsed_s: Floats) -> Floats:
        return self.size.spread * self.columns(elapsed_s)


@dataclass(frozen=True, slots=True)
class TailsTold:
    """The posterior of the slow tails."""

    tails: SlowTails
    mean: Floats  # (2,) size of each above its prior mean, in prior standard deviations
    within: Floats  # (2, 2) covariance of these sizes

    def missing_at(self, elapsed_s: Floats) -> tuple[Floats, float]:
        """Return what they still miss at these times, and the standard deviation at the last of them."""
        columns = self.tails.columns(elapsed_s)
        asked = self.tails.size.spread * columns
        # A tail that lies above the fitted curve misses nothing.
        mean = self.tails.size.usual * columns.sum(axis=1) - asked @ self.mean
        return mean, float(np.sqrt(max(asked[-1] @ self.within @ asked[-1], 0.0)))
