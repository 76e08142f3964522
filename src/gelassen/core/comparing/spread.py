"""The scatter of runs, pooled over all setups, and joined to what is known of the rig."""

import numpy as np
from scipy.optimize import brentq

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
    between: float | None, freedom: float, *known: tuple[float, float] | None
) -> tuple[float | None, float]:
    """Join a variance to standard deviations that are known; each weighs by its degrees of freedom.

    Returns the variance and its degrees of freedom.
    """
    joined = []
    for given in known:
        if given is None:
            continue
        spread, degrees = as_repeatability(given)
        joined.append((spread**2, degrees))
    if between is not None and freedom >= 1:
        joined.append((between, float(freedom)))
    total = sum(degrees for _, degrees in joined)
    if not total:
        return between, float(freedom)
    return sum(variance * degrees for variance, degrees in joined) / total, total
