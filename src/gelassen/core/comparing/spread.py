"""The scatter of runs, pooled over all setups, and joined to what is known of the rig."""

import numpy as np
from scipy.optimize import brentq
from scipy.special import polygamma

from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats


def estimate(values: Floats, design: Floats, variance: Floats) -> tuple[Floats, Floats]:
    """Return weighted least-squares coefficients and their covariance; one variance a value."""
    weighted = design / variance[:, None]
    covariance: Floats = np.asarray(np.linalg.pinv(design.T @ weighted), dtype=float)
    return covariance @ (weighted.T @ values), covariance


def between_variance(values: Floats, design: Floats, own: Floats, freedom: int) -> float | None:
    """Return the variance between runs that gives the weighted residuals their expected size.

    None if that is not known: nothing was repeated, or repeats agree to the last digit (Paule and Mandel,
    J. Res. Natl. Bur. Stand. 87, 377, 1982).
    """
    if freedom < 1:
        return None

    def excess(between: float) -> float:
        variance = own + between
        means, _ = estimate(values, design, variance)
        left = values - design @ means
        return float((left**2 / variance).sum()) - freedom

    plain, _ = estimate(values, design, np.ones_like(own))
    largest = float(((values - design @ plain) ** 2).sum()) / freedom
    if largest < max(
        1e-18, (1e-12 * float(np.abs(values).max())) ** 2
    ):  # but for rounding, they agree
        return None if own.max(initial=0.0) == 0 else 0.0
    tiny = 1e-9 * largest
    if excess(tiny) <= 0 and own.min() > 0:
        return 0.0  # the errors of the runs explain all of the scatter
    highest = 4 * largest * max(freedom, 1) + float(own.max())
    ends = float(np.log(tiny)), float(np.log(highest))
    if excess(np.exp(ends[0])) <= 0:
        return tiny
    if excess(np.exp(ends[1])) >= 0:
        return highest  # beyond what arithmetic resolves
    return float(np.exp(brentq(lambda size: excess(np.exp(size)), *ends)))


def as_repeatability(given: object) -> tuple[float, float]:
    """Return a known spread and its degrees of freedom; raise a clear error if one is missing."""
    try:
        spread, degrees = map(float, given)  # type: ignore[call-overload]
    except (TypeError, ValueError):
        spread = degrees = float("nan")
    if not (0 < spread < np.inf and degrees > 0):
        raise InputError(
            "a repeatability is two numbers above zero, a spread in K and its degrees of freedom, "
            f"such as (0.5, 8); found {given!r}"
        )
    return spread, degrees


def with_known(
    between: float | None,
    freedom: float,
    known: tuple[float, float] | None = None,
    usual: tuple[float, float] | None = None,
) -> tuple[float | None, float]:
    """Join a variance to what is known of the rig, and to what is usual for rigs.

    Parameters
    ----------
    between, freedom
        The variance between these runs and its degrees of freedom; None and 0 if unknown.
    known : (float, float), optional
        Standard deviation of this rig and its degrees of freedom: each weighs by these.
    usual : (float, float), optional
        The same for rigs in general. It stands in where nothing else is known. Otherwise it is the centre
        of a prior with heavy tails, over which the spread is integrated: rigs may scatter by a fifth of
        it or by three times as much.

    Returns
    -------
    variance, freedom
        Of the scaled chi-square distribution that comes closest to what is known.
    """
    joined = (
        [] if known is None else [(as_repeatability(known)[0] ** 2, as_repeatability(known)[1])]
    )
    if between is not None and freedom >= 1:
        joined.append((between, float(freedom)))
    total = sum(degrees for _, degrees in joined)
    if not total:
        if usual is None:
            return between, float(freedom)
        spread, degrees = as_repeatability(usual)
        return spread**2, degrees
    variance = sum(one * degrees for one, degrees in joined) / total
    if usual is None:
        return variance, total
    return _with_usual(variance, total, as_repeatability(usual)[0])


def _with_usual(variance: float, freedom: float, usual: float) -> tuple[float, float]:
    """Integrate over the spread, with Student's t as the prior of its logarithm."""
    logs = np.log(usual * Spread.MEDIAN) + Spread.LOG_SPREAD * np.linspace(*Spread.GRID)
    away = np.linspace(*Spread.GRID)
    prior = -(Spread.TAILS + 1) / 2 * np.log1p(away**2 / Spread.TAILS)
    likelihood = -freedom * logs - freedom * variance / (2 * np.exp(2 * logs))
    weight = np.exp(prior + likelihood - (prior + likelihood).max())
    weight /= weight.sum()
    found = 1 / float(weight @ np.exp(-2 * logs))
    middle = float(weight @ (2 * logs))
    scatter = max(float(weight @ (2 * logs - middle) ** 2), 1e-6)
    # The logarithm of a chi-square variable with d degrees of freedom has the variance trigamma(d / 2).
    degrees = brentq(lambda d: float(polygamma(1, d / 2)) - scatter, 0.3, 4e6)
    return found, float(degrees)
