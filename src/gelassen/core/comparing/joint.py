"""Several differences looked at together: intervals, p values and verdicts from one procedure."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.core.comparing.multiplicity import AgainstOne, AllPairs, critical_size
from gelassen.core.comparing.priors import Comparison
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.distributions import t_beyond, t_quantile
from gelassen.core.foundation.inputs import Bools, Floats


@dataclass(frozen=True, slots=True, kw_only=True)
class Joint:
    """Differences with intervals that hold for all of them together, and verdicts that match.

    Attributes
    ----------
    difference, low, high, p_value, distinguishable : ndarray, shape (differences,)
        A difference is distinguishable if its interval leaves out zero. Its p value is then below
        1 - confidence. If the scatter is unknown, the ends are infinite.
    single_low, single_high : ndarray
        The interval of each difference alone.
    errors, freedom : ndarray
        The standard error of each, and its degrees of freedom.
    critical : ndarray
        How many standard errors a difference must be, before the verdicts go on in steps.
    """

    difference: Floats
    low: Floats
    high: Floats
    single_low: Floats
    single_high: Floats
    p_value: Floats
    distinguishable: Bools
    errors: Floats
    freedom: Floats
    critical: Floats


def joint_differences(
    fit: SetupFit,
    contrasts: Floats,
    pairs: Sequence[tuple[int, int]],
    count: int,
    confidence: float,
    *,
    against_one: bool = False,
) -> Joint:
    """Return the differences between means, judged together.

    Parameters
    ----------
    fit : SetupFit
        The fitted means.
    contrasts : ndarray, shape (differences, coefficients)
        What is taken from what. Coefficients that are left out at the end count as zero.
    pairs : sequence of (int, int)
        Which two of the `count` means each difference is between.
    count : int
        How many means there are.
    confidence : float
        For all intervals together.
    against_one : bool
        Whether all differences are to the same mean; else they are all pairs.

    Notes
    -----
    Tukey and Kramer for all pairs, Dunnett's distribution for differences to one mean, verdicts in steps
    from there: see `core/comparing/multiplicity.py`.
    """
    difference = np.asarray(contrasts @ fit.first(contrasts.shape[1]), dtype=float)
    errors, freedom = fit.errors(contrasts), fit.freedom(contrasts)
    half = fit.halves(contrasts, confidence)
    known = np.isfinite(errors) & (freedom > 0)
    told = np.zeros(difference.size, dtype=bool)
    p_value, critical = np.full(difference.size, np.nan), np.full(difference.size, np.inf)
    if known.any():
        # Each error has its own degrees of freedom. Verdicts use common ones.
        common, level = fit.degrees, 1 - confidence
        own = np.where(known, errors, np.inf)
        sizes = np.divide(difference, own, out=np.zeros_like(difference), where=own > 0)
        sizes[own == 0] = np.inf * np.sign(difference[own == 0])
        sizes = _at_freedom(sizes, freedom, common)
        adjust = (
            AgainstOne(fit.covariance_of(contrasts), common)
            if against_one
            else AllPairs(count, common)
        )
        places = list(pairs)
        told = adjust.distinguished(places, sizes, level) & known
        p_value = np.where(known, _p_values(adjust, places, sizes, level), np.nan)
        alone = critical_size(adjust.p_value, common, level)
        critical = _at_freedom(np.full(difference.size, alone), common, freedom)
    wide = np.where(known, critical * np.where(known, errors, 1.0), np.inf)
    low, high = matching(difference, wide, told)
    return Joint(
        difference=difference, low=low, high=high, single_low=difference - half,
        single_high=difference + half, p_value=p_value, distinguishable=told, errors=errors,
        freedom=freedom, critical=critical,
    )  # fmt: skip


def matching(difference: Floats, half: Floats, told: Bools) -> tuple[Floats, Floats]:
    """Return simultaneous intervals that match the verdicts: they leave out zero if told apart.

    A verdict reached in steps may tell apart what the single step does not. Then the interval ends at
    zero (Stefansson, Kim and Hsu 1988).
    """
    low, high = difference - half, difference + half
    low = np.where(told & (difference > 0), np.maximum(low, Comparison.BESIDE_ZERO), low)
    high = np.where(told & (difference < 0), np.minimum(high, -Comparison.BESIDE_ZERO), high)
    return low, high


def _p_values(
    adjust: AllPairs | AgainstOne, places: list[tuple[int, int]], sizes: Floats, level: float
) -> list[float]:
    """Return the smallest level at which each difference is told apart, in steps where that is less."""
    single = np.array([adjust.p_value(size) for size in sizes])
    told = adjust.distinguished(places, sizes, level)
    for k in np.flatnonzero(told & (single >= level)):
        low, high = 0.0, level
        for _ in range(Comparison.P_HALVINGS):
            middle = (low + high) / 2
            found = adjust.distinguished(places, sizes, middle)[k]
            low, high = (low, middle) if found else (middle, high)
        single[k] = high
    return [float(p) for p in np.where(told, np.minimum(single, level * (1 - 1e-9)), single)]


def _at_freedom(sizes: Floats, freedom: "Floats | float", common: "Floats | float") -> Floats:
    """Return the sizes, in standard errors, with the same p value at other degrees of freedom."""
    before, after = np.broadcast_to(freedom, sizes.shape), np.broadcast_to(common, sizes.shape)
    moved = np.abs(sizes)
    other = ~np.isclose(before, after)
    if other.any():
        chance = t_beyond(moved[other], before[other])
        moved[other] = np.where(chance > 0, -t_quantile(chance, after[other]), moved[other])
    return np.copysign(moved, sizes)
