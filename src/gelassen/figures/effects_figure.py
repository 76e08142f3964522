"""The effect of each factor, with intervals."""

from collections.abc import Hashable
from typing import TYPE_CHECKING, Any

import numpy as np

from gelassen.core.comparing.effects import Effects
from gelassen.figures.canvas import BLUE, GREY, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes


# How far an arrow for an open end reaches, as a share of the range of the effects.
_OPEN_SHARE = 0.06


def effects_figure(result: Effects, ax: "Axes | None" = None) -> "Axes":
    """Draw it on axes, new ones if none are given; return them."""
    axis = axes_or_new(ax)
    rows = result.main.to_dict("records")
    places = np.arange(len(rows))[::-1]
    reach = _OPEN_SHARE * float(np.ptp([*result.main["effect"], 0.0]))
    for place, row in zip(places, rows, strict=True):
        colour = BLUE if row["distinguishable"] else GREY
        axis.plot(row["effect"], place, "o", color=colour)
        _interval(axis, row, float(place), colour, reach)
    axis.axvline(0, color="black", lw=0.8)
    axis.set_yticks(
        places, [f"{r['factor']}: {r['level']}\ninstead of {r['versus']}" for r in rows], fontsize=9
    )
    axis.set_ylim(-0.6, len(rows) - 0.4)
    axis.set_xlabel(
        f"effect on the rise, K; lines: {100 * result.confidence:g} % interval, over all combinations "
        f"where it depends on them; arrow: or more; grey: cannot be told from none"
    )
    axis.set_title("What each factor does, evenly over the others", fontsize=11)
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    return axis


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
