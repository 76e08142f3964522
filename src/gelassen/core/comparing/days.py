"""Runs of one day share something that no sensor tells: the air of the room, a mounting that settles."""

from collections.abc import Sequence

import numpy as np

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
    labels = [f"run {k}" if day is None else day for k, day in enumerate(days)]
    names = list(dict.fromkeys(labels))
    runs, columns = len(labels), equations.design.shape[1]
    member = np.zeros((len(equations.observed), len(names)))
    member[:runs] = [[label == name for name in names] for label in labels]
    prior = np.hstack([np.zeros((len(names), columns)), At.LARGE / spread * np.eye(len(names))])
    return Equations(
        np.append(equations.observed, np.zeros(len(names))),
        np.vstack([np.hstack([equations.design, member]), prior]),
        np.append(equations.own, np.full(len(names), At.LARGE**2)),
    )
