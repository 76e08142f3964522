"""Which of many differences are beyond chance when all of them are looked at (multiple testing).

The p values are single-step values as in textbooks: Tukey and Kramer for all pairs [1]_, Dunnett's
distribution by simulation for differences to a baseline [2]_. The verdicts are reached in steps [3]_. Once
the setups as a whole are known to differ, fewer differences can still be judged wrongly. So the remaining
pairs need a smaller difference. The chance of any false verdict stays the same.

References
----------
.. [1] C. Y. Kramer, Biometrics 12, 307 (1956).
.. [2] C. W. Dunnett, J. Am. Stat. Assoc. 50, 1096 (1955).
.. [3] R. E. Welsch, J. Am. Stat. Assoc. 72, 566 (1977), in the closed form over all subsets; against
   a baseline C. W. Dunnett and A. C. Tamhane, Stat. Med. 10, 939 (1991).
"""

from collections.abc import Callable
from functools import cache, lru_cache

import numpy as np
from scipy.special import stdtr

from gelassen.core.comparing.priors import Multiplicity
from gelassen.core.foundation.distributions import range_beyond, t_quantile
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.root import crossing


@cache
def quantile(share: float, freedom: float) -> float:
    """Return a quantile of Student's t. It is cached, as few are ever asked for."""
    return float(t_quantile(share, freedom))


class AllPairs:
    """Every pair of this many setups."""

    def __init__(self, setups: int, freedom: float) -> None:
        self._setups, self._freedom = setups, freedom
        many = setups * (setups - 1) // 2 > Multiplicity.EXACT_PAIRS
        self._chance = _tukey(setups, freedom, table=many) if setups > 2 else None

    def p_value(self, statistic: float) -> float:
        """Return the p value of a difference of so many standard errors, in a single step."""
        alone = 2 * float(stdtr(self._freedom, -abs(statistic)))
        return alone if self._chance is None else max(self._chance(abs(statistic)), alone)

    def distinguished(
        self, pairs: list[tuple[int, int]], statistics: Floats, level: float
    ) -> Bools:
        """Return which pairs are told apart at this level, in steps.

        A pair is told apart if the range of every set of setups that holds both is beyond chance. Sets
        of fewer are tested at a smaller level, since there may be several of them.
        """
        single: Bools = np.array([self.p_value(size) < level for size in statistics], dtype=bool)
        steps = 2 < self._setups <= Multiplicity.MOST_IN_STEPS
        if single.all() or not single.any() or not steps:
            return single
        sizes = np.zeros((self._setups, self._setups))
        for (a, b), size in zip(pairs, np.abs(statistics), strict=True):
            sizes[a, b] = sizes[b, a] = size
        members, largest = _ranges(sizes)
        counts = members.sum(axis=1)
        distinguished = single.copy()
        for which in np.flatnonzero(~single):
            both = members[:, pairs[which]].all(axis=1)
            # Small sets first: what fails alone needs no integral.
            distinguished[which] = all(
                self._beyond(count, float(largest[both & (counts == count)].min()), level)
                for count in range(2, self._setups + 1)
            )
        return distinguished

    def _beyond(self, count: int, size: float, level: float) -> bool:
        """Return whether a range this large, of this many setups, is beyond chance."""
        if count < self._setups - 1:
            level = -float(np.expm1(np.log1p(-level) * count / self._setups))
        alone = 2 * float(stdtr(self._freedom, -size))
        if count == 2 or alone >= level:
            return alone < level
        return _tukey(count, self._freedom)(size) < level


class AgainstOne:
    """Differences of several setups to one. They are correlated, as they share that one.

    Parameters
    ----------
    covariance : array, shape (differences, differences)
        Of the differences, up to a common factor.
    freedom : float
        Degrees of freedom of that factor.
    """

    def __init__(self, covariance: Floats, freedom: float) -> None:
        self._freedom = freedom
        self._sizes: Floats | None = None
        count = len(covariance)
        if count < 2 or freedom < 1:
            return
        scale = np.sqrt(np.diag(covariance))
        correlation = covariance / np.outer(scale, scale) + 1e-9 * np.eye(count)
        rng = np.random.default_rng(4)
        normal = (
            rng.standard_normal((Multiplicity.SIMULATED, count)) @ np.linalg.cholesky(correlation).T
        )
        chi = np.sqrt(rng.chisquare(freedom, Multiplicity.SIMULATED) / freedom)
        self._sizes = np.abs(normal) / chi[:, None]
        self._largest = np.sort(self._sizes.max(axis=1))

    def p_value(self, statistic: float) -> float:
        """Return the p value of a difference of so many standard errors, in a single step."""
        alone = 2 * float(stdtr(self._freedom, -abs(statistic)))
        return alone if self._sizes is None else max(_above(self._largest, abs(statistic)), alone)

    def distinguished(
        self, pairs: list[tuple[int, int]], statistics: Floats, level: float
    ) -> Bools:
        """Return which differences are told apart: the clearest first, then among the others."""
        distinguished: Bools = np.zeros(len(statistics), dtype=bool)
        order = np.argsort(-np.abs(statistics))
        largest: Floats | None = None
        if self._sizes is not None:  # of each difference and of all that are less clear
            largest = np.maximum.accumulate(self._sizes[:, order[::-1]], axis=1)[:, ::-1]
        for place, which in enumerate(order):
            size = abs(float(statistics[which]))
            p_value = 2 * float(stdtr(self._freedom, -size))
            if largest is not None:
                above = int((largest[:, place] >= size).sum())
                p_value = max((above + 1) / (len(largest) + 1), p_value)
            if p_value >= level:
                break
            distinguished[which] = True
        return distinguished


def critical_size(p_value: Callable[[float], float], freedom: float, level: float) -> float:
    """Return how many standard errors a difference must be for this level."""
    alone = quantile(1 - level / 2, freedom)
    if p_value(alone) <= level * (1 + 1e-9):
        return alone
    high = alone
    while p_value(high) > level:
        high *= 1.4
    if high <= alone:
        return alone
    # Three digits are enough. Each try may cost an integral.
    within = 1e-3 * alone / (high - 0.5 * alone)
    return crossing(lambda size: p_value(size) - level, 0.5 * alone, high, within=within)


def _above(sorted_sizes: Floats, size: float) -> float:
    above = sorted_sizes.size - np.searchsorted(sorted_sizes, size)
    return float((above + 1) / (sorted_sizes.size + 1))


def _ranges(sizes: Floats) -> tuple[Bools, Floats]:
    """Return every set of setups and the largest difference within it."""
    count = len(sizes)
    members = (np.arange(2**count)[:, None] >> np.arange(count)) & 1 == 1
    largest = np.zeros(2**count)
    for last in range(1, count):
        # Sets that end with this setup: all sets of the earlier ones, with this one added.
        before = slice(0, 2**last)
        own = np.where(members[before, :last], sizes[last, :last], 0.0).max(axis=1)
        largest[2**last : 2 ** (last + 1)] = np.maximum(largest[before], own)
    return members, largest


@lru_cache(maxsize=256)
def _tukey(count: int, freedom: float, *, table: bool = False) -> Callable[[float], float]:
    """Return the chance that the largest difference is at least this many standard errors.

    The integral takes a thousandth of a second; for many pairs it is read off a fine table.
    """
    degrees = max(freedom, 2)

    @cache
    def exact(size: float) -> float:
        return range_beyond(size * float(np.sqrt(2)), count, degrees)

    if not table:
        return exact
    sizes = np.concatenate([np.linspace(0, 6, 25), [7.0, 8.0, 10.0, 12.0]])
    chances = np.array([max(exact(float(size)), 1e-300) for size in sizes])
    from scipy.interpolate import PchipInterpolator  # only here: it takes long to import

    course = PchipInterpolator(sizes, np.log(chances))
    return lambda size: float(np.exp(course(min(size, sizes[-1]))))
