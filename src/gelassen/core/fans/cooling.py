"""Rise over fan speed and power, from settled runs: a physical law, and how far it may be off."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import product

import numpy as np

from gelassen.core.fans.priors import Cooling
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats


@dataclass(frozen=True, slots=True, eq=False)
class _Tried:
    """One exponent n, free share g and spread between mountings, weighed by how well the runs fit."""

    exponent: float
    free: float
    between_k: float
    factor: Floats  # Cholesky factor of the covariance of the runs
    solved: Floats  # the runs less what was expected, through that factor
    evidence: float


@dataclass(frozen=True, eq=False)
class CoolingLaw:
    """What settled runs of one setup say about any fan speed and power.

    The law is ``rise = P (A + B / (s^n + g)) + C``, with a slight bend over the power. s is the speed over
    the middle one. A is what sits before the fins, B the fins, g what they give off at rest, C what else
    warms the case. n, g and the spread between mountings are tried on a grid and weighed; A, B, C, the
    bend and a smooth misfit of a stated size are solved for exactly.

    Attributes
    ----------
    rpm, power_w, rise_k, error_k
        The runs.
    mounts
        Number of the mounting of each run.

    References
    ----------
    Kennedy, O'Hagan, "Bayesian calibration of computer models", J. R. Stat. Soc. B 63 (2001), for the
    misfit; Incropera, DeWitt, "Fundamentals of Heat and Mass Transfer", for the exponents.
    """

    rpm: Floats
    power_w: Floats
    rise_k: Floats
    error_k: Floats
    mounts: Floats
    runs: "np.ndarray[tuple[int], np.dtype[np.int64]]"
    tried: list[_Tried] = field(default_factory=list)

    @cached_property
    def middle(self) -> tuple[float, float, float]:
        """Middle speed in rpm, power in W and rise per watt in K/W of the runs."""
        return (
            float(np.exp(np.mean(np.log(self.rpm)))),
            float(np.exp(np.mean(np.log(self.power_w)))),
            float(np.mean(self.rise_k / self.power_w)),
        )

    def at(self, rpm: Floats, power_w: Floats, *, next_mounting: bool = True) -> "Predicted":
        """Return the rise at these speeds and powers, arrays of one length.

        It is the rise in the next mounting. With ``next_mounting=False`` it is the mean over mountings.
        """
        there = (np.asarray(rpm, dtype=float), np.asarray(power_w, dtype=float))
        here = (self.rpm, self.power_w)
        misfit, own_misfit = self._misfit(here, there), self._misfit_size(there[1]) ** 2
        shapes: dict[tuple[float, float], tuple[Floats, Floats, Floats]] = {}
        for one in self.tried:
            shape = (one.exponent, one.free)
            if shape not in shapes:
                parts = self._parts(*there, *shape)
                doubted = parts * self._doubts
                across = (self._parts(*here, *shape) * self._doubts) @ doubted.T + misfit
                shapes[shape] = (
                    across,
                    (doubted**2).sum(axis=1) + own_misfit,
                    parts @ self._expected,
                )
        told = [shapes[one.exponent, one.free] for one in self.tried]
        across, own, expected = (np.array([one[k] for one in told]) for k in range(3))
        halves = np.linalg.solve(np.array([one.factor for one in self.tried]), across)
        solved = np.array([one.solved for one in self.tried])
        means = expected + np.einsum("kij,ki->kj", halves, solved)
        left = np.maximum(own - (halves**2).sum(axis=1), 0.0)
        between_k = np.array([one.between_k if next_mounting else 0.0 for one in self.tried])
        evidence = np.array([one.evidence for one in self.tried])
        weights = np.exp(evidence - evidence.max())
        return Predicted(weights / weights.sum(), means, np.sqrt(left + between_k[:, None] ** 2))

    def weighed(
        self, exponent: float, free: float, priors: Sequence[tuple[float, float]]
    ) -> list[_Tried]:
        """Return how well the runs fit this shape, with each spread between mountings.

        `priors` are spreads in K, and the logarithm of what was thought of each before.
        """
        parts = self._parts(self.rpm, self.power_w, exponent, free)
        fixed = (parts * self._doubts) @ (parts * self._doubts).T + self._noise
        left = self.rise_k - parts @ self._expected
        one_mount = np.equal.outer(self.mounts, self.mounts)
        tried = []
        for between_k, prior in priors:
            factor = np.asarray(np.linalg.cholesky(fixed + between_k**2 * one_mount), dtype=float)
            solved = np.linalg.solve(factor, left)
            fits = -0.5 * float(solved @ solved) - float(np.log(np.diag(factor)).sum())
            tried.append(_Tried(exponent, free, between_k, factor, solved, prior + fits))
        return tried

    def _parts(self, rpm: Floats, power_w: Floats, exponent: float, free: float) -> Floats:
        middle_rpm, middle_w, _ = self.middle
        fins = (1.0 + free) / ((rpm / middle_rpm) ** exponent + free)
        bend = power_w * np.log(power_w / middle_w)
        return np.column_stack([power_w, power_w * fins, np.ones(rpm.size), bend])

    @cached_property
    def _expected(self) -> Floats:
        """What is thought of A, B, C and the bend before any run."""
        half = self.middle[2] / 2
        return np.array([half, half, Cooling.OFFSET_K, 0.0])

    @cached_property
    def _doubts(self) -> Floats:
        """How far each of them may lie from that."""
        share, bend = Cooling.SHARE_DOUBT * self.middle[2], Cooling.BEND_DOUBT * self.middle[2]
        return np.array([share, share, Cooling.OFFSET_DOUBT_K, bend])

    @cached_property
    def _noise(self) -> Floats:
        """What is not of the law in the runs, for any exponent: misfit and errors, as covariances."""
        noise = Cooling.RUN_K**2 + (Cooling.RUN_SHARE * self.rise_k) ** 2
        noise += (1 - Cooling.ONE_RUN) * self.error_k**2
        alike = np.equal.outer(self.runs, self.runs)
        shared = Cooling.ONE_RUN * alike * np.multiply.outer(self.error_k, self.error_k)
        here = (self.rpm, self.power_w)
        return np.asarray(self._misfit(here, here) + np.diag(noise) + shared)

    def _misfit_size(self, power_w: Floats) -> Floats:
        return Cooling.MISFIT * self.middle[2] * power_w

    def _misfit(self, left: tuple[Floats, Floats], right: tuple[Floats, Floats]) -> Floats:
        """Return the covariance of the smooth misfit between points."""
        away = sum(
            np.subtract.outer(np.log(a), np.log(b)) ** 2 for a, b in zip(left, right, strict=True)
        )
        scale = np.multiply.outer(self._misfit_size(left[1]), self._misfit_size(right[1]))
        return np.asarray(scale * np.exp(-0.5 * away / Cooling.MISFIT_LENGTH**2))


@dataclass(frozen=True, slots=True, eq=False)
class Predicted:
    """A mixture of normal distributions at each point: weights (k), means and spreads (k, points)."""

    weights: Floats
    means: Floats
    spreads: Floats

    @property
    def mean(self) -> Floats:
        """Mean at each point."""
        return np.asarray(self.weights @ self.means)

    @property
    def spread(self) -> Floats:
        """Standard deviation at each point."""
        second = self.weights @ (self.means**2 + self.spreads**2)
        return np.asarray(np.sqrt(np.maximum(second - self.mean**2, 0.0)))


def cooling_law(
    rpm: Sequence[float],
    power_w: Sequence[float],
    rise_k: Sequence[float],
    error_k: Sequence[float],
    *,
    mounts: Sequence[int] | None = None,
    runs: Sequence[int] | None = None,
    between_k: float = 0.5,
) -> CoolingLaw:
    """Return the cooling over fan speed and power that settled runs of one setup show.

    Parameters
    ----------
    rpm, power_w, rise_k, error_k : sequences of one length
        Fan speed, power in W, settled rise in K and its standard error in K of each run.
    mounts : sequence of int, optional
        Number of the mounting of each run; one mounting if not given.
    runs : sequence of int, optional
        Number of the recorded run that each belongs to: duties of one run that was not settled err alike.
        Each is a run of its own if not given.
    between_k : float
        What is thought of the standard deviation between mountings, K, before these runs. It counts if
        there are several.

    Raises
    ------
    InputError
        Fewer than two speeds, numbers that are not finite, or not above 0.
    """
    columns = [np.asarray(x, dtype=float) for x in (rpm, power_w, rise_k, error_k)]
    if len({x.size for x in columns}) > 1:
        raise InputError(
            "rpm, power_w, rise_k and error_k have different lengths: one of each for every run"
        )
    if not all(np.isfinite(x).all() for x in columns) or any((x <= 0).any() for x in columns[:3]):
        raise InputError("rpm, power_w and rise_k must be finite numbers above 0")
    if columns[0].size < 2 or math.log(columns[0].max() / columns[0].min()) < math.log(1.1):
        raise InputError(
            "cooling over fan speed needs runs at two speeds at least, a tenth apart; take three to five"
        )
    numbers = np.asarray(mounts if mounts is not None else [0] * columns[0].size)
    own = np.asarray(runs if runs is not None else range(columns[0].size))
    law = CoolingLaw(columns[0], columns[1], columns[2], columns[3], numbers, own)
    several = len(set(numbers.tolist())) > 1
    for n, g in product(Cooling.EXPONENTS, Cooling.FREE):
        prior = (
            -0.5 * ((n - Cooling.EXPONENT) / Cooling.EXPONENT_DOUBT) ** 2 - g / Cooling.FREE_DOUBT
        )
        spreads = [(0.0, prior)]
        if several:
            spreads = [
                (factor * between_k, prior - 0.5 * (math.log(factor) / Cooling.BETWEEN_DOUBT) ** 2)
                for factor in Cooling.BETWEEN
            ]
        law.tried.extend(law.weighed(n, g, spreads))
    return law
