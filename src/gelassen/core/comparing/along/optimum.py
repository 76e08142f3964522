"""Where a course along a scale is lowest, if it rises again on both sides.

A parabola through the levels gives too narrow an interval for its lowest point: real courses are steeper
on one side. So the course is a parabola plus a smooth departure of unknown size: a twice integrated Wiener
process [1]_. Its size is averaged by its evidence. The answer is the distribution of the lowest points of
drawn courses.

References
----------
.. [1] G. Wahba, "Improper priors, spline smoothing and the problem of guarding against model errors in
   regression", J. R. Statist. Soc. B 40 (1978) 364-372.
"""

import math

import numpy as np

from gelassen.core.comparing.priors import Optimum
from gelassen.core.foundation.distributions import t_quantile
from gelassen.core.foundation.inputs import Floats

# Possible sizes of departures, as shares of the range of the levels: from almost none to all of it.
_SHARES = np.geomspace(0.02, 2.0, 9)


def best_place(
    marks: Floats, means: Floats, error: Floats, freedom: float, confidence: float
) -> tuple[float, float, float]:
    """Return where the course is lowest, with its interval; NaN where that is not inside the scale.

    Parameters
    ----------
    marks, means, error : array, shape (levels,)
        Places on the scale, ascending; the mean at each, and its standard error.
    freedom : float
        Degrees of freedom of these errors.
    confidence : float
        Of the interval.
    """
    nothing = (math.nan, math.nan, math.nan)
    if marks.size < Optimum.FEWEST_LEVELS or freedom < 1 or not (error > 0).all():
        return nothing
    # A course that only flattens out has no lowest point. It must rise again, by more than chance.
    lowest = int(np.argmin(means))
    half = float(t_quantile((1 + confidence) / 2, freedom))
    for end in (0, -1):
        if means[end] - means[lowest] <= half * math.hypot(error[end], error[lowest]):
            return nothing
    places = np.sort(_lowest_of_draws(marks, means, error, freedom))
    tail = (1 - confidence) / 2
    low, middle, high = np.quantile(places, [tail, 0.5, 1 - tail])
    if low <= 0 or high >= 1:
        return nothing
    near = 0.5 / (Optimum.GRID - 1)  # only grid points can be the lowest place
    first, length = float(marks[0]), float(marks[-1] - marks[0])
    low, middle, high = (first + length * float(x) for x in (low - near, middle, high + near))
    return middle, low, high


def _lowest_of_draws(marks: Floats, means: Floats, error: Floats, freedom: float) -> Floats:
    """Return the lowest place of each drawn course, 0 at the first mark and 1 at the last."""
    at = (marks - marks[0]) / (marks[-1] - marks[0])
    grid = np.linspace(0.0, 1.0, Optimum.GRID)
    smooth, drawn_smooth = (np.vander(x, 3, increasing=True) for x in (at, grid))
    alike, across, within = _alike(at, at), _alike(grid, at), _alike(grid, grid)
    left = np.eye(at.size) - smooth @ np.linalg.pinv(smooth)
    usual = float(np.trace(left @ alike @ left.T)) / max(at.size - 3, 1)
    logs, courses = [], []
    for share in _SHARES:
        size = (share * float(np.ptp(means))) ** 2 / usual
        covariance = size * alike + np.diag(error**2)
        inverse = np.linalg.inv(covariance)
        normal = np.linalg.inv(smooth.T @ inverse @ smooth)
        parabola = normal @ smooth.T @ inverse @ means
        rest = means - smooth @ parabola
        misfit = float(rest @ inverse @ rest)
        log = np.linalg.slogdet(normal)[1] - np.linalg.slogdet(covariance)[1]
        log -= (freedom + at.size - 3) * np.log1p(misfit / freedom)
        logs.append(float(log) / 2)
        mean = drawn_smooth @ parabola + size * across @ inverse @ rest
        unknown = drawn_smooth - size * across @ inverse @ smooth
        spread = size * within - size**2 * across @ inverse @ across.T
        courses.append((mean, spread + unknown @ normal @ unknown.T))
    weights = np.exp(np.array(logs) - max(logs))
    rng = np.random.default_rng(6)
    places = []
    for (mean, spread), count in zip(
        courses, np.round(Optimum.DRAWS * weights / weights.sum()).astype(int), strict=True
    ):
        values, ways = np.linalg.eigh(spread)
        noise = rng.standard_normal((count, Optimum.GRID))
        noise *= np.sqrt(freedom / rng.chisquare(freedom, count))[:, None]
        drawn = mean + (noise * np.sqrt(values.clip(min=0))) @ ways.T
        places.append(grid[np.argmin(drawn, axis=1)])
    return np.concatenate(places)


def _alike(first: Floats, second: Floats) -> Floats:
    """Return the covariance of a twice integrated Wiener process between places."""
    both = np.minimum.outer(first, second)
    apart = np.abs(np.subtract.outer(first, second))
    return np.asarray(both**5 / 20 + apart * both**4 / 8 + apart**2 * both**3 / 12)
