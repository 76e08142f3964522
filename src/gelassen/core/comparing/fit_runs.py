"""One fit of single runs for every question that compares: setups, combinations, places on a scale."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.comparing.days import found_day_spread, with_days
from gelassen.core.comparing.mounting import NO_RUN, mounts_of
from gelassen.core.comparing.priors import Comparison
from gelassen.core.comparing.setup_means import SetupFit, fit_setups
from gelassen.core.comparing.spread import estimate
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.room_effect import Equations, RoomEffect

RUN_COLUMNS = ("setup", "standard_error", "setup_error", "shared_error", "scale", "mount", "day")


@dataclass(frozen=True, slots=True, kw_only=True)
class Beside:
    """What is known beside the runs; see `compare_setups`.

    Attributes
    ----------
    repeatability, usual_spread
        What this rig, and rigs in general, scatter by between runs: standard deviation and degrees of
        freedom.
    day_spread
        What a day is thought to move all of its runs by, as a standard deviation; None leaves days out.
    """

    repeatability: tuple[float, float] | None = None
    usual_spread: tuple[float, float] | None = None
    day_spread: float | None = None


def fit_runs(
    runs: pd.DataFrame,
    values: Floats,
    design: Floats,
    beside: Beside,
    *,
    room: RoomEffect | None = None,
) -> tuple[SetupFit, list[Caution]]:
    """Fit a linear model of single runs, with all that runs share.

    Parameters
    ----------
    runs : DataFrame
        One row a run, with these columns if they are known: standard_error, scale, mount and day, as in
        `compare_setups`; setup, with setup_error; shared_error, what one standard deviation of an error
        that all runs share moves each of them by; room_c, if there is a `room`.
    values : ndarray, shape (runs,)
        One number a run.
    design : ndarray, shape (runs, coefficients)
        The linear model.
    beside : Beside
        What is known beside the runs.
    room : RoomEffect, optional
        What each kelvin of the room is thought to do.

    Returns
    -------
    SetupFit
        Its first coefficients are those of the design, its last the effect of the room, if there is one.
    list of Caution
        What is to be said of the scatter.
    """
    # Divided by its own scatter, every run has the same weight.
    scale = _column(runs, "scale", 1.0)
    of_setup = _column(runs, "setup_error", 0.0)
    own = np.maximum(_column(runs, "standard_error", 0.0) ** 2 - of_setup**2, 0.0) / scale**2
    equations = Equations(values / scale, design / scale[:, None], own)
    days = _days(runs)
    if beside.day_spread is not None and len(set(days)) > 1 and not copied(runs, values):
        spread = found_day_spread(
            equations, days, beside.day_spread, repeatability=beside.repeatability,
            usual_spread=beside.usual_spread,
        )  # fmt: skip
        equations = with_days(equations, days, spread)
    if room is not None:
        equations = equations.with_rooms(runs["room_c"].to_numpy(dtype=float), room)
    priors = len(equations.observed) - len(runs)
    fit, cautions = fit_setups(
        equations.observed, equations.design, equations.own, [*mounts_of(runs), *[NO_RUN] * priors],
        repeatability=beside.repeatability, usual_spread=beside.usual_spread,
    )  # fmt: skip
    shared = [_column(runs, "shared_error", 0.0)]
    if of_setup.any():
        square = pd.Series(of_setup**2, index=runs.index).groupby(runs["setup"]).transform("mean")
        shared += [
            np.sqrt(square.where(runs["setup"] == name, 0.0)) for name in runs["setup"].unique()
        ]
    for error in shared:
        if error.any():
            moved = np.append(error / scale, np.zeros(priors))
            fit = fit.with_shared(_coefficients(fit, equations, moved))
    return fit, cautions


def _coefficients(fit: SetupFit, equations: Equations, values: Floats) -> Floats:
    """Return the coefficients that other values have with the same weights: the fit is linear in them."""
    if fit.mounted is not None:
        return np.asarray(fit.mounted.weights.T @ values)
    variance = equations.own + (fit.spread**2 if fit.spread_known else 1.0)
    weights = np.maximum(variance, 1e-12 * float(variance.max()))
    return estimate(values, equations.design, weights)[0]


def _column(runs: pd.DataFrame, name: str, default: float) -> Floats:
    if name not in runs.columns:
        return np.full(len(runs), default)
    return np.asarray(runs[name].fillna(default), dtype=float)


def _days(runs: pd.DataFrame) -> list[str | None]:
    if "day" not in runs.columns:
        return [None] * len(runs)
    return [None if pd.isna(day) else str(day) for day in runs["day"]]


def copied(runs: pd.DataFrame, values: Floats) -> bool:
    """Return whether setups were repeated and all repeats read the same, as copied rows do."""
    if "setup" not in runs.columns:
        return False
    groups = pd.Series(values, index=runs.index).groupby(runs["setup"])
    return bool(
        len(values) > groups.ngroups and (groups.max() - groups.min()).max() < Comparison.COPIED
    )
