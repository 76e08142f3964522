"""The fit of a heating or cooling curve whose time constants are not known.

After a step of power every temperature of a network of heat capacities and conductances follows
``settled - sum(amplitude_k * shape_k(t))``: exponentials, the slowest of which is bent where the
conductances grow with the rise (`core/thermal/approach.py`). All sets of up to three time constants from
a fixed list are tried, with several bends. Each set is a linear least-squares problem, and each counts by
its evidence (Bayesian model averaging [1]_). If a log does not show its slowest time constant, many sets
fit it equally well, and the answer is wide.

References
----------
.. [1] J. A. Hoeting et al., Statistical Science 14, 382 (1999).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from itertools import combinations, pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solve_triangular
from scipy.special import logsumexp, ndtr

from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.approach import log_missing, log_missing_slope
from gelassen.core.thermal.priors import Bends, Doubt, Fit, Slowest, WrongSign
from gelassen.core.thermal.relaxation import Relaxation, TimeConstantSets
from gelassen.core.thermal.subsets import gains_of


@dataclass(frozen=True, slots=True)
class Account:
    """Averaged readings under one assumption about slow bodies."""

    series: Floats  # (bins,)
    covariance: Floats  # (bins, bins) noise, and whatever else moves them together
    chance: float = 1.0  # prior probability of the assumption


def time_constant_list(interval_s: float) -> Floats:
    """Return the time constants to try, for samples this far apart."""
    shortest = max(Fit.SHORTEST_S, 2 * interval_s)
    count = max(int(np.log(Fit.LONGEST_S / shortest) / np.log(Fit.RATIO)), 3)
    return np.asarray(shortest * Fit.RATIO ** np.arange(count + 1), dtype=float)


def fit_relaxation(
    elapsed_s: Floats,
    accounts: Sequence[Account],
    time_constants_s: Floats,
    *,
    most: int = 3,
    among: list[TimeConstantSets] | None = None,
    start_share: float | None = None,
    slowest: tuple[float, float] | None = None,
    fanless: float = 0.0,
    draft: bool = False,
    draws: int = Fit.DRAWS,
    freedom: float = Doubt.USUAL_FREEDOM,
    driven: Floats | None = None,
) -> Relaxation:
    """Fit sums of up to three exponentials, the slowest bent or not, to averaged readings.

    Parameters
    ----------
    elapsed_s : array, shape (bins,)
        Time since the load began, at the middle of each bin.
    accounts : sequence of Account
        The mean reading of each bin, with their covariance: one, or several that count by their evidence.
    time_constants_s : array
        The list to choose from, ascending.
    most : int
        How many exponentials at most: two are quicker and do for a first look.
    among : list of TimeConstantSets, optional
        Sets left over from an earlier fit of nearly the same readings: only these are tried.
    start_share : float, optional
        Share of the settled rise that was there at time zero; without it nothing is bent.
    slowest : tuple of float, optional
        Prior of the slowest time constant: median in s, spread of its logarithm. That of cooled parts in
        general if not given.
    fanless : float
        How likely it is that no fan is at work, 0 to 1: then bends are those of free convection, and the
        slowest time constant is that of a block without a fan unless another was told.
    draft : bool
        Try only every second entry of the list for the slowest: enough to see which quick ones matter.
    draws : int
        How many draws to return: quantiles far out need thousands, a mean course needs few.
    freedom : float
        Degrees of freedom of the noise: by how many independent stretches its size is known.
    driven : array, shape (bins, time constants), optional
        Of a load that varies: how a body with each time constant follows its ups and downs.
    """
    series = accounts[0].series
    change = float(np.ptp(series)) or 1.0
    prior = _log_prior(time_constants_s, slowest, fanless)
    tenth = max(elapsed_s.size // 10, 1)
    direction = np.sign(series[-tenth:].mean() - series[:tenth].mean()) or 1.0
    least = WrongSign.LEAST * change

    every = among or _time_constant_sets(time_constants_s.size, most)
    hopeful = _time_constant_sets(time_constants_s.size, most, 2) if draft else every
    again = every
    usual = np.exp(-np.array(Bends.TRIED) / Bends.MEAN)
    shares = (1 - fanless) * usual / usual.sum() + fanless * np.array(Bends.FANLESS)
    count = len(Bends.TRIED) if start_share is not None else 1
    bends = Bends.TRIED[:count]
    basis = _basis(elapsed_s, time_constants_s, bends, start_share or 0.0, driven)
    asked = [
        group.with_bends(count) if group.chosen.shape[1] <= Fit.MOST_BENT else group
        for group in hopeful
    ]
    tried: list[_Solved] = []
    supposed: list[int] = []
    best = -np.inf
    for number, one in enumerate(accounts):
        lower = np.asarray(np.linalg.cholesky(one.covariance), dtype=np.float64)
        white, flat = _whitened(lower, one.series), _whitened(lower, basis)
        # A wider covariance costs evidence.
        width = float(np.log(np.diagonal(lower)).sum()) - np.log(one.chance)
        log_prior = np.log(shares[:count, None]) + prior - width
        normal = _Normal.of(flat.reshape(white.size, count, -1), white, change)
        models: list[_Solved] = []
        for group in reversed(asked):  # the largest sets usually weigh most
            solved = _solve(normal, group, time_constants_s, log_prior, direction, least, best)
            models.insert(0, solved)
            best = max(best, solved.best)
        if number == 0:
            again = _hopeful(every, asked, models, Fit.HOPELESS)
        tried += models
        supposed += [number] * len(models)
        # Sets that one account ruled out are not tried with the next.
        asked = [model.sets for model in models if model.log_weight.size]
    tried_all = _Tried(tried, supposed, time_constants_s, np.array(bends))
    signs = _Signs(direction, least, change)
    return tried_all.drawn(draws, freedom, signs, start_share or 0.0, again)


@dataclass(frozen=True, slots=True)
class _Signs:
    """Which way the curve goes, and what is known of the signs and sizes of its parts."""

    direction: float
    least: float
    change: float


@dataclass(frozen=True, slots=True)
class _Tried:
    """All sets that were tried under all assumptions, and the assumption of each."""

    solved: "list[_Solved]"
    supposed: list[int]
    constants: Floats
    bends: Floats

    def drawn(
        self,
        draws: int,
        freedom: float,
        signs: _Signs,
        start_share: float,
        again: list[TimeConstantSets],
    ) -> Relaxation:
        """Return weighted draws of the curve."""
        log_weight = np.concatenate([model.log_weight for model in self.solved])
        weight = np.exp(log_weight - log_weight.max())
        log_evidence = float(log_weight.max() + np.log(weight.sum()))
        weight[weight < Fit.NO_WEIGHT] = 0
        weight /= weight.sum()
        # Sets were picked by the sign factor they were expected to have; here each draw gets its own.
        expected = np.concatenate([model.expected for model in self.solved])
        for many in (draws, Fit.MORE_DRAWS * draws):
            settled, amplitudes, constants, bent, picked = _draw(
                self.solved, weight, self.constants, self.bends, many, freedom
            )
            weights = _sign_factor(
                amplitudes, constants, signs.direction, signs.least, signs.change
            )
            weights = weights / expected[picked]
            weights /= weights.sum()
            if _effective(weights) >= Fit.EFFECTIVE * draws:
                break
        else:
            weights = _levelled(weights, Fit.EFFECTIVE * draws)
        sizes = [model.log_weight.size for model in self.solved]
        account = np.repeat(self.supposed, sizes)[picked]
        return Relaxation(
            settled, amplitudes, constants, bent, start_share, weights, account, again, log_evidence
        )  # fmt: skip


def _effective(weights: Floats) -> float:
    """Return the effective number of weighted draws (Kish 1965)."""
    return float(1 / (weights @ weights))


def _levelled(weights: Floats, least: float) -> Floats:
    """Return weights brought nearer to each other until enough draws count.

    If nearly all draws have signs that the prior rules out, the prior is wrong, or the sets were picked
    for nothing. The answer is wider then.
    """
    low, high = 0.0, 1.0
    for _ in range(Fit.HALVINGS):
        power = (low + high) / 2
        tried = weights**power
        low, high = (power, high) if _effective(tried / tried.sum()) >= least else (low, power)
    level = weights**low
    return np.asarray(level / level.sum())


def _whitened(lower: Floats, values: Floats) -> Floats:
    """Return values whose errors are independent and of size 1."""
    return np.asarray(solve_triangular(lower, values, lower=True, check_finite=False))


@cache
def _time_constant_sets(size: int, most: int, step: int = 1) -> list[TimeConstantSets]:
    """Return the sets to try, by their number of members; the slowest from every `step`-th entry."""
    quick = range(0, size, Fit.QUICK_EVERY)
    groups = [np.arange(0, size, step)[:, None]]
    for count in range(2, most + 1):
        chosen = [
            (*members, slowest)
            for members in combinations(quick, count - 1)
            if all(b - a >= Fit.APART for a, b in pairwise(members))
            for slowest in range(members[-1] + Fit.APART, size, step)
        ]
        if chosen:
            groups.append(np.array(chosen))
    counts = [np.bincount(group[:, -1], minlength=size)[group[:, -1]] for group in groups]
    return [
        TimeConstantSets(group, count.astype(float), np.zeros(len(group), dtype=int))
        for group, count in zip(groups, counts, strict=True)
    ]


def _basis(
    elapsed_s: Floats,
    constants_s: Floats,
    bends: Sequence[float],
    start_share: float,
    driven: Floats | None,
) -> Floats:
    """Return columns for each bend: the settled value, quick parts, slowest parts, their shifts."""
    ages = elapsed_s[:, None] / constants_s
    follows = np.zeros_like(ages) if driven is None else driven
    quick = (follows - np.exp(-ages))[:, :: Fit.QUICK_EVERY]
    common = [np.ones((elapsed_s.size, 1)), quick]
    columns = []
    for bend in bends:
        slowest = np.exp(log_missing(ages, bend, start_share))
        shift = slowest * ages * log_missing_slope(ages, bend, start_share)
        columns += [*common, follows - slowest, shift]
    return np.concatenate(columns, axis=1)


@dataclass(frozen=True, slots=True)
class _Normal:
    """The normal equations of all columns, those of one bend below another."""

    gram: Floats  # (bends * columns, columns)
    right: Floats  # (bends * columns,)
    square: float
    change: float  # the size of the change that was seen

    @classmethod
    def of(cls, basis: Floats, series: Floats, change: float) -> "_Normal":
        """Return them from columns of shape (bins, bends, columns)."""
        each = np.ascontiguousarray(basis.swapaxes(0, 1))
        turned = each.swapaxes(1, 2)
        gram = (turned @ each).reshape(-1, basis.shape[2])
        return cls(gram, (turned @ series).ravel(), float(series @ series), change)


@dataclass(frozen=True, slots=True)
class _Solved:
    """Least-squares solutions of the sets that may count: one row a set, column 0 the settled value."""

    sets: TimeConstantSets
    estimate: Floats
    hessian: Floats
    log_weight: Floats  # log evidence, and what to expect of the signs
    expected: Floats  # sign factor to expect
    evidence: Floats  # log evidence of all sets that were tried

    @property
    def best(self) -> float:
        """The largest log weight."""
        return float(self.log_weight.max(initial=-np.inf))


def _log_prior(
    time_constants_s: Floats, known: tuple[float, float] | None, fanless: float
) -> Floats:
    """Return how likely each is to be the slowest of a cooled part, before any reading is seen.

    Heatsinks, coolant and cases take minutes, so a log of two minutes that looks settled is not. Without
    a fan they take longer. A prior that was given (`told`) replaces both.
    """
    without = (1 - Slowest.FANLESS_OTHERWISE) * fanless if known is None else 0.0
    slowest = known or Slowest.USUAL
    logs = [
        -0.5 * (np.log(time_constants_s / usual_s) / spread) ** 2
        for usual_s, spread in (slowest, Slowest.FANLESS)
    ]
    narrower = slowest[1] / Slowest.FANLESS[1]  # a narrower prior is higher
    return np.asarray(logsumexp(logs, axis=0, b=[[1 - without], [without * narrower]]))


def _hopeful(
    groups: list[TimeConstantSets],
    asked: list[TimeConstantSets],
    models: list[_Solved],
    hopeless: float,
) -> list[TimeConstantSets]:
    """Return the sets whose quick parts are worth trying on, for any slowest."""
    best = max(float(m.log_weight[m.sets.bent == 0].max(initial=-np.inf)) for m in models)
    kept = []
    for group, tried, model in zip(groups, asked, models, strict=True):
        straight = tried.bent == 0
        quick, place = np.unique(_quick_parts(tried.chosen[straight]), return_inverse=True)
        top = np.full(quick.size, -np.inf)
        np.maximum.at(top, place, model.evidence[straight])
        rows = np.isin(_quick_parts(group.chosen), quick[top > best - hopeless])
        if rows.any():
            kept.append(group.picked(rows))
    return kept


def _quick_parts(chosen: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return one number for the quick members of each set."""
    return np.asarray(chosen[:, :-1] @ 1000 ** np.arange(chosen.shape[1] - 1))


def _solve(
    normal: _Normal,
    group: TimeConstantSets,
    constants: Floats,
    log_prior: Floats,
    direction: float,
    least: float,
    best: float,
) -> _Solved:
    """Solve one group of sets; `best` is the log weight of the best set so far.

    `log_prior` is of bend and slowest time constant.
    """
    chosen = group.chosen
    count = chosen.shape[1]
    size = constants.size
    first = np.zeros((len(chosen), 1), dtype=int)
    quick = 1 + chosen[:, :-1] // Fit.QUICK_EVERY
    slowest = 1 + -(-size // Fit.QUICK_EVERY) + chosen[:, -1:]
    columns = np.concatenate([first, quick, slowest, slowest + size], axis=1)
    rows = columns + normal.gram.shape[1] * group.bent[:, None]
    # Prior: what is missing at the start is about as large as what was seen. A shift is half an entry.
    allowed = np.full(count + 1, Fit.MISSING * normal.change)
    allowed[-1] = Fit.SHIFT * np.log(Fit.RATIO) * normal.change
    ridge = np.append(0.0, allowed**-2.0)
    gain, log_det = gains_of(normal.gram, normal.right, rows, columns, ridge)
    evidence = (gain - normal.square) / 2 - log_det / 2 - np.log(allowed).sum()
    evidence += log_prior[group.bent, chosen[:, -1]] - np.log(group.alike)
    # Solutions and their signs are computed only for sets that may count.
    expected = np.full(len(chosen), WrongSign.NEVER)
    estimate = np.empty(columns.shape)
    asked = np.zeros(len(chosen), dtype=bool)
    # No set weighs more than its evidence, so the best few show which others can be skipped.
    bar = max(evidence.max() - Fit.FEW, best + np.log(Fit.NO_WEIGHT))
    while True:
        which = np.flatnonzero(~asked & (evidence > bar))
        if which.size == 0:
            break
        asked[which] = True
        hessian = normal.gram[rows[which, :, None], columns[which, None, :]] + np.diag(ridge)
        inverse = np.linalg.inv(hessian)
        estimate[which] = np.einsum("nij,nj->ni", inverse, normal.right[rows[which]])
        std = np.sqrt(np.abs(np.diagonal(inverse, axis1=1, axis2=2)))
        amplitudes = estimate[which, 1:-1] * direction
        right = ndtr((amplitudes + least) / std[:, 1:-1])
        wrong = _wrong_sign(amplitudes, constants[chosen[which]], normal.change)
        expected[which] = (right + (1 - right) * wrong).prod(axis=1)
        best = max(best, float((evidence[which] + np.log(expected[which])).max()))
        bar = best + np.log(Fit.NO_WEIGHT)
    log_weight = evidence + np.log(expected)
    kept = asked & (log_weight > bar)
    return _Solved(
        sets=group.picked(kept),
        estimate=estimate[kept],
        hessian=normal.gram[rows[kept, :, None], columns[kept, None, :]] + np.diag(ridge),
        log_weight=log_weight[kept],
        expected=expected[kept],
        evidence=evidence,
    )


def _wrong_sign(amplitudes: Floats, constants: Floats, change: float) -> Floats:
    """Return what each amplitude would count if its sign, wrong below zero, were wrong.

    `constants` ascend along each row; infinite where unused.
    """
    used = np.isfinite(constants)
    last = used.copy()
    last[:, :-1] &= ~used[:, 1:]
    size = np.minimum(amplitudes, 0.0) / (WrongSign.SIZE * change)
    slow = WrongSign.SLOW * np.maximum(np.exp(-0.5 * size**2), WrongSign.NEVER)
    return np.where(last | (used & (constants > WrongSign.SLOW_S)), slow, WrongSign.FAST)


def _sign_factor(
    amplitudes: Floats, constants: Floats, direction: float, least: float, change: float
) -> Floats:
    """Return how much each draw counts, by the side from which its parts approach."""
    against = _wrong_sign(amplitudes * direction, constants, change)
    return np.asarray(np.where(amplitudes * direction < -least, against, 1.0).prod(axis=1))


def _draw(
    models: list[_Solved],
    weight: Floats,
    time_constants_s: Floats,
    bend_list: Floats,
    draws: int,
    freedom: float,
) -> tuple[Floats, Floats, Floats, Floats, NDArray[np.int64]]:
    """Draw curves from the mixture; the same readings give the same draws."""
    rng = np.random.default_rng(1)
    # Systematic resampling: each set gets its share of draws, without extra luck.
    marks = (np.arange(draws) + 0.5) / draws
    picked = np.searchsorted(np.cumsum(weight), marks).clip(max=weight.size - 1)
    settled = np.empty(draws)
    amplitudes = np.zeros((draws, 3))
    constants = np.full((draws, 3), np.inf)
    bends = np.zeros(draws)
    scale = np.sqrt(freedom / rng.chisquare(freedom, size=draws))
    first = 0
    for model in models:
        size = model.log_weight.size
        rows = np.flatnonzero((picked >= first) & (picked < first + size))
        which = picked[rows] - first
        first += size
        if rows.size == 0:
            continue
        count = model.sets.chosen.shape[1]
        noise = rng.standard_normal((rows.size, count + 2)) * scale[rows, None]
        distinct, place = np.unique(which, return_inverse=True)
        lower = np.linalg.cholesky(model.hessian[distinct])
        spread = np.linalg.inv(lower)[place]  # its transpose gives the noise its covariance
        theta = model.estimate[which] + np.einsum("nji,nj->ni", spread, noise)
        settled[rows] = theta[:, 0]
        amplitudes[rows[:, None], np.arange(count)] = theta[:, 1:-1]
        constants[rows[:, None], np.arange(count)] = time_constants_s[model.sets.chosen[which]]
        bends[rows] = bend_list[model.sets.bent[which]]
        slowest = theta[:, -2]
        shift = theta[:, -1] / np.where(np.abs(slowest) > 1e-9, slowest, np.inf)
        constants[rows, count - 1] *= np.exp(shift.clip(-np.log(Fit.RATIO), np.log(Fit.RATIO)))
    return settled, amplitudes, constants, bends, picked
