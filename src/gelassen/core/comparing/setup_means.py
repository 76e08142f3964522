"""The fitted means of setups, and the standard error of any contrast of them."""

from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.comparing.mounting import NO_RUN, MountedFit, fit_shared_mountings
from gelassen.core.comparing.multiplicity import quantile
from gelassen.core.comparing.priors import Spread
from gelassen.core.comparing.spread import between_variance, estimate, rank_of, with_known
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.inputs import Floats


@dataclass(frozen=True, slots=True, kw_only=True)
class SetupFit:
    """Fitted coefficients, with the standard errors of their contrasts.

    `spread` is NaN if it is unknown; it is known with `spread_degrees` degrees of freedom, contrasts with
    `degrees`. The last coefficient is the room's if the room was allowed for; means are those at `room_c`.
    """

    means: Floats
    covariance: Floats
    degrees: float
    spread: float
    spread_degrees: float
    mounted: MountedFit | None = None
    room_c: float = float("nan")

    @classmethod
    def of_mountings(cls, fit: MountedFit) -> "SetupFit":
        """Return the fit of runs of which some share a mounting."""
        degrees = max(fit.within_freedom, fit.mounting_freedom)
        return cls(
            means=fit.estimate,
            covariance=fit.covariance,
            degrees=degrees,
            spread_degrees=degrees,
            spread=float(np.sqrt(fit.within + fit.mounting)),
            mounted=fit,
        )

    def with_shared(self, moved: Floats) -> "SetupFit":
        """Return the same with an error that all runs share, given the effect of one deviation of it."""
        return replace(self, covariance=self.covariance + np.outer(moved, moved))

    @property
    def spread_known(self) -> bool:
        """Whether the scatter of the runs is known."""
        return not np.isnan(self.spread)

    def first(self, count: int) -> Floats:
        """Return the first coefficients: those that follow belong to days, and to the room."""
        return self.means[:count]

    def _padded(self, contrasts: Floats) -> Floats:
        """Return contrasts of the first coefficients as contrasts of all."""
        rest = self.means.size - contrasts.shape[1]
        return np.pad(contrasts, ((0, 0), (0, rest))) if rest else contrasts

    def errors(self, contrasts: Floats) -> Floats:
        """Return the standard error of each contrast; infinite where it is unknown."""
        contrasts = self._padded(contrasts)
        if not self.spread_known:
            return np.full(len(contrasts), np.inf)
        square = np.einsum("ij,jk,ik->i", contrasts, self.covariance, contrasts)
        error = np.sqrt(np.maximum(square, 0.0))
        if self.mounted is not None and np.isinf(self.mounted.mounting):
            error = np.where(self.mounted.between(contrasts) > 0, np.inf, error)
        return np.asarray(error)

    def covariance_of(self, contrasts: Floats) -> Floats:
        """Return the covariance of contrasts."""
        contrasts = self._padded(contrasts)
        return np.asarray(contrasts @ self.covariance @ contrasts.T)

    @property
    def by_room(self) -> bool:
        """Whether the room was allowed for."""
        return bool(np.isfinite(self.room_c))

    def room_effect(self, confidence: float) -> tuple[float, float, float] | None:
        """Return the change for each kelvin of the room with its interval, if it was allowed for."""
        if not self.by_room:
            return None
        contrast = np.zeros((1, self.means.size))
        contrast[0, -1] = 1.0
        value, half = float(self.means[-1]), float(self.halves(contrast, confidence)[0])
        return value, value - half, value + half

    def room_errors(self, contrasts: Floats) -> Floats:
        """Return the part of each contrast's standard error that the room causes."""
        if not self.by_room:
            return np.zeros(len(contrasts))
        with_room = self._padded(contrasts) @ self.covariance[:, -1]
        return np.asarray(np.abs(with_room) / np.sqrt(self.covariance[-1, -1]))

    def freedom(self, contrasts: Floats) -> Floats:
        """Return the degrees of freedom of each of these errors."""
        if self.mounted is None:
            return np.full(len(contrasts), self.degrees)
        return self.mounted.freedom(self._padded(contrasts))

    def between(self, contrasts: Floats) -> Floats:
        """Return the share of each contrast's variance that comes from mountings."""
        if self.mounted is None:
            return np.zeros(len(contrasts))
        return self.mounted.between(self._padded(contrasts))

    def halves(self, contrasts: Floats, confidence: float) -> Floats:
        """Return half the width of the interval of each contrast; infinite where it is unknown."""
        errors, freedom = self.errors(contrasts), self.freedom(contrasts)
        level = (1 + confidence) / 2
        factors = [quantile(level, float(one)) if one > 0 else np.inf for one in freedom]
        return np.where(np.isfinite(errors), np.array(factors) * errors, np.inf)

    def freedom_of(self, contrast: Floats) -> float:
        """Return the degrees of freedom of one contrast's error."""
        return float(self.freedom(contrast[None])[0])


def fit_setups(
    values: Floats,
    design: Floats,
    own: Floats,
    mounts: list[str | None],
    *,
    repeatability: tuple[float, float] | None,
    usual_spread: tuple[float, float] | None,
) -> tuple["SetupFit", list[Caution]]:
    """Fit the means of setups, with a variance for mountings where runs share them."""
    mounted = fit_shared_mountings(
        values, design, mounts, own, repeatability=repeatability, usual_spread=usual_spread
    )
    if mounted is None:
        of_runs = own[[mount != NO_RUN for mount in mounts]]
        return plain_fit(values, design, own, of_runs, repeatability, usual_spread)
    return SetupFit.of_mountings(mounted), []


def _informative(freedom: float, own: Floats, usual_spread: tuple[float, float] | None) -> float:
    """Return with how many degrees of freedom repeats tell the spread between runs.

    Where each run leaves more open by itself than runs usually scatter by, repeats hardly show the scatter.
    """
    if usual_spread is None or not own.size:
        return float(freedom)
    usual = (usual_spread[0] * Spread.MEDIAN) ** 2
    return freedom * (usual / (usual + float(np.median(own)))) ** 2


def _of_both(between: float, freedom: float, own: float) -> float:
    """Return the degrees of freedom of the sum of the spread and the error of each run (Satterthwaite)."""
    total = between + own
    if not total > 0 or not freedom > 0:
        return freedom
    return total**2 / (between**2 / freedom + own**2 / Spread.OWN_FREEDOM)


def plain_fit(
    values: Floats,
    design: Floats,
    own: Floats,
    of_runs: Floats,
    repeatability: tuple[float, float] | None,
    usual_spread: tuple[float, float] | None,
) -> tuple["SetupFit", list[Caution]]:
    """Fit independent runs; return the fit, and what to say of their spread.

    `own` is the variance of each row, `of_runs` of those rows that are runs and no priors.
    """
    freedom = int(len(values) - rank_of(design))
    between = between_variance(values, design, own, freedom)
    repeated = freedom >= 1 and between is not None
    told = repeated and _informative(freedom, of_runs, usual_spread) >= 1
    if repeated and not told and usual_spread is not None:
        # What runs leave open by themselves hides the scatter between them. The usual one stands in.
        stands_in = usual_spread[0] * Spread.MEDIAN, usual_spread[1]
        between, degrees = with_known(None, 0, repeatability or stands_in)
    else:
        between, degrees = with_known(
            between, freedom, repeatability, usual_spread if repeated else None
        )
    known = degrees > 0 and between is not None
    said: list[Caution] = []
    if freedom < 1 and repeatability is not None:
        said.append(caution("known_repeatability_stands_in", spread_k=repeatability[0]))
    elif freedom < 1:
        said.append(caution("no_repeats"))
    elif not known:
        said.append(caution("repeats_identical"))
    variance = own + (between or 0.0) if known else np.ones_like(own)
    variance = np.maximum(variance, 1e-12 * float(variance.max()))
    means, covariance = estimate(values, design, variance)
    spread = float(np.sqrt(between)) if known and between is not None else float("nan")
    alike = np.inf if usual_spread is None else Spread.SPREADS_DIFFER
    of_spread = 1 / (1 / degrees + 1 / alike) if degrees else 0.0
    if known and between is not None and usual_spread is not None and not told:
        of_spread = _of_both(float(between), of_spread, float(np.median(of_runs)))
    return SetupFit(
        means=means, covariance=covariance, degrees=of_spread,
        spread=spread, spread_degrees=degrees,
    ), said  # fmt: skip
