"""The effect of each factor, with intervals."""

from collections.abc import Hashable
from textwrap import shorten
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from gelassen.core.comparing.effects import Effects
from gelassen.figures.canvas import BLUE, GREY, ORANGE, axes_or_new, literal_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes


# How far an arrow for an open end reaches, as a share of the range of the effects.
_OPEN_SHARE = 0.06
_MOST_ROWS = 30
_MOST_NAMES = 8  # combinations: names of more would overlap
_MANY = 10  # effects, beyond which each has one small line
_LABEL = 34  # letters of a combination


@literal_text
def effects_figure(result: Effects, ax: "Axes | None" = None) -> "Axes":
    """Draw each effect with its interval, and what it is at each combination of the other factors."""
    axis = axes_or_new(ax)
    shown = _shown(result.main)
    rows = shown.to_dict("records")
    places = np.arange(len(rows))[::-1]
    reach = _OPEN_SHARE * float(np.ptp([*shown["effect"], 0.0]))
    single = result.conditional
    for place, row in zip(places, rows, strict=True):
        colour = BLUE if row["distinguishable"] else GREY
        axis.plot(row["effect"], place, "o", color=colour, ms=8)
        _interval(axis, row, float(place), colour, reach)
        axis.annotate(
            f"{row['effect']:+.1f}", (row["effect"], place), xytext=(0, 8), textcoords="offset points",
            ha="center", fontsize=9, color=colour,
        )  # fmt: skip
        same = single[["factor", "level", "versus"]] == [row["factor"], row["level"], row["versus"]]
        _combinations(axis, single[same.all(axis=1)], float(place))
    axis.axvline(0, color="black", lw=0.8)
    axis.set_yticks(
        places, [_named(row, len(rows)) for row in rows], fontsize=9 if len(rows) <= _MANY else 7
    )
    axis.set_ylim(-0.9, len(rows) - 0.6)
    axis.set_xlabel("effect on the rise, K   (cooler ←   → warmer)")
    left = len(result.main) - len(rows)
    several = f"\n{left} more are not drawn" if left else ""
    several += "\nsmall: at one combination of the others" * bool(len(single))
    axis.set_title(
        f"What each factor does: mean and {100 * result.confidence:g} % interval; arrow: or more; grey: "
        f"cannot be told from none{several}",
        fontsize=11,
    )
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    return axis


def _named(row: dict[Hashable, Any], count: int) -> str:
    """Return what an effect is of, on one line where there are many."""
    level, versus = (
        shorten(str(row[key]), _LABEL, placeholder=" …") for key in ("level", "versus")
    )
    between = "\n" if count <= _MANY else " "
    return f"{row['factor']}: {level}{between}instead of {versus}"


def _shown(main: pd.DataFrame) -> pd.DataFrame:
    """Return the effects that one figure can show: of many, those against one level of each factor."""
    if len(main) <= _MOST_ROWS:
        return main
    first = main.groupby("factor")["versus"].transform("first")
    return main[main["versus"] == first].head(_MOST_ROWS)


def _combinations(axis: "Axes", rows: pd.DataFrame, place: float) -> None:
    """Draw the effect at each combination of the other factors, on a line of its own below the mean."""
    step = 0.62 / max(len(rows), 1)
    for k, row in enumerate(rows.sort_values("effect").to_dict("records")):
        mark = ">" if np.isinf(row["high"]) else "<" if np.isinf(row["low"]) else "o"
        y = place - 0.14 - k * step
        axis.plot(row["effect"], y, mark, color=ORANGE, ms=4.5)
        if len(rows) <= _MOST_NAMES:
            axis.annotate(
                shorten(row["where"], _LABEL, placeholder=" …"), (row["effect"], y), xytext=(6, 0),
                textcoords="offset points", va="center", fontsize=7, color=GREY,
            )  # fmt: skip


def _interval(
    axis: "Axes", row: dict[Hashable, Any], place: float, colour: str, reach: float
) -> None:
    """Draw the interval of an effect; an open end is an arrow."""
    if not np.isfinite([row["low"], row["high"]]).any():
        return
    low = row["low"] if np.isfinite(row["low"]) else row["least"] - reach
    high = row["high"] if np.isfinite(row["high"]) else row["most"] + reach
    axis.plot([low, high], [place] * 2, color=colour, lw=2)
    if np.isinf(row["low"]):
        axis.plot(low, place, "<", color=colour)
    if np.isinf(row["high"]):
        axis.plot(high, place, ">", color=colour)
