"""What a heating (or cooling) curve settles to, when its time constants are not known.

After a step of power every temperature of a network of heat capacities and conductances follows
``settled - sum(amplitude_k * exp(-t / time_constant_k))``. Which time constants there are, and how
many of them can be seen, the readings decide: all sets of up to three from a fixed list are tried,
each set is a linear least-squares problem, and each counts by its evidence (Bayesian model
averaging [1]_). A log that does not yet show its slowest time constant thus gets a wide answer.

References
----------
.. [1] J. A. Hoeting et al., Statistical Science 14, 382 (1999).
"""

from dataclasses import dataclass
from functools import cache
from itertools import combinations, pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtr

from gelassen.core.inputs import Floats

# The slowest time constant decides where the curve settles: its list is fine. A quick one only has
# to take up the beginning, so every fourth entry will do.
_RATIO = 1.08
_QUICK_EVERY = 4
# Time constants closer than a factor 2 look like one, and only make the sums ill-conditioned.
_APART = 9
_SHORTEST_S, _LONGEST_S = 3.0, 7200.0
_DRAWS = 4000
_SOME = 200
# The slowest time constant of a cooled part: six minutes, within a factor of 3 or so.
_TYPICAL_SLOWEST_S, _SPREAD = 360.0, 1.1
# What is still missing when the fit begins, against what was seen (standard deviation).
_MISSING = 2.0
# What a set with an amplitude of the wrong sign counts against one that only approaches. Needed by
# parts that start warm (slow ones) and by boosts that outlast the first seconds (fast ones).
_WRONG_SIGN_FAST, _WRONG_SIGN_SLOW = 0.2, 0.02
# Scatter is estimated from few independent stretches: tails are those of Student's t.
_FREEDOM = 20


@dataclass(frozen=True, slots=True)
class Relaxation:
    """Weighted draws of what the curve may be. One row a draw."""

    settled: Floats  # (draws,) where the curve settles
    amplitudes: Floats  # (draws, 3) what was still missing at time zero; 0 where unused
    time_constants_s: Floats  # (draws, 3) in ascending order
    weights: Floats  # (draws,) adding up to 1

    def mean_curve(self, elapsed_s: Floats) -> Floats:
        """Return the mean of the draws at these times, without what the reference adds."""
        some = slice(None, None, _DRAWS // _SOME)
        share = self.weights[some] / self.weights[some].sum()
        curve = np.full(elapsed_s.size, float(share @ self.settled[some]))
        for k in range(self.amplitudes.shape[1]):
            decay = np.exp(-elapsed_s[:, None] / self.time_constants_s[some, k])
            curve -= decay @ (share * self.amplitudes[some, k])
        return curve

    def missing_at(self, elapsed_s: float) -> Floats:
        """Return for each draw how far the curve is from settled at this time."""
        decays = np.exp(-elapsed_s / self.time_constants_s)
        return np.asarray(np.where(self.amplitudes == 0, 0, self.amplitudes * decays).sum(axis=1))

    def slope_at(self, elapsed_s: float) -> Floats:
        """Return for each draw the slope of the curve, per second."""
        decays = np.exp(-elapsed_s / self.time_constants_s) / self.time_constants_s
        return np.asarray((self.amplitudes * decays).sum(axis=1))

    def responses(self) -> list[tuple[float, float]]:
        """Return time constants and the mean amplitude each has; those of the wrong sign left out.

        Their shares tell how anything else that reaches the part through the same heat capacities
        is delayed.
        """
        used = np.isfinite(self.time_constants_s)
        rounded = np.exp(np.round(np.log(self.time_constants_s[used]), 1))
        constants, place = np.unique(rounded, return_inverse=True)
        weighted = self.amplitudes * self.weights[:, None]
        gains = np.bincount(place, weights=weighted[used], minlength=constants.size)
        gains *= np.sign(gains.sum())
        least = 1e-3 * np.abs(gains).max()
        return [(float(c), float(g)) for c, g in zip(constants, gains, strict=True) if g > least]

    def quantile(self, values: Floats, share: float) -> float:
        """Return the weighted quantile over the draws."""
        order = np.argsort(values)
        below = np.cumsum(self.weights[order]) - self.weights[order] / 2
        return float(np.interp(share, below, values[order]))


def time_constant_list(interval_s: float) -> Floats:
    """Return the time constants to try, for samples this far apart."""
    shortest = max(_SHORTEST_S, 2 * interval_s)
    count = max(int(np.log(_LONGEST_S / shortest) / np.log(_RATIO)), 3)
    return np.asarray(shortest * _RATIO ** np.arange(count + 1), dtype=float)


def fit_relaxation(
    elapsed_s: Floats,
    series: Floats,
    variance: Floats,
    time_constants_s: Floats,
    *,
    most: int = 3,
) -> Relaxation:
    """Fit sums of up to three exponentials to averaged readings.

    Parameters
    ----------
    elapsed_s : array, shape (bins,)
        Time since the load began, at the middle of each bin.
    series : array, shape (bins,)
        Mean reading of each bin.
    variance : array, shape (bins,)
        Variance of each of these means.
    time_constants_s : array
        The list to choose from, ascending.
    most : int
        How many exponentials at most: two are quicker and do for a first look.
    """
    size = time_constants_s.size
    decay = np.exp(-elapsed_s[:, None] / time_constants_s)  # (bins, taus)
    # Column 0 is the settled value; the last columns shift a time constant between list entries.
    shift = -decay * elapsed_s[:, None] / time_constants_s
    basis = np.column_stack([np.ones_like(elapsed_s), -decay, shift])
    weighted = basis / variance[:, None]
    gram = basis.T @ weighted
    right = series @ weighted
    square = float((series**2 / variance).sum())
    change = float(np.ptp(series)) or 1.0
    prior = _log_prior(time_constants_s)

    sets, models = [], []
    for chosen in _time_constant_sets(size, most):
        models.append(_solve(gram, right, square, chosen, change, prior))
        sets.append(chosen)
    tenth = max(elapsed_s.size // 10, 1)
    direction = np.sign(series[-tenth:].mean() - series[:tenth].mean()) or 1.0
    least = 0.002 * change  # a trace of the wrong sign is as good as none
    evidence = np.concatenate([model.evidence for model in models])
    expected = np.concatenate([_expected_sign_factor(model, direction, least) for model in models])
    log_weight = evidence + np.log(expected)
    weight = np.exp(log_weight - log_weight.max())
    weight[weight < 1e-6] = 0
    weight /= weight.sum()

    settled, amplitudes, constants, picked = _draw(sets, models, weight, time_constants_s)
    # Sets were picked by the sign factor they were expected to have; here each draw gets its own.
    weights = _sign_factor(amplitudes, constants, direction, least) / expected[picked]
    weights /= weights.sum()
    return Relaxation(settled, amplitudes, constants, weights)


@cache
def _time_constant_sets(size: int, most: int) -> tuple[NDArray[np.int64], ...]:
    """Return the sets to try as indices into the list, ascending, by their number of members."""
    quick = range(0, size, _QUICK_EVERY)
    sets = [np.arange(size)[:, None]]
    for count in range(2, most + 1):
        chosen = [
            (*members, slowest)
            for members in combinations(quick, count - 1)
            if all(b - a >= _APART for a, b in pairwise(members))
            for slowest in range(members[-1] + _APART, size)
        ]
        if chosen:
            sets.append(np.array(chosen))
    return tuple(sets)


@dataclass(frozen=True, slots=True)
class _Solved:
    """Least-squares solutions of many sets: one row a set, column 0 the settled value."""

    estimate: Floats
    factor: Floats  # lower Cholesky factors of the Hessians
    std: Floats
    evidence: Floats  # log evidence


def _log_prior(time_constants_s: Floats) -> Floats:
    """Return how likely each is to be the slowest of a cooled part, before any reading is seen.

    Heatsinks, coolant and cases take minutes: a log of two minutes that looks settled is not.
    """
    return np.asarray(-0.5 * (np.log(time_constants_s / _TYPICAL_SLOWEST_S) / _SPREAD) ** 2)


def _solve(
    gram: Floats,
    right: Floats,
    square: float,
    chosen: NDArray[np.int64],
    change: float,
    prior: Floats,
) -> _Solved:
    count = chosen.shape[1]
    size = (gram.shape[0] - 1) // 2
    first = np.zeros((len(chosen), 1), dtype=int)
    columns = np.concatenate([first, chosen + 1, chosen[:, -1:] + 1 + size], axis=1)
    # What is missing at the start is of the order of what was seen; a shift is half an entry.
    allowed = np.full(count + 1, _MISSING * change)
    allowed[-1] = 0.3 * np.log(_RATIO) * change
    hessian = gram[columns[:, :, None], columns[:, None, :]]
    diagonal = np.arange(1, count + 2)
    hessian[:, diagonal, diagonal] += allowed**-2.0
    target = right[columns]
    inverse = np.linalg.inv(hessian)
    estimate = (inverse @ target[:, :, None])[:, :, 0]
    factor = np.linalg.cholesky(hessian)
    misfit = square - (estimate * target).sum(axis=1)
    log_det = np.log(np.diagonal(factor, axis1=1, axis2=2)).sum(axis=1)
    per_slowest = np.bincount(chosen[:, -1], minlength=size)[chosen[:, -1]]
    evidence = -misfit / 2 - log_det - np.log(allowed).sum() - np.log(per_slowest)
    std = np.sqrt(np.abs(np.diagonal(inverse, axis1=1, axis2=2)))
    return _Solved(estimate, factor, std, evidence + prior[chosen[:, -1]])


def _expected_sign_factor(model: _Solved, direction: float, least: float) -> Floats:
    """Return the sign factor a draw of each set has on average, taking amplitudes one by one."""
    right = ndtr((model.estimate[:, 1:-1] * direction + least) / model.std[:, 1:-1])
    against = np.full(right.shape[1], _WRONG_SIGN_FAST)
    against[-1] = _WRONG_SIGN_SLOW
    return np.asarray((right + (1 - right) * against).prod(axis=1))


def _sign_factor(amplitudes: Floats, constants: Floats, direction: float, least: float) -> Floats:
    """Return how much each draw counts, by the side from which its parts approach."""
    wrong = amplitudes * direction < -least
    slowest = np.argmax(np.where(np.isfinite(constants), constants, -1), axis=1)
    is_slowest = np.arange(3) == slowest[:, None]
    against = np.where(is_slowest, _WRONG_SIGN_SLOW, _WRONG_SIGN_FAST)
    return np.asarray(np.where(wrong, against, 1.0).prod(axis=1))


def _draw(
    sets: list[NDArray[np.int64]], models: list[_Solved], weight: Floats, time_constants_s: Floats
) -> tuple[Floats, Floats, Floats, NDArray[np.int64]]:
    """Draw curves from the mixture; the same readings give the same draws."""
    rng = np.random.default_rng(1)
    # Systematic resampling: each set gets its share of draws, without extra luck.
    marks = (np.arange(_DRAWS) + 0.5) / _DRAWS
    picked = np.searchsorted(np.cumsum(weight), marks).clip(max=weight.size - 1)
    settled = np.empty(_DRAWS)
    amplitudes = np.zeros((_DRAWS, 3))
    constants = np.full((_DRAWS, 3), np.inf)
    scale = np.sqrt(_FREEDOM / rng.chisquare(_FREEDOM, size=_DRAWS))
    first = 0
    for chosen, model in zip(sets, models, strict=True):
        rows = np.flatnonzero((picked >= first) & (picked < first + len(chosen)))
        which = picked[rows] - first
        first += len(chosen)
        if rows.size == 0:
            continue
        count = chosen.shape[1]
        noise = rng.standard_normal((rows.size, count + 2)) * scale[rows, None]
        upper = np.swapaxes(model.factor[which], 1, 2)
        theta = model.estimate[which] + np.linalg.solve(upper, noise[:, :, None])[:, :, 0]
        settled[rows] = theta[:, 0]
        amplitudes[rows[:, None], np.arange(count)] = theta[:, 1:-1]
        constants[rows[:, None], np.arange(count)] = time_constants_s[chosen[which]]
        slowest = theta[:, -2]
        shift = theta[:, -1] / np.where(np.abs(slowest) > 1e-9, slowest, np.inf)
        constants[rows, count - 1] *= np.exp(shift.clip(-np.log(_RATIO), np.log(_RATIO)))
    return settled, amplitudes, constants, picked
