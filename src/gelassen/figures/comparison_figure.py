"""Setups side by side, sorted by rise."""

from collections.abc import Hashable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from gelassen.answers.comparison import StudyComparison
from gelassen.core.foundation.result import MADE_UP
from gelassen.figures.canvas import BLUE, ORANGE, RED, literal_text, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@literal_text
def comparison_figure(comparison: StudyComparison, path: Path) -> None:
    """Draw the setups sorted by rise, with intervals, single runs, and the limit; and save it."""
    setups = comparison.setups
    figure, axes = new_figure(1, [1.0])
    axis = axes[0]
    places = np.arange(len(setups))[::-1]
    for place, row in zip(places, setups.to_dict("records"), strict=True):
        _bar(axis, place, row, comparison)
    axis.set_yticks(places, [str(name) for name in setups["setup"]])
    largest = float(setups["rise_k"].max())
    axis.set_xlim(0, largest * 1.32)
    _limit_line(axis, comparison, largest)
    over = f"over {comparison.over} in K" if comparison.unit == "K" else f"in {comparison.unit}"
    what = "steady rise" if comparison.unit == "K" else "steady temperature"
    axis.set_xlabel(
        f"{what} of the {comparison.measured} {over}; bars: mean, whiskers: "
        f"{100 * comparison.confidence:g} % interval, ticks: single runs"
    )
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    made_up = f"   ({MADE_UP})" if comparison.made_up else ""
    baseline = f"; orange: baseline {comparison.baseline}" if comparison.baseline else ""
    axis.set_title(f"{comparison.title}: setups from cool to warm{baseline}{made_up}", fontsize=11)
    save(figure, path)


def _bar(axis: "Axes", place: float, row: dict[Hashable, Any], comparison: StudyComparison) -> None:
    """Draw one setup: its mean, its interval, its single runs, and what it held."""
    own = row["setup"] == comparison.baseline
    colour = RED if row["at_limit"] else ORANGE if own else BLUE
    hatch = "///" if row["at_limit"] else None
    axis.barh(
        place,
        row["rise_k"],
        color=colour,
        alpha=0.75,
        height=0.62,
        hatch=hatch,
        edgecolor="white",
    )
    values = comparison.runs.loc[comparison.runs["setup"] == row["setup"], "value"]
    axis.plot(values, np.full(len(values), place - 0.2), "|", color="black", ms=7, mew=1)
    end = row["rise_k"]
    if np.isfinite(row["high_k"]) and np.isfinite(row["low_k"]):
        below, above = row["rise_k"] - row["low_k"], row["high_k"] - row["rise_k"]
        axis.errorbar(
            row["rise_k"], place, xerr=[[below], [above]],
            fmt="none", color="black", capsize=4, lw=1.4,
        )  # fmt: skip
        end = row["high_k"]
    text = f"{row['rise_k']:.1f}"
    if row["at_limit"]:
        text += f" or more: at its limit, held {row['power_w']:.0f} W"
    elif np.isfinite(row["power_w"]):
        text += f"   at {row['power_w']:.0f} W"
    axis.annotate(
        text, (end, place), xytext=(6, 0), textcoords="offset points", va="center", fontsize=9,
        bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5}, zorder=5,
    )  # fmt: skip


def _limit_line(axis: "Axes", comparison: StudyComparison, largest: float) -> None:
    """Draw the rise that the limit allows, where it is near."""
    rooms = comparison.runs["reference_c"].dropna()
    if comparison.limit_c is not None and comparison.unit == "°C":
        if comparison.limit_c < largest * 1.3:
            axis.axvline(comparison.limit_c, color=RED, lw=1.2, ls="--")
        return
    if comparison.limit_c is not None and not rooms.empty and comparison.unit == "K":
        allowed = comparison.limit_c - float(rooms.mean())
        if allowed < largest * 1.3:
            axis.axvline(allowed, color=RED, lw=1.2, ls="--")
            axis.annotate(
                f"limit {comparison.limit_c:g} °C\nin a room of {rooms.mean():.1f} °C",
                (allowed, 0.5), xycoords=("data", "axes fraction"), xytext=(6, 0),
                textcoords="offset points", fontsize=9, color=RED,
            )  # fmt: skip
