"""The runs in the order in which they were made, and a drift of the machine."""

from datetime import datetime
from textwrap import shorten
from typing import TYPE_CHECKING, cast

import numpy as np

from gelassen.answers.comparison import StudyComparison
from gelassen.answers.rows.run_row import started_days
from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.figures.canvas import (
    GREY,
    SERIES,
    axes_or_new,
    legend_below,
    literal_text,
    say_instead,
)
from gelassen.figures.comparison_figure import name_below, ways

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MARKS = "os^Dv<>Ph*"
# Each unit, how many make a day, and the shortest span in days that it stands below.
_UNITS = (("days", 1, 2.0), ("hours", 24, 0.1), ("minutes", 1440, 0.0))
_LABEL, _MOST_NAMES = 32, 24


@literal_text
def order(
    comparison: StudyComparison, drift: MachineDrift | None = None, ax: "Axes | None" = None
) -> "Axes":
    """Draw how far each run lies from the mean of its setup, over the time it was begun.

    With the drift of one setup's repeats, draw its line and interval, too.
    """
    axis = axes_or_new(ax)
    runs = comparison.runs[~comparison.runs["at_limit"].astype(bool)]
    runs = runs.assign(days=runs["started"].map(started_days)).dropna(subset=["days"])
    if runs.empty:
        say_instead(axis, "No run below its limit says when it was made")
        return axis
    first = float(runs["days"].min())
    span = float(runs["days"].max()) - first
    unit, in_a_day = next(((u, n) for u, n, least in _UNITS if span >= least), _UNITS[-1][:2])
    means = comparison.setups.set_index("setup")["rise_k"]
    for k, (name, own) in enumerate(runs.groupby("setup", sort=False)):
        label = shorten(str(name), _LABEL, placeholder=" …") if k < _MOST_NAMES else None
        axis.plot(
            in_a_day * (own["days"] - first), own["value"] - means[name], _MARKS[k % len(_MARKS)],
            color=SERIES[k % len(SERIES)], ms=7, alpha=0.85, label=label,
        )  # fmt: skip
    axis.axhline(0, color="black", lw=0.8)
    if drift is not None and np.isfinite([drift.per_day, drift.low, drift.high]).all():
        places = np.linspace(0, span, 50)
        away = places + first - drift.middle_days
        drifted = drift.per_day * away
        axis.plot(in_a_day * places, drifted, color=GREY, lw=1.5, label="drift of the repeats")
        ends = np.sort([drift.low * away, drift.high * away], axis=0)
        share = f"{100 * drift.confidence:g} % interval"
        axis.fill_between(in_a_day * places, *ends, color=GREY, alpha=0.2, label=share)
    day = datetime.fromtimestamp(first * 86_400).astimezone()
    axis.set_xlabel(f"begun, {unit} after {day:%Y-%m-%d %H:%M}")
    axis.set_ylabel(f"away from the mean of its setup, {comparison.unit}   ({ways(comparison)})")
    axis.grid(color="#dddddd", lw=0.6)
    axis.set_title(
        "Runs in their order: what lies beside zero is scatter, a day or a drift", fontsize=11
    )
    if ax is None:
        legend_below(cast("Figure", axis.figure), axis, 4)
    name_below(axis, comparison, ax)
    return axis
