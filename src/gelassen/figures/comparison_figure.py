"""Setups side by side, sorted by rise."""

from collections.abc import Hashable
from pathlib import Path
from textwrap import shorten
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from gelassen.answers.comparison import StudyComparison
from gelassen.answers.rows.by_quantity import in_kelvin
from gelassen.answers.rows.run_row import BY_HAND
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import judged_words
from gelassen.figures.canvas import (
    BLUE,
    GREY,
    ORANGE,
    PURPLE,
    RED,
    axes_or_new,
    footer,
    literal_text,
    save,
    say_instead,
    study_footer,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_LABEL = 44  # letters of a setup's name
_MANY = 18  # setups, beyond which names are small
_MOST_PAIRS = 40


def comparison_figure(comparison: StudyComparison, path: Path) -> None:
    """Draw the setups and save the figure; see `setups`."""
    axis = setups(comparison)
    save(axis, path)


_LINE_PT = 13  # points: height of a line of words
_LATE = 0.85  # share of the axis beyond which words end at their line


@literal_text
def setups(comparison: StudyComparison, ax: "Axes | None" = None) -> "Axes":
    """Draw the setups sorted, with intervals, single runs, and the limit; return the axes."""
    table = comparison.setups
    axis = axes_or_new(ax)
    places = np.arange(len(table))[::-1]
    for place, row in zip(places, table.to_dict("records"), strict=True):
        _bar(axis, place, row, comparison)
    small = 7 if len(table) > _MANY else 10
    labels = [shorten(str(name), _LABEL, placeholder=" …") for name in table["setup"]]
    axis.set_yticks(places, labels, fontsize=small)
    largest = float(table["rise_k"].max())
    axis.set_xlim(0, largest * 1.32)
    lines = _limit_line(axis, comparison, largest)
    axis.set_xlabel(
        f"{_what(comparison)}; bars: mean, whiskers: {100 * comparison.confidence:g} % interval, ticks: "
        "single runs"
    )
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    made_up = f"   ({MADE_UP})" if comparison.made_up else ""
    baseline = f"; orange: baseline {comparison.baseline}" if comparison.baseline else ""
    order = "best first" if comparison.by is not None else "from cool to warm"
    axis.set_title(
        f"{comparison.title}: setups {order}{baseline}{made_up}",
        fontsize=11,
        pad=6 + _LINE_PT * lines,
    )
    name_below(axis, comparison, ax)
    return axis


@literal_text
def differences(comparison: StudyComparison, ax: "Axes | None" = None) -> "Axes":
    """Draw the differences of all setups to the baseline, or of all pairs, with their intervals."""
    axis = axes_or_new(ax)
    to, table = comparison.baseline, comparison.differences
    if table.empty:
        say_instead(axis, "There is one setup, and nothing to compare it with")
    if to is None and len(table) > _MOST_PAIRS:  # all pairs could not be read
        to = str(comparison.setups["setup"].iloc[0])
        table = _to_one(table, to)
    table = table.sort_values("difference", ascending=False)
    places = np.arange(len(table))
    for place, row in zip(places, table.to_dict("records"), strict=True):
        colour = BLUE if row["distinguishable"] else GREY
        ends = [row["difference"] - row["low"], row["high"] - row["difference"]]
        known = [[end if np.isfinite(end) else 0.0] for end in ends]
        axis.errorbar(
            row["difference"], place, xerr=known, fmt="o", color=colour, capsize=4, lw=1.6, ms=6
        )
        axis.annotate(
            f"{row['difference']:+.1f}  {row['verdict']}", (row["difference"], place), xytext=(0, 7),
            textcoords="offset points", ha="center", fontsize=8, color=colour,
        )  # fmt: skip
    names = [
        row["setup"] if to else f"{row['setup']} – {row['versus']}"
        for row in table.to_dict("records")
    ]
    axis.set_yticks(
        places, [shorten(str(name), _LABEL, placeholder=" …") for name in names],
        fontsize=7 if len(table) > _MANY else 10,
    )  # fmt: skip
    axis.axvline(0, color="black", lw=1)
    between = f"to {shorten(to, _LABEL, placeholder=' …')}" if to else "between setups"
    axis.set_xlabel(f"difference {between} in {comparison.unit}   ({ways(comparison)})")
    axis.set_ylim(-0.7, len(table) - 0.3)
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    made_up = f"   ({MADE_UP})" if comparison.made_up else ""
    axis.set_title(f"{comparison.title}: differences, grey: not told apart{made_up}", fontsize=11)
    name_below(axis, comparison, ax)
    return axis


def ways(comparison: StudyComparison) -> str:
    """Return which way of an axis is which."""
    rise = in_kelvin(comparison.by)
    return "cooler ←   → warmer" if rise else "less ←   → more"


def _to_one(pairs: pd.DataFrame, one: str) -> pd.DataFrame:
    """Return the pairs with one setup, each as the difference of the other to it."""
    first = pairs["setup"] == one
    turned = pairs.assign(
        setup=pairs["versus"], versus=pairs["setup"], difference=-pairs["difference"],
        low=-pairs["high"], high=-pairs["low"], verdict=pairs["verdict"].map(_turned),
    )  # fmt: skip
    return pd.concat([pairs[pairs["versus"] == one], turned[first]])


def _turned(verdict: str) -> str:
    """Return the verdict on the same difference the other way round."""
    for one, other in (("cooler", "warmer"), ("less", "more")):
        if verdict.endswith(one):
            return verdict.removesuffix(one) + other
        if verdict.endswith(other):
            return verdict.removesuffix(other) + one
    return verdict


def name_below(axis: "Axes", comparison: StudyComparison, given: "Axes | None") -> None:
    """Say below a figure of our own what it is made of."""
    if given is None:
        started, runs = comparison.runs["started"], len(comparison.runs)
        footer(axis, study_footer(comparison.title, started, runs, made_up=comparison.made_up))


def _what(comparison: StudyComparison) -> str:
    """Return what the bars are, and in which unit."""
    if comparison.by is not None and not comparison.by.is_rise:
        return f"{comparison.by.what} in {comparison.unit}"
    over = f"over {comparison.over} in K" if comparison.unit == "K" else f"in {comparison.unit}"
    what = "steady rise" if comparison.unit == "K" else "steady temperature"
    if comparison.by is not None:
        what = "rise" if comparison.unit == "K" else "temperature"
    part = judged_words(comparison.measured)
    part = part if part != BY_HAND else "temperature that was read"
    return f"{what} of the {part} {over}"


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


def _limit_line(axis: "Axes", comparison: StudyComparison, largest: float) -> int:
    """Draw what the limit and the tester's comfort line allow, where they are near; return how many."""
    near = [one for one in limit_lines(comparison) if one[1] < largest * 1.3]
    for number, (words, allowed, colour) in enumerate(near):
        axis.axvline(allowed, color=colour, lw=1.2, ls="--")
        # Above the frame, where no bar has its words.
        late = allowed > _LATE * axis.get_xlim()[1]
        axis.annotate(
            words.replace("\n", " "), (allowed, 1.0), xycoords=("data", "axes fraction"),
            xytext=(0, 4 + _LINE_PT * number), textcoords="offset points", fontsize=9, color=colour,
            ha="right" if late else "center",
        )  # fmt: skip
    return len(near)


def limit_lines(comparison: StudyComparison) -> list[tuple[str, float, str]]:
    """Return the limit and the comfort line: words, the value that they allow, colour."""
    rooms = comparison.runs["reference_c"].dropna()
    in_k = comparison.unit == "K"
    if (not in_k and comparison.unit != "°C") or (in_k and rooms.empty):
        return []
    room_c = float(rooms.mean()) if in_k else 0.0
    where = f"\nin a room of {room_c:.1f} °C" if in_k else ""
    lines = (("limit", comparison.limit_c, RED), ("comfort", comparison.comfort_c, PURPLE))
    return [
        (f"{name} {line_c:g} °C{where}", line_c - room_c, colour)
        for name, line_c, colour in lines
        if line_c is not None
    ]
