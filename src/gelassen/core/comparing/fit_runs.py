"""One fit of single runs for every question that compares: setups, combinations, places on a scale."""

from dataclasses import dataclass, replace

import numpy as np
import pandas as pd

from gelassen.core.comparing.days import found_day_spread, with_days
from gelassen.core.comparing.mounting import NO_RUN, mounts_of
from gelassen.core.comparing.priors import Comparison
from gelassen.core.comparing.setup_means import SetupFit, fit_setups
from gelassen.core.comparing.spread import estimate
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.room_effect import Equations, RoomEffect, rooms_differ

RUN_COLUMNS = ("setup", "standard_error", "setup_error", "scale", "mount", "day", "room_c")


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
    room_effect
        By how much a value usually changes with each kelvin of the room, and the standard deviation of
        that; None leaves the room out.
    """

    repeatability: tuple[float, float] | None = None
    usual_spread: tuple[float, float] | None = None
    day_spread: float | None = None
    room_effect: tuple[float, float] | None = None


def fit_runs(
    runs: pd.DataFrame, values: Floats, design: Floats, beside: Beside
) -> tuple[SetupFit, list[Caution]]:
    """Fit a linear model of single runs, with all that runs share.

    Parameters
    ----------
    runs : DataFrame
        One row a run, with these columns if they are known: standard_error, scale, mount, day and room_c,
        as in `compare_setups`; setup, with setup_error.
    values : ndarray, shape (runs,)
        One number a run.
    design : ndarray, shape (runs, coefficients)
        The linear model.
    beside : Beside
        What is known beside the runs.

    Returns
    -------
    SetupFit
        Its first coefficients are those of the design, its last the effect of the room, if that was
        allowed for.
    list of Caution
        What is to be said of the scatter.

    Raises
    ------
    InputError
        A room effect that is no number with a standard deviation.
    """
    # Divided by its own scatter, every run has the same weight.
    scale = _column(runs, "scale", 1.0)
    of_setup = _column(runs, "setup_error", 0.0)
    own = np.maximum(_column(runs, "standard_error", 0.0) ** 2 - of_setup**2, 0.0) / scale**2
    equations = Equations(values / scale, design / scale[:, None], own)
    days, alike = _days(runs), copied(runs, values)
    if beside.day_spread is not None and len(set(days)) > 1 and not alike:
        spread = found_day_spread(
            equations, days, beside.day_spread, repeatability=beside.repeatability,
            usual_spread=beside.usual_spread,
        )  # fmt: skip
        equations = with_days(equations, days, spread)
    rooms, room_c = _column(runs, "room_c", np.nan), np.nan
    if beside.room_effect is not None and rooms_differ(rooms) and not alike:
        equations = equations.with_rooms(rooms, _usual_effect(beside.room_effect))
        room_c = float(rooms.mean())
    priors = len(equations.observed) - len(runs)
    fit, cautions = fit_setups(
        equations.observed, equations.design, equations.own, [*mounts_of(runs), *[NO_RUN] * priors],
        repeatability=beside.repeatability, usual_spread=beside.usual_spread,
    )  # fmt: skip
    if of_setup.any():  # an error that the runs of a setup share moves what depends on that setup
        square = pd.Series(of_setup**2, index=runs.index).groupby(runs["setup"]).transform("mean")
        for name in runs["setup"].unique():
            error = np.sqrt(square.where(runs["setup"] == name, 0.0))
            moved = np.append(error / scale, np.zeros(priors))
            fit = fit.with_shared(_coefficients(fit, equations, moved))
    return replace(fit, room_c=room_c), cautions


def _usual_effect(prior: tuple[float, float]) -> RoomEffect:
    try:
        usual, spread = map(float, prior)
    except (TypeError, ValueError, OverflowError):
        usual = spread = float("nan")
    if not (np.isfinite(usual) and 0 < spread < np.inf):
        raise InputError(
            "room_effect is two numbers, K for each K of the room and a standard deviation above zero, "
            f"such as (-0.1, 0.15); found {prior!r}"
        )
    return RoomEffect(usual, spread)


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
