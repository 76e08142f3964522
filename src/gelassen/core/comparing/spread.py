"""The scatter of runs, pooled over all setups, and joined to what is known of the rig."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.special import polygamma

from gelassen.core.comparing.priors import Spread
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.root import crossing

_LARGE = 500_000  # entries of a design beyond which its zeros are left out


def estimate(values: Floats, design: Floats, variance: Floats) -> tuple[Floats, Floats]:
    """Return weighted least-squares coefficients and their covariance; one variance a value."""
    if design.size > _LARGE:
        rows = NonZero.of(design)
        covariance = np.asarray(
            np.linalg.pinv(rows.gram(1 / variance), hermitian=True), dtype=float
        )
        return covariance @ rows.onto(values / variance), covariance
    weighted = design / variance[:, None]
    covariance = np.asarray(np.linalg.pinv(design.T @ weighted), dtype=float)
    return covariance @ (weighted.T @ values), covariance


def rank_of(design: Floats) -> int:
    """Return the rank of a design."""
    if design.size <= _LARGE:
        return int(np.linalg.matrix_rank(design))
    gram = NonZero.of(design).gram(np.ones(len(design)))
    return int(np.linalg.matrix_rank(gram, hermitian=True))


@dataclass(frozen=True, slots=True)
class NonZero:
    """A large design by its few entries that are not zero: a run has one setup, one day, one room.

    `places` and `entries` have one row a run, filled up with zeros.
    """

    places: NDArray[np.int64]
    entries: Floats
    columns: int

    @classmethod
    def of(cls, design: Floats) -> "NonZero":
        """Return a design in this form."""
        rows, columns = design.nonzero()
        within = np.arange(rows.size) - np.searchsorted(rows, rows)
        widest = int(within.max(initial=0)) + 1
        places = np.zeros((len(design), widest), dtype=np.int64)
        entries = np.zeros((len(design), widest))
        places[rows, within], entries[rows, within] = columns, design[rows, columns]
        return cls(places, entries, design.shape[1])

    def gram(self, weights: Floats) -> Floats:
        """Return ``design.T @ diag(weights) @ design``, in a time that grows with the number of runs."""
        total = np.zeros(self.columns**2)
        for i in range(self.places.shape[1]):
            for j in range(self.places.shape[1]):
                cells = self.places[:, i] * self.columns + self.places[:, j]
                size = self.entries[:, i] * self.entries[:, j] * weights
                total += np.bincount(cells, size, minlength=total.size)
        return total.reshape(self.columns, self.columns)

    def onto(self, values: Floats) -> Floats:
        """Return ``design.T @ values``."""
        weighted = (self.entries * values[:, None]).ravel()
        return np.asarray(
            np.bincount(self.places.ravel(), weighted, minlength=self.columns), dtype=float
        )


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
    return float(np.exp(crossing(lambda size: excess(np.exp(size)), *ends)))


def as_repeatability(given: object) -> tuple[float, float]:
    """Return a known spread and its degrees of freedom; raise a clear error if one is missing."""
    try:
        spread, degrees = map(float, given)  # type: ignore[call-overload]
    except (TypeError, ValueError, OverflowError):
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
    # Over its logarithm, for it falls by the square and the fourth power.
    logs_of = np.log(0.3), np.log(4e6)
    degrees = crossing(lambda d: np.log(polygamma(1, np.exp(d) / 2)) - np.log(scatter), *logs_of)
    return found, float(np.exp(degrees))
