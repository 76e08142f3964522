"""How a result changes along a scale (number of fans, duty, flow, power), and where more stops paying."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations, pairwise
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.comparing.along.optimum import best_place
from gelassen.core.comparing.fit_runs import Beside, fit_runs
from gelassen.core.comparing.joint import joint_differences
from gelassen.core.comparing.setup_means import SetupFit
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats, SeriesLike, as_confidence, as_series
from gelassen.core.foundation.result import Result


@dataclass(frozen=True, slots=True, kw_only=True)
class Response(Result):
    """The course along a scale.

    Attributes
    ----------
    levels : DataFrame
        x, mean, low, high, runs.
    steps : DataFrame
        x, next_x, change, low, high, pays: what the step from one level to the next does; the intervals
        hold for all pairs of levels, as in a comparison of these. `pays`: "yes", "no" or "cannot tell",
        against `worth`.
    stops_paying_at
        The level after which no step is known to pay; None if the last step still does.
    best_x, best_low, best_high
        Where the value is lowest, if that lies inside the scale; NaN if it does not or is not clear.
    room_effect, room_c
        As in `Comparison`.
    name
        What the scale is, in words.
    """

    levels: pd.DataFrame
    steps: pd.DataFrame
    stops_paying_at: float | None
    best_x: float
    best_low: float
    best_high: float
    worth: float
    confidence: float
    cautions: tuple[Caution, ...] = ()
    room_effect: tuple[float, float, float] | None = None
    room_c: float = float("nan")
    name: str = ""

    def __str__(self) -> str:
        lines = [
            f"{row.x:g} to {row.next_x:g}: {row.change:+.1f} ({row.low:+.1f} to "
            f"{row.high:+.1f}), pays: {row.pays}"
            for row in self.steps.itertuples()
        ]
        return "\n".join([*lines, *(f"  caution: {text}" for text in self.cautions)])


def response_curve(
    x: SeriesLike,
    value: SeriesLike,
    *,
    worth: float = 0.0,
    confidence: float = 0.95,
    others: Sequence[str] | None = None,
    runs: pd.DataFrame | None = None,
    chosen: Sequence[bool] | None = None,
    repeatability: tuple[float, float] | None = None,
    usual_spread: tuple[float, float] | None = None,
    day_spread: float | None = None,
    room_effect: tuple[float, float] | None = None,
) -> Response:
    """Find how a value falls along a scale, and where the next step stops paying.

    Parameters
    ----------
    x, value : array_like, shape (n,)
        The level of each run on the scale, and its value, of which less is better.
    worth : float
        A step pays if it lowers the value by more than this.
    confidence : float
        For all intervals.
    others : sequence of str, optional
        What else was set in each run. Every such combination has the same weight at all levels.
    runs : DataFrame, optional
        What else is known of each run, in columns as in `fit_runs`: standard_error, mount, day and so on.
    chosen : sequence of bool, optional
        Which runs lie on the scale; all if not given. The other runs are fitted as well, as setups that
        `others` names. They show the scatter of runs, and what days and rooms do.
    repeatability, usual_spread, day_spread, room_effect
        As in `compare_setups`.

    Raises
    ------
    InputError
        Lengths that differ, fewer than two levels, or a combination that was not run at every level.

    Notes
    -----
    Means of the levels from the fit that also compares setups (`fit_runs.py`), intervals from the
    procedure that judges them (`joint.py`). A step pays where the whole interval of its change lies
    beyond `worth`, does not pay where the whole interval lies short of it, and cannot be told otherwise.
    The best level inside the scale is the lowest point of the course (`along/optimum.py`); it is given
    where all of its interval lies inside the scale.
    """
    level = as_confidence(confidence)
    values = as_series("value", value)
    places = as_series("x", x, like=values)
    on_scale = np.isfinite(places) & (True if chosen is None else np.array(chosen, dtype=bool))
    good = np.isfinite(values) & (np.isfinite(places) | (chosen is not None))
    about = pd.DataFrame(index=range(good.size)) if runs is None else runs
    if len(about) != good.size:
        raise InputError(f"runs has {len(about)} rows, x has {good.size} entries")
    if others is not None and len(others) != good.size:
        raise InputError(f"others has {len(others)} entries, x has {good.size}")
    set_too = np.array([""] * good.size if others is None else list(map(str, others)))[good]
    places, values, about = places[good], values[good], about[good].reset_index(drop=True)
    on_scale = on_scale[good]
    marks = np.unique(places[on_scale])
    if marks.size < 2:
        raise InputError("a course along a scale needs at least two levels")
    design, contrasts = _cells(places, marks, set_too, on_scale)
    beside = Beside(
        repeatability=repeatability, usual_spread=usual_spread, day_spread=day_spread,
        room_effect=room_effect,
    )  # fmt: skip
    fit, _ = fit_runs(about, values, design, beside)
    cautions = [] if fit.degrees >= 1 else [caution("steps_without_repeats")]
    means = contrasts @ fit.first(contrasts.shape[1])
    freedom = fit.degrees if fit.mounted is None else fit.mounted.within_freedom
    half = fit.halves(contrasts, level)
    levels = pd.DataFrame(
        {
            "x": marks,
            "mean": means,
            "low": means - half,
            "high": means + half,
            "runs": [int((places[on_scale] == mark).sum()) for mark in marks],
        }
    )
    steps = _steps(fit, marks, contrasts, worth, level)
    paying = np.flatnonzero(steps["pays"] == "yes")
    last = int(paying[-1]) + 1 if paying.size else 0
    stops = None if last == marks.size - 1 else float(marks[last])
    best = best_place(marks, means, fit.errors(contrasts), freedom, level)
    return Response(
        levels=levels, steps=steps, stops_paying_at=stops, best_x=best[0], best_low=best[1],
        best_high=best[2],
        worth=float(worth), confidence=level, cautions=tuple(cautions),
        room_effect=fit.room_effect(level), room_c=fit.room_c,
    )  # fmt: skip


def _cells(
    places: Floats, marks: Floats, others: "np.ndarray[Any, Any]", on_scale: Bools
) -> tuple[Floats, Floats]:
    """Return a column for each level within each combination, and the mean of each level over them.

    Runs that do not lie on the scale have columns of their own. No mean holds them.
    """
    kinds, beside = list(dict.fromkeys(others[on_scale])), list(dict.fromkeys(others[~on_scale]))
    cells = [(True, kind, mark) for kind in kinds for mark in marks]
    cells += [(False, kind, np.nan) for kind in beside]
    design = np.array(
        [
            [
                float(on == of and own == kind and (not on or place == mark))
                for of, kind, mark in cells
            ]
            for on, own, place in zip(on_scale, others, places, strict=True)
        ]
    )
    for (_, kind, mark), runs in zip(cells, design.sum(axis=0), strict=True):
        if not runs:
            raise InputError(f'"{kind}" was not run at {mark:g}')
    contrasts = [[float(mark == of) / len(kinds) for _, _, of in cells] for mark in marks]
    return design, np.array(contrasts)


def _steps(
    fit: SetupFit, marks: Floats, contrasts: Floats, worth: float, level: float
) -> pd.DataFrame:
    """Return what each step from one level to the next does, and whether it pays."""
    pairs = list(combinations(range(marks.size), 2))
    apart = np.array([contrasts[b] - contrasts[a] for a, b in pairs])
    found = joint_differences(fit, apart, pairs, marks.size, level)
    rows = []
    for a, b in pairwise(range(marks.size)):
        k = pairs.index((a, b))
        change, low, high = (float(x[k]) for x in (found.difference, found.low, found.high))
        pays = "yes" if high < -worth else "no" if low > -worth else "cannot tell"
        rows.append((marks[a], marks[b], change, low, high, pays))
    return pd.DataFrame(rows, columns=["x", "next_x", "change", "low", "high", "pays"])
