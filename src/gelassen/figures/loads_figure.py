"""Setups under each load: bars side by side, with the highest reading and the limit."""

from textwrap import fill
from typing import TYPE_CHECKING, cast

import numpy as np

from gelassen.answers.loads import StudyLoads
from gelassen.answers.rows.by_quantity import in_kelvin
from gelassen.core.foundation.result import MADE_UP
from gelassen.figures.canvas import (
    SERIES,
    axes_or_new,
    footer,
    legend_below,
    literal_text,
    study_footer,
)
from gelassen.figures.comparison_figure import limit_lines

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LABEL, _LETTERS, _SHORTEST = 60, 120, 8  # letters of a load's name, below all bars, of a line
_HATCHES = ("", "//", "..", "xx", "\\\\", "++", "oo")  # distinct in grey, too


@literal_text
def loads(result: StudyLoads, ax: "Axes | None" = None) -> "Axes":
    """Draw the mean rise of each setup under each load, with its highest reading as a tick."""
    axis = axes_or_new(ax)
    sort = "rise" if result.unit == "K" else "temperature"
    bar, what = "mean_k", f"mean {sort} over the load in {result.unit}; tick: highest reading"
    # What was read off a screen has no mean over the load.
    if result.by is not None or result.setups["mean_k"].isna().all():
        bar, what = "rise_k", f"settled {sort} in {result.unit}; tick: highest reading"
    names = list(dict.fromkeys(map(str, result.setups["load"])))
    setups = list(dict.fromkeys(map(str, result.setups["setup"])))
    width = 0.8 / max(len(setups), 1)
    for number, setup in enumerate(setups):
        own = result.setups[result.setups["setup"] == setup].set_index("load")
        means = [float(own[bar].get(name, np.nan)) for name in names]
        tops = [float(own["highest_k"].get(name, np.nan)) for name in names]
        places = np.arange(len(names)) + (number - (len(setups) - 1) / 2) * width
        axis.bar(
            places, means, width=0.9 * width, color=SERIES[number % len(SERIES)], alpha=0.8,
            hatch=_HATCHES[number % len(_HATCHES)], edgecolor="white", label=setup,
        )  # fmt: skip
        axis.plot(places, tops, "_", color="black", ms=14, mew=1.6)
        for place, mean in zip(places, means, strict=True):
            if np.isfinite(mean):
                axis.annotate(
                    f"{mean:.1f}", (place, mean), xytext=(0, -14), textcoords="offset points",
                    ha="center", fontsize=8,
                    bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.0, "alpha": 0.8},
                )  # fmt: skip
    shown = result.comparisons.values() if in_kelvin(result.by) else ()
    hottest = max(shown, key=lambda one: one.setups["rise_k"].max(), default=None)
    for words, allowed, colour in limit_lines(hottest) if hottest is not None else ():
        axis.axhline(allowed, color=colour, lw=1.2, ls="--")
        # Above the load that stays lowest, so that no reading lies below the words.
        heights = result.setups.groupby("load", sort=False)["highest_k"].max().reindex(names)
        coolest = int(heights.fillna(np.inf).to_numpy().argmin())
        axis.annotate(
            words.replace("\n", " "), (coolest, allowed), xytext=(0, 4), textcoords="offset points",
            ha="center", fontsize=9, color=colour,
        )  # fmt: skip
    line = max(_LETTERS // max(len(names), 1), _SHORTEST)
    axis.set_xticks(np.arange(len(names)), [fill(name[:_LABEL], line) for name in names])
    axis.set_ylabel(what if result.by is None else f"{result.by.what}, {result.unit}")
    axis.grid(axis="y", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    if ax is None:
        legend_below(cast("Figure", axis.figure), axis, 4)
    else:
        axis.legend(fontsize=9)
    made_up = f"   ({MADE_UP})" if result.made_up else ""
    axis.set_title(f"{result.title}: setups under each load{made_up}", fontsize=11)
    if ax is None:
        started = [one for found in result.comparisons.values() for one in found.runs["started"]]
        runs = int(result.setups["runs"].sum())
        footer(axis, study_footer(result.title, started, runs, made_up=result.made_up))
    return axis
