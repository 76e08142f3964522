"""The runs in the order in which they were made, and a drift of the machine."""

from datetime import datetime
from textwrap import shorten
from typing import TYPE_CHECKING, cast

import numpy as np

from gelassen.answers.comparison import StudyComparison
from gelassen.answers.rows.run_row import started_days
from gelassen.core.comparing.machine_drift import MachineDrift
from gelassen.figures.canvas import (
    BLUE,
    GREEN,
    GREY,
    ORANGE,
    PURPLE,
    RED,
    SKY,
    axes_or_new,
    footer,
    legend_below,
    literal_text,
    study_footer,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_COLOURS, _MARKS = (BLUE, ORANGE, GREEN, PURPLE, SKY, RED, GREY), "os^Dv<>Ph*"
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
    first = float(runs["days"].min()) if len(runs) else 0.0
    means = comparison.setups.set_index("setup")["rise_k"]
    for k, (name, own) in enumerate(runs.groupby("setup", sort=False)):
        label = shorten(str(name), _LABEL, placeholder=" …") if k < _MOST_NAMES else None
        axis.plot(
            own["days"] - first, own["value"] - means[name], _MARKS[k % len(_MARKS)],
            color=_COLOURS[k % len(_COLOURS)], ms=7, alpha=0.85, label=label,
        )  # fmt: skip
    axis.axhline(0, color="black", lw=0.8)
    if (
        drift is not None
        and np.isfinite([drift.per_day, drift.low, drift.high]).all()
        and len(runs)
    ):
        places = np.linspace(0, float(runs["days"].max()) - first, 50)
        away = places + first - drift.middle_days
        axis.plot(places, drift.per_day * away, color=GREY, lw=1.5, label="drift of the repeats")
        ends = np.sort([drift.low * away, drift.high * away], axis=0)
        axis.fill_between(
            places, *ends, color=GREY, alpha=0.2, label=f"{100 * drift.confidence:g} % interval"
        )
    day = (
        ""
        if not len(runs)
        else f" (day 0: {datetime.fromtimestamp(first * 86_400).astimezone():%Y-%m-%d %H:%M})"
    )
    axis.set_xlabel(f"begun, days{day}")
    axis.set_ylabel(f"away from the mean of its setup, {comparison.unit}   (cooler ←   → warmer)")
    axis.grid(color="#dddddd", lw=0.6)
    axis.set_title(
        "Runs in their order: what lies beside zero is scatter, a day or a drift", fontsize=11
    )
    if ax is None:
        legend_below(cast("Figure", axis.figure), axis, 4)
        runs_of = comparison.runs
        footer(
            axis,
            study_footer(
                comparison.title, runs_of["started"], len(runs_of), made_up=comparison.made_up
            ),
        )
    return axis
