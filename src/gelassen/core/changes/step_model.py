"""A course under load: an approach, changes of conditions, and noise that has a memory.

The approach is a sum of exponentials and bent exponentials (`core/thermal/approach.py`). The response to
a change is a sum of several responses. The amplitudes of a sum have one sign (non-negative least squares
[1]_), as in a network of heat capacities and conductances. So a curve that turns the other way needs a
change.

References
----------
.. [1] C. L. Lawson and R. J. Hanson, Solving Least Squares Problems (1974), ch. 23.
"""

from dataclasses import dataclass, replace
from functools import cached_property
from itertools import product

import numpy as np
from scipy.optimize import nnls

from gelassen.core.changes.step_timing import FreeCourse
from gelassen.core.changes.thresholds import Model
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.noise import noise_std
from gelassen.core.signal.whitening import Whitener, fitted_whitener
from gelassen.core.thermal.approach import log_missing
from gelassen.core.thermal.early_error import early_error
from gelassen.core.thermal.step_response import Way, followed

_APPROACHES = (
    *((tau, 0.0) for tau in Model.STRAIGHT_S),
    *((tau, Model.BEND) for tau in Model.BENT_S),
)
_IS_QUICK = np.array([tau < Model.QUICK_S for tau, _ in _APPROACHES])
_BASE = 2 + len(_APPROACHES)  # the settled value, up and down, and the approaches
WAYS = len(Model.WAYS_S)


@dataclass(frozen=True, slots=True)
class Change:
    """A change at a moment, and its direction: +1 up, -1 down."""

    moment_s: float
    sign: float


@dataclass(frozen=True, slots=True)
class Background:
    """The noise, and the direction of the approach."""

    noise: Whitener
    quick: float = -1.0  # -1: the quick parts of the approach come from below
    slow: float = -1.0

    def signs(self) -> Floats:
        """Return the sign of each column of the approach; the settled value has both."""
        return np.concatenate([[1.0, -1.0], np.where(_IS_QUICK, self.quick, self.slow)])


@dataclass(frozen=True, slots=True)
class Fit:
    """The result of a fit with some changes."""

    changes: tuple[Change, ...]
    sizes: tuple[float, ...]  # settled size of each change, signed
    seen: tuple[float, ...]  # the part of it that shows by the end
    going: tuple[float, ...]  # further course of the approach and earlier changes after it
    settled: float  # where the course would settle without changes
    approach: Floats  # the course without changes
    background: Background
    likelihood: float  # logarithm


class StepModel:
    """Fits approach, changes and noise to one evenly spaced course.

    Parameters
    ----------
    elapsed_s, course : array, shape (n,)
        Time since the load began, in even steps, and the readings.
    measured : array of bool, shape (n,)
        Where there were readings: what bridges a gap is not counted.
    hidden : float
        Standard error that coarse steps of the sensor hide.
    """

    def __init__(self, elapsed_s: Floats, course: Floats, measured: Bools, hidden: float) -> None:
        self.elapsed_s, self._hidden = elapsed_s, hidden
        self._even = (float(elapsed_s[0]), float(elapsed_s[-1]), elapsed_s.size)
        rough = early_error(elapsed_s, float(np.ptp(course)), float(elapsed_s[-1]))
        noise_k = max(noise_std(course), hidden, 1e-6)
        self._trust = np.where(measured, 1 / np.hypot(1.0, rough / noise_k), 0.0)
        self._measured, self._bare = measured, course
        self._course = course * self._trust
        self._approaches = _approaches(elapsed_s)
        self._base = self._approaches * self._trust[:, None]
        # Cached: the same moments are tried many times.
        self._made: dict[tuple[float, tuple[Way, ...]], Floats] = {}

    def fit(self, changes: tuple[Change, ...], background: Background) -> Fit:
        """Fit with these changes. Approach and noise are fitted again, twice."""
        columns = self._columns(changes)
        noise = background.noise
        for _ in range(2):
            solution, way = self._solved(changes, noise)
            left = (self._course - columns @ solution)[self._measured]
            noise, likelihood = fitted_whitener(left, self._hidden / 2)
        ways = solution[_BASE:].reshape(len(changes), WAYS)
        last = [followed(self._even, c.moment_s, Model.WAYS_S)[-1] for c in changes]
        ends = np.array(last).reshape(len(changes), WAYS)
        seen = (ways * ends).sum(axis=1)
        # The course after the end is a guess. It counts for no more than the course so far.
        sizes = np.clip(ways.sum(axis=1), -2 * np.abs(seen), 2 * np.abs(seen))
        approach = self._approaches @ solution[:_BASE]
        moments = np.array([c.moment_s for c in changes])
        going = np.abs(approach[-1] - np.interp(moments, self.elapsed_s, approach))
        # The rest of an earlier change is equally uncertain.
        for k, moment_s in enumerate(moments):
            own = columns[:, _BASE + k * WAYS : _BASE + (k + 1) * WAYS] @ ways[k]
            later = moments > moment_s
            going[later] += np.abs(own[-1] - np.interp(moments[later], self.elapsed_s, own))
        return Fit(
            changes,
            tuple(map(float, sizes)),
            tuple(map(float, seen)),
            tuple(map(float, going)),
            float(solution[0] + solution[1]),
            approach,
            replace(way, noise=noise),
            likelihood,
        )

    def furthest_off(self, fit: Fit) -> float:
        """Return how far the course departs from a fit without changes, in means over a twentieth of it."""
        left = (self._bare - fit.approach)[self._measured]
        length = max(left.size // 20, 1)
        blocks = left[: left.size // length * length].reshape(-1, length)
        return float(np.abs(blocks.mean(axis=1)).max())

    def level(self, known: tuple[Change, ...], background: Background) -> float:
        """Return the log likelihood without one more change, as `likelihoods` counts."""
        problems = self._problems(known, np.array([self.elapsed_s[-1]]), (), background.noise)
        return float(problems.gains([self._every_sign(known, background)])[0, 0]) / 2

    def likelihoods(
        self,
        known: tuple[Change, ...],
        moments: Floats,
        signs: tuple[float, ...],
        background: Background,
    ) -> Floats:
        """Return the log likelihood of one more change, by moment and sign."""
        problems = self._problems(known, moments, Model.WAYS_S, background.noise)
        every = [self._every_sign((*known, Change(0.0, sign)), background) for sign in signs]
        return problems.gains(every) / 2

    def free_noise(self, beside: tuple[Change, ...], noise: Whitener) -> Whitener:
        """Return the noise of the residuals from a smooth course with these changes."""
        return self.free_course(beside, noise).noise_left(self._hidden / 2)

    def free_course(self, beside: tuple[Change, ...], noise: Whitener) -> FreeCourse:
        """Return the residuals of the readings from a smooth course with these changes."""
        moments = [change.moment_s for change in beside]
        return FreeCourse(self.elapsed_s, self._bare, self._trust, noise, moments)

    def _problems(
        self,
        known: tuple[Change, ...],
        moments: Floats,
        ways: tuple[Way, ...],
        noise: Whitener,
    ) -> "_Problems":
        """Return the normal equations with one more change, one problem for each moment."""
        common = noise(np.column_stack([self._columns(known), self._course]))
        more = np.concatenate([self._ways(float(m), ways) for m in moments], axis=1)
        size, count = common.shape[1] - 1, len(ways)
        # One array, so that the products below are plain matrix products.
        more = np.ascontiguousarray(noise(more).T)
        within = common.T @ common
        across = (more @ common).reshape(moments.size, count, size + 1)
        more = more.reshape(moments.size, count, common.shape[0])
        grams = np.empty((moments.size, size + count, size + count))
        grams[:, :size, :size] = within[:-1, :-1]
        grams[:, size:, :size] = across[:, :, :-1]
        grams[:, :size, size:] = across[:, :, :-1].swapaxes(1, 2)
        grams[:, size:, size:] = more @ more.swapaxes(1, 2)
        rights = np.empty((moments.size, size + count))
        rights[:, :size], rights[:, size:] = within[:-1, -1], across[:, :, -1]
        return _Problems(grams, rights, size)

    def _columns(self, changes: tuple[Change, ...]) -> Floats:
        ways = [self._ways(change.moment_s) for change in changes]
        return np.concatenate([self._base, *ways], axis=1)

    def _ways(self, moment_s: float, ways: tuple[Way, ...] = Model.WAYS_S) -> Floats:
        known = self._made.get((moment_s, ways))
        if known is None:
            known = followed(self._even, moment_s, ways) * self._trust[:, None]
            self._made[moment_s, ways] = known
        return known

    def _every_sign(self, changes: tuple[Change, ...], background: Background) -> Floats:
        return np.concatenate([background.signs(), *(np.full(WAYS, c.sign) for c in changes)])

    def _solved(self, changes: tuple[Change, ...], noise: Whitener) -> tuple[Floats, Background]:
        """Return the solution for the direction of the approach that fits best."""
        problems = self._problems(changes, np.array([self.elapsed_s[-1]]), (), noise)
        best, answer = -np.inf, (np.zeros(0), Background(noise))
        for quick, slow in product((-1.0, 1.0), repeat=2):
            background = Background(noise, quick, slow)
            solution, gain = problems.solved(0, self._every_sign(changes, background))
            if gain > best:
                best, answer = gain, (solution, background)
        return answer


@dataclass
class _Problems:
    """Least-squares problems of one size, as normal equations with one row each."""

    grams: Floats
    rights: Floats
    common: int  # columns that all of them share

    def gains(self, signs: list[Floats]) -> Floats:
        """Return how much each lowers the misfit, by problem and set of signs."""
        problems = range(len(self.grams))
        return np.array([[self.solved(k, every)[1] for every in signs] for k in problems])

    @cached_property
    def _reduced(self) -> tuple[Floats, Floats, Floats]:
        scale = np.sqrt(np.maximum(np.diagonal(self.grams, axis1=1, axis2=2), 1e-12))
        scaled = self.grams / (scale[:, :, None] * scale[:, None, :])
        factor: Floats = np.linalg.cholesky(scaled + 1e-9 * np.eye(scale.shape[1]))
        target = np.asarray(np.linalg.solve(factor, (self.rights / scale)[:, :, None])[:, :, 0])
        return np.asarray(factor.swapaxes(1, 2)), target, np.asarray(scale)

    def solved(self, which: int, signs: Floats) -> tuple[Floats, float]:
        """Solve one problem with these signs; return also how much the misfit falls."""
        upper, target, scale = (part[which] for part in self._reduced)
        solution, misfit = nnls(upper * signs, target, maxiter=300)
        return solution * signs / scale, float(target @ target - misfit**2)


def _approaches(elapsed_s: Floats) -> Floats:
    """Return the settled value, up and down, and what each approach still misses."""
    level = np.ones_like(elapsed_s)
    missing = [
        np.exp(log_missing(elapsed_s / tau, bend, Model.AT_REST)) for tau, bend in _APPROACHES
    ]
    return np.column_stack([level, level, *missing])
