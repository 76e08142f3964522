"""Runs that share a mounting. They repeat each other, but tell nothing about another mounting.

What runs scatter by has two parts: within one mounting, and what another mounting adds. A difference
between setups on one mounting is free of the second; between mountings it holds both, however often each
was run [1]_. How well a variance of two parts is known: Satterthwaite's degrees of freedom [2]_.

References
----------
.. [1] S. R. Searle, G. Casella, C. E. McCulloch, Variance Components (Wiley, 1992), chapter 3.
.. [2] F. E. Satterthwaite, Biometrics Bull. 2, 110 (1946).
"""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparing.priors import Mounting
from gelassen.core.comparing.spread import between_variance, with_known
from gelassen.core.foundation.inputs import Floats
from gelassen.core.foundation.root import crossing

# Rows of the equations that are not runs have no mounting.
NO_RUN = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class MountedFit:
    """A linear model of runs, some of which share a mounting.

    Attributes
    ----------
    estimate, covariance
        Coefficients, and their covariance.
    within, mounting
        Variance between runs of one mounting, and what another mounting adds; infinite where
        that is unknown.
    within_freedom, mounting_freedom
        Degrees of freedom of the first, and of the variance between mountings.
    """

    estimate: Floats
    covariance: Floats
    within: float
    mounting: float
    within_freedom: float
    mounting_freedom: float
    weights: Floats  # of each run in each coefficient
    members: Floats  # one row a run, one column a mounting
    usual_size: float  # runs a mounting

    def parts(self, contrasts: Floats) -> tuple[Floats, Floats]:
        """Return the share of a contrast's variance from mountings and from runs within a mounting."""
        weights = contrasts @ self.weights.T
        return ((weights @ self.members) ** 2).sum(axis=1), (weights**2).sum(axis=1)

    def between(self, contrasts: Floats) -> Floats:
        """Return the share of a contrast's variance that comes from mountings."""
        of_mountings, of_runs = self.parts(contrasts)
        remounted = of_mountings > 1e-9 * of_runs
        if not np.isfinite(self.mounting):
            return remounted.astype(float)
        total = of_mountings * self.mounting + of_runs * self.within
        share = np.divide(
            of_mountings * self.mounting, total, out=np.zeros_like(total), where=total > 0
        )
        return np.asarray(np.where(remounted, share, 0.0))

    def freedom(self, contrasts: Floats) -> Floats:
        """Return the degrees of freedom of each contrast's standard error, one row a contrast."""
        of_mountings, of_runs = self.parts(contrasts)
        if not np.isfinite(self.mounting):
            return np.full(len(contrasts), self.within_freedom)
        # In mean squares: the one between mountings includes part of the scatter within them.
        square = self.mounting + self.within / self.usual_size
        first = of_mountings * square
        second = np.maximum(of_runs - of_mountings / self.usual_size, 0.0) * self.within
        spent = first**2 / max(self.mounting_freedom, 1.0) + second**2 / self.within_freedom
        found = np.divide(
            (first + second) ** 2,
            spent,
            out=np.full(len(first), self.within_freedom),
            where=spent > 0,
        )
        return np.asarray(np.maximum(found, 1.0))


def mounts_of(runs: pd.DataFrame) -> list[str | None]:
    """Return the mounting of each run; None where none is named."""
    if "mount" not in runs.columns:
        return [None] * len(runs)
    return [None if pd.isna(mount) else str(mount) for mount in runs["mount"]]


def fit_shared_mountings(
    values: Floats,
    design: Floats,
    mounts: Iterable[str | None],
    own: Floats | None = None,
    *,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
) -> MountedFit | None:
    """Fit runs of which some share a mounting; None if none do, or if their scatter cannot be told.

    Parameters
    ----------
    values : array, shape (runs,)
        One number a run.
    design : array, shape (runs, coefficients)
        The linear model.
    mounts : iterable of str or None
        The mounting of each run; one that names none has its own. Rows of `NO_RUN` have none at all.
    own : array, shape (runs,), optional
        Variance of each run from its own standard error.
    repeatability, usual_spread : (float, float), optional
        Standard deviation of a run in a new mounting, and its degrees of freedom: this rig's, and that of
        rigs in general.
    """
    names = [
        f"{k} alone" if name is None else f"mount {name}" if name != NO_RUN else NO_RUN
        for k, name in enumerate(mounts)
    ]
    distinct = [name for name in dict.fromkeys(names) if name != NO_RUN]
    if len(distinct) == sum(name != NO_RUN for name in names):
        return None
    members = np.array([[name == other for other in distinct] for name in names], dtype=float)
    left_open = np.zeros(len(names)) if own is None else own
    return _fit(values, design, left_open, members, repeatability, usual_spread)


def _fit(
    values: Floats,
    design: Floats,
    own: Floats,
    members: Floats,
    repeatability: tuple[float, float] | None,
    usual_spread: tuple[float, float] | None,
) -> MountedFit | None:
    rank = int(np.linalg.matrix_rank(design))
    everything = np.hstack([design, members])
    full = int(np.linalg.matrix_rank(everything))
    within_freedom, mounting_freedom = len(values) - full, full - rank
    within = between_variance(values, everything, own, within_freedom)
    if within is None:
        return None
    largest = max(within, float(own.max()), float(np.var(values)), 1e-12)
    alone = np.maximum(own + within, Mounting.LEAST_SHARE * largest)
    found = _mounting_variance(values, design, alone, members, mounting_freedom)
    total, freedom = with_known(
        None if found is None else found + within, mounting_freedom, repeatability, usual_spread
    )
    mounting = np.inf if total is None else max(total - within, 0.0)
    moved = mounting if np.isfinite(mounting) else Mounting.UNKNOWN * largest
    if np.isfinite(mounting):
        alone = np.maximum(alone, Mounting.LEAST_SHARE * mounting)
    solved = np.linalg.solve(np.diag(alone) + moved * (members @ members.T), design)
    covariance = np.asarray(np.linalg.pinv(design.T @ solved), dtype=float)
    sizes = members.sum(axis=0)
    return MountedFit(
        estimate=covariance @ (solved.T @ values),
        covariance=covariance,
        within=within,
        mounting=mounting,
        within_freedom=float(within_freedom),
        mounting_freedom=freedom,
        weights=solved @ covariance,
        members=members,
        usual_size=float(len(sizes) / (1 / sizes).sum()),
    )


def _mounting_variance(
    values: Floats, design: Floats, alone: Floats, members: Floats, freedom: int
) -> float | None:
    """Return the variance that mountings add, so that weighted residuals have their expected size."""
    if freedom < 1:
        return None
    expected = len(values) - int(np.linalg.matrix_rank(design))
    shared = members @ members.T

    def excess(mounting: float) -> float:
        covariance = np.diag(alone) + mounting * shared
        solved = np.linalg.solve(covariance, design)
        means = np.linalg.pinv(design.T @ solved) @ (solved.T @ values)
        left = values - design @ means
        return float(left @ np.linalg.solve(covariance, left)) - expected

    if excess(0.0) <= 1e-9:
        return 0.0
    high = float(np.var(values)) + float(alone.max())
    for _ in range(6):
        if excess(high) < 0:
            return crossing(excess, 0.0, high, within=1e-9)
        high *= 4
    return high
