"""Groups of setups compared at one point of a scale, for example at equal noise.

Between its levels a course is a straight line plus a smooth departure of unknown size, an integrated
Wiener process [1]_ (what a cubic spline assumes). Nothing is carried beyond what was measured.

References
----------
.. [1] G. Wahba, "Improper priors, spline smoothing and the problem of guarding against model errors in
   regression", J. R. Statist. Soc. B 40 (1978) 364-372.
"""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparing.along.equal_table import equal_table
from gelassen.core.comparing.fit_runs import Beside, fit_runs
from gelassen.core.comparing.priors import EqualPoint
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.distributions import normal_quantile, t_quantile
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats


def at_equal_point(
    runs: pd.DataFrame,
    at: float,
    *,
    logarithmic: bool = False,
    confidence: float = 0.95,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
    day_spread: float | None = None,
) -> pd.DataFrame:
    """Return the value of each group at one point of the scale, and how far it is from the least.

    Parameters
    ----------
    runs : DataFrame
        Columns group, setup, x, value, and what else is known of the runs, as in `fit_runs`; one row a run.
        The setups of a group are its levels along x. Differences are taken between groups of one `load`,
        if there is that column.
    at : float
        The point.
    logarithmic : bool
        Whether courses are straighter along the logarithm of x.
    confidence : float
        For all intervals. Those of differences hold for all pairs together.
    repeatability, usual_spread, day_spread
        As in `compare_setups`.

    Returns
    -------
    DataFrame
        group, at, value, low, high, levels, difference, difference_low, difference_high,
        distinguishable: the difference to the group with the least value under the same load. NaN where a
        group does not reach that far.

    Raises
    ------
    InputError
        No run with both x and a value.
    """
    table = runs[np.isfinite(runs["x"]) & np.isfinite(runs["value"])]
    if table.empty:
        raise InputError("no run has both a value and a place on this scale")
    names = list(dict.fromkeys(table["setup"]))
    design = np.array([[float(own == name) for name in names] for own in table["setup"]])
    values = table["value"].to_numpy(dtype=float)
    beside = Beside(repeatability=repeatability, usual_spread=usual_spread, day_spread=day_spread)
    fit, _ = fit_runs(table, values, design, beside)
    places = table.groupby("setup")["x"].mean()
    points = {
        str(group): _point(
            table.loc[table["group"] == group, "setup"], names, places, fit, at, logarithmic
        )
        for group in dict.fromkeys(runs["group"])
    }
    loads = table.groupby("group")["load"].first().to_dict() if "load" in table.columns else {}
    return equal_table(points, loads, at, confidence)


@dataclass(frozen=True, slots=True)
class _Point:
    """A place on a course: the weights of the levels' means, and the variance between levels."""

    fit: SetupFit
    weights: Floats  # of all setups; NaN where the course does not reach
    between: float
    levels: int

    @property
    def value(self) -> float:
        return float(self.weights @ self.fit.means[: self.weights.size])

    def minus(self, other: "_Point") -> "_Point":
        return _Point(
            self.fit, self.weights - other.weights, self.between + other.between, self.levels
        )

    def half(self, confidence: float) -> float:
        """Return half the width of the interval: from the means, and from the course between levels."""
        if not np.isfinite(self.weights).all():
            return float("nan")
        error = float(self.fit.errors(self.weights[None])[0])
        freedom = self.fit.freedom_of(self.weights)
        if not np.isfinite(error) or freedom <= 0:
            return float("inf")
        level = (1 + confidence) / 2
        return float(
            np.hypot(
                t_quantile(level, freedom) * error, normal_quantile(level) * np.sqrt(self.between)
            )
        )


def _point(
    setups: pd.Series,
    names: list[str],
    places: pd.Series,
    fit: SetupFit,
    at: float,
    logarithmic: bool,
) -> _Point:
    own = sorted(dict.fromkeys(setups), key=lambda name: float(places[name]))
    which = np.array([names.index(name) for name in own])
    x = places[own].to_numpy(dtype=float)
    weights = np.zeros(len(names))
    if not x.size or not x[0] <= at <= x[-1]:
        return _Point(fit, np.full(len(names), np.nan), np.nan, len(own))
    if x[0] == x[-1]:
        weights[which] = 1 / len(own)
        return _Point(fit, weights, 0.0, len(own))
    if logarithmic and x[0] > 0:
        x, at = np.log(x), float(np.log(at))
    errors = fit.errors(np.eye(len(names))[which])
    errors = np.where(
        np.isfinite(errors), errors, 1.0
    )  # the spread is unknown: only the value is of use
    place, where = (x - x[0]) / (x[-1] - x[0]), (at - x[0]) / (x[-1] - x[0])
    weights[which], between = _between_levels(place, fit.means[which], errors, where)
    return _Point(fit, weights, between, len(own))


def _between_levels(
    place: Floats, means: Floats, errors: Floats, where: float
) -> tuple[Floats, float]:
    """Return the weight of each level for a place (0 to 1), and the variance that remains."""
    line, asked = np.column_stack([np.ones_like(place), place]), np.array([1.0, where])
    alike, across = _alike(place, place), _alike(place, np.array([where]))[:, 0]
    here = float(_alike(np.array([where]), np.array([where]))[0, 0])
    logs, every, rest = [], [], []
    for share in EqualPoint.SHARES:
        size = (share * max(float(np.ptp(means)), 1e-6)) ** 2 / EqualPoint.AT_MIDDLE
        covariance = size * alike + np.diag(np.maximum(errors, 1e-6) ** 2)
        inverse = np.linalg.inv(covariance)
        normal = np.linalg.inv(line.T @ inverse @ line)
        # Universal kriging: unbiased for any straight line, with least variance for departures from it.
        weights = inverse @ (
            size * across + line @ normal @ (asked - line.T @ inverse @ (size * across))
        )
        left = means - line @ (normal @ line.T @ inverse @ means)
        logs.append(
            float(np.linalg.slogdet(normal)[1] - np.linalg.slogdet(covariance)[1]) / 2
            - float(left @ inverse @ left) / 2
        )
        every.append(weights)
        rest.append(size * (here - 2 * float(weights @ across) + float(weights @ alike @ weights)))
    chance = EqualPoint.USUAL * np.exp(np.array(logs) - max(logs))
    chance /= chance.sum()
    weights = chance @ np.array(every)
    apart = (np.array(every) - weights) @ means
    return weights, float(chance @ (np.maximum(rest, 0.0) + apart**2))


def _alike(first: Floats, second: Floats) -> Floats:
    """Return the covariance of an integrated Wiener process between places."""
    low, high = np.minimum.outer(first, second), np.maximum.outer(first, second)
    return np.asarray(low**2 * (3 * high - low) / 6)
