"""Runs of one day share something that no sensor tells: the air of the room, a mounting that settles."""

from collections.abc import Sequence

import numpy as np

from gelassen.core.comparing.priors import Days, Spread
from gelassen.core.foundation.inputs import Floats
from gelassen.core.thermal.priors import RoomEffect as At
from gelassen.core.thermal.room_effect import Equations


def with_days(equations: Equations, days: Sequence[str | None], spread: float) -> Equations:
    """Return the same model with one more column a day, and one more row for the prior of each.

    Parameters
    ----------
    equations : Equations
        The model; its first rows are the runs.
    days : sequence of str or None
        The day of each run. A run without one has a day of its own.
    spread : float
        Standard deviation of what a day moves its runs by.

    Notes
    -----
    A random effect with a stated size, as a prior that enters as an observation: see
    `core/thermal/room_effect.py`. Setups that were run on the same days are free of it.
    """
    member, columns = _members(days), equations.design.shape[1]
    several = member.shape[1]
    padded = np.zeros((len(equations.observed), several))
    padded[: len(days)] = member
    prior = np.hstack([np.zeros((several, columns)), At.LARGE / spread * np.eye(several)])
    return Equations(
        np.append(equations.observed, np.zeros(several)),
        np.vstack([np.hstack([equations.design, padded]), prior]),
        np.append(equations.own, np.full(several, At.LARGE**2)),
    )


def _members(days: Sequence[str | None]) -> Floats:
    """Return which run was made on which day, shape (runs, days). A run without one has its own."""
    labels = [f"run {k}" if day is None else day for k, day in enumerate(days)]
    places = {label: k for k, label in enumerate(dict.fromkeys(labels))}
    member = np.zeros((len(labels), len(places)))
    member[np.arange(len(labels)), [places[label] for label in labels]] = 1.0
    return member


def found_day_spread(
    equations: Equations,
    days: Sequence[str | None],
    stated: float,
    *,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
) -> float:
    """Return what a day moves its runs by: what these runs say of it, joined to what is stated.

    Parameters
    ----------
    equations : Equations
        The model without days.
    days : sequence of str or None
        The day of each run.
    stated : float
        Standard deviation that is thought of days in general: the median of a prior with heavy tails.
    repeatability, usual_spread : (float, float), optional
        As in `compare_setups`.

    Returns
    -------
    float
        The stated size where the runs cannot tell days from setups, or from the scatter of runs; also
        where there are too many runs for the sum over both spreads.

    Notes
    -----
    Restricted likelihood, summed over a grid of both spreads [1]_; the geometric mean over it.

    References
    ----------
    .. [1] D. A. Harville, "Maximum likelihood approaches to variance component estimation and to related
       problems", J. Am. Stat. Assoc. 72 (1977) 320-338.
    """
    runs = len(days)
    if runs > Days.MOST_RUNS or len({day for day in days if day is not None}) < 2:
        return stated
    values, design = equations.observed[:runs], equations.design[:runs]
    member = _members(days)
    centre = (repeatability or usual_spread or Spread.USUAL_K)[0]
    away = np.linspace(*Days.GRID)
    tails = -(Spread.TAILS + 1) / 2 * np.log1p(away**2 / Spread.TAILS)
    day_logs, run_logs = np.log(stated) + Days.LOG_SPREAD * away, np.log(centre) + away
    prior = tails[:, None] + tails[None, :]
    if repeatability is not None:
        freedom, ratio = repeatability[1], np.exp(2 * away)
        prior = tails[:, None] - freedom * (away + 1 / (2 * ratio))[None, :]
    both = np.array(
        [
            [
                _restricted(values, design, member, equations.own[:runs], np.exp(d), np.exp(r))
                for r in 2 * run_logs
            ]
            for d in 2 * day_logs
        ]
    )
    weight = np.exp(both + prior - (both + prior).max())
    return float(np.exp((weight.sum(axis=1) @ day_logs) / weight.sum()))


def _restricted(
    values: Floats, design: Floats, member: Floats, own: Floats, day: float, run: float
) -> float:
    """Return the logarithm of the restricted likelihood of these two variances."""
    covariance = day * member @ member.T + np.diag(own + run)
    factor = np.linalg.cholesky(covariance)
    onto = np.linalg.solve(factor, np.column_stack([design, values]))
    seen, target = onto[:, :-1], onto[:, -1]
    # A design may have columns that say the same: only its rank counts.
    left, sizes, _ = np.linalg.svd(seen, full_matrices=False)
    real = sizes > 1e-9 * sizes[0]
    rest = target - left[:, real] @ (left[:, real].T @ target)
    logs = np.log(np.diag(factor)).sum() + np.log(sizes[real]).sum()
    return float(-logs - rest @ rest / 2)
