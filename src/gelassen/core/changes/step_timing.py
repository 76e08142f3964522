"""The moment of a change, and how much only a change explains.

The course without a change is free: a level, a slope and exponentials whose amplitudes have any sign.
These are projected out of the readings and out of the change, before the two are compared [1]_. So the
result does not depend on the model of the approach, nor on what the room adds to it.

References
----------
.. [1] M. C. Lovell, "A simple proof of the FWL theorem", J. Economic Education 39 (2008) 88-91:
   regressing on what a first set of columns leaves gives the coefficients of the joint regression.
"""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy.special import logsumexp

from gelassen.core.changes.thresholds import Timing
from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.whitening import Whitener, fitted_whitener
from gelassen.core.thermal.step_response import Way, followed

_SLOW_S = tuple(20.0 * 1.2**k for k in range(21))
_EARLY_S = {7.0: 0.0, 20.0: -1.5, 35.0: -2.5}


@dataclass(frozen=True, slots=True, eq=False)
class Courses:
    """Courses that a change may take, as mixtures of responses, each with its log prior."""

    ways: tuple[Way, ...]
    shares: Floats  # one row a course
    usual: Floats


def _courses(slow_s: tuple[float, ...], early_s: dict[float, float], quick: bool) -> Courses:
    slow = [
        (
            (tau, early),
            usual - 0.5 * (np.log(tau / Timing.USUAL_S) / Timing.USUAL_SPREAD) ** 2,
        )
        for early, usual in early_s.items()
        for tau in slow_s
        if tau > 2 * early
    ]
    single = [(way, 0.0) for way in Timing.AT_ONCE] + slow
    then = [(tau, Timing.THEN_S) for tau in slow_s if tau > Timing.THEN_FROM_S] if quick else []
    every = tuple(dict.fromkeys([(Timing.QUICK_S, 0.0), *(way for way, _ in single), *then]))
    rows = [({way: 1.0}, usual) for way, usual in single]
    rows += [
        ({(Timing.QUICK_S, 0.0): share, way: 1 - share}, Timing.WITH_QUICK)
        for share in (Timing.QUICK_SHARES if quick else ())
        for way in then
    ]
    shares = np.array([[parts.get(way, 0.0) for way in every] for parts, _ in rows])
    return Courses(every, shares, np.array([usual for _, usual in rows]))


# All of them; those of changes without a change of power; and a few of them, to search with.
EVERY_COURSE = _courses(_SLOW_S, _EARLY_S, quick=True)
WITHOUT_POWER = _courses(_SLOW_S, _EARLY_S, quick=False)
FEW_COURSES = _courses(_SLOW_S[::3], {7.0: 0.0}, quick=False)


class FreeCourse:
    """Readings against any smooth course, with changes at known moments beside it.

    Parameters
    ----------
    elapsed_s, course, trust : array, shape (n,)
        Time since the load began, in even steps; the readings; and by how much each is trusted (0 in gaps).
    noise : Whitener
        The noise of the trusted readings.
    beside : sequence of float
        Moments of other changes, in s.
    """

    def __init__(
        self, elapsed_s: Floats, course: Floats, trust: Floats, noise: Whitener, beside: list[float]
    ) -> None:
        self._even = (float(elapsed_s[0]), float(elapsed_s[-1]), elapsed_s.size)
        self._trust, self._noise = trust, noise
        longest = max(Timing.FREE_UP_TO * self._even[1], 2 * Timing.FREE_FROM_S)
        taus = Timing.FREE_FROM_S * Timing.FREE_RATIO ** np.arange(20)
        free = np.exp(-elapsed_s[:, None] / taus[taus <= longest])
        columns = [np.ones((elapsed_s.size, 1)), elapsed_s[:, None] / self._even[1], free]
        columns += [followed(self._even, moment, Timing.BESIDE) for moment in beside]
        self._columns = np.column_stack([*columns, course]) * trust[:, None]
        white = noise(self._columns)
        lengths = np.linalg.norm(white[:, :-1], axis=0)
        made, sizes, _ = np.linalg.svd(
            white[:, :-1] / np.maximum(lengths, 1e-12), full_matrices=False
        )
        self._made = made[:, sizes > Timing.SAME * sizes[0]]
        self._left = white[:, -1] - self._made @ (self._made.T @ white[:, -1])

    def noise_left(self, least: float) -> Whitener:
        """Return the noise fitted to the residuals of the free course; not below `least`."""
        lengths = np.maximum(np.linalg.norm(self._columns[:, :-1], axis=0), 1e-12)
        noise = self._noise
        for _ in range(2):
            white = noise(self._columns / np.append(lengths, 1.0))
            solution = np.linalg.lstsq(white[:, :-1], white[:, -1], rcond=Timing.SAME)[0]
            left = self._columns[:, -1] - (self._columns[:, :-1] / lengths) @ solution
            noise, _ = fitted_whitener(left[self._trust > 0], least)
        return noise

    def seen(self, moments_s: Floats, courses: Courses) -> "Seen":
        """Return how a change at each of these moments shows, for each of these courses."""
        shown = _shown(self._even, tuple(map(float, moments_s)), courses) * self._trust
        white = self._noise(shown.reshape(-1, self._left.size).T).T
        free = (white @ self._made).reshape(*shown.shape[:2], -1)
        return Seen(self._left, white.reshape(shown.shape), free, courses)


@dataclass(frozen=True, slots=True)
class Seen:
    """How changes show, and the residuals of the free course."""

    left: Floats  # (times,)
    white: Floats  # (courses, moments, times) the whole change
    free: Floats  # (courses, moments, directions) the part of it that the free course can follow
    courses: Courses

    def gains(self) -> tuple[Floats, Floats]:
        """Return how much a change lowers the misfit, and its size, for each course and moment."""
        found = self.white @ self.left
        own = (self.white**2).sum(axis=2) - (self.free**2).sum(axis=2)
        own = np.maximum(own, Timing.NOTHING)
        return np.asarray(found**2 / own), np.asarray(found / own)

    def best_pair(self) -> tuple[float, list[tuple[int, float]]]:
        """Return how much two changes with the same course lower the misfit: places and sizes."""
        found = self.white @ self.left
        within = self.white @ self.white.swapaxes(1, 2) - self.free @ self.free.swapaxes(1, 2)
        own = np.maximum(np.diagonal(within, axis1=1, axis2=2), Timing.NOTHING)
        # In pairs: two changes that look alike could explain anything with opposite sizes.
        rest = own[:, :, None] * own[:, None, :] - within**2
        number = np.arange(own.shape[1])
        apart = np.abs(np.subtract.outer(number, number)) > 2
        told = apart & (rest > Timing.UNLIKE * own[:, :, None] * own[:, None, :])
        rest = np.where(told, rest, np.inf)
        first = (found[:, :, None] * own[:, None, :] - within * found[:, None, :]) / rest
        gains = first * found[:, :, None]
        gains = gains + gains.swapaxes(1, 2)
        k, i, j = np.unravel_index(int(np.argmax(gains)), gains.shape)
        pair = [(int(i), float(first[k, i, j])), (int(j), float(first[k, j, i]))]
        return float(gains[k, i, j]), pair

    def evidence(self, sign: float) -> Floats:
        """Return the log evidence of each moment for a change of this sign, over the courses."""
        gains, sizes = self.gains()
        logs = np.where(sizes * sign > 0, gains / 2, 0.0) + self.courses.usual[:, None]
        return np.asarray(logsumexp(logs, axis=0))


@lru_cache(maxsize=4)  # cached: the channels of a run, and runs of one length, need the same
def _shown(
    even_s: tuple[float, float, int], moments_s: tuple[float, ...], courses: Courses
) -> Floats:
    """Return how a channel follows a change, shape (courses, moments, times)."""
    ways = np.stack([followed(even_s, moment, courses.ways) for moment in moments_s])
    shown = np.ascontiguousarray(np.einsum("cw,mnw->cmn", courses.shares, ways, optimize=True))
    shown.flags.writeable = False
    return shown
