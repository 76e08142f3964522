"""The effect of each factor, with intervals."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.comparing.effects import Effects
from gelassen.figures.canvas import BLUE, GREY, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def effects_figure(result: Effects, ax: "Axes | None" = None) -> "Axes":
    """Draw it on axes, new ones if none are given; return them."""
    axis = axes_or_new(ax)
    rows = result.main.to_dict("records")
    places = np.arange(len(rows))[::-1]
    for place, row in zip(places, rows, strict=True):
        colour = BLUE if row["distinguishable"] else GREY
        axis.plot(row["effect"], place, "o", color=colour)
        if np.isfinite(row["low"]):
            axis.plot([row["low"], row["high"]], [place] * 2, color=colour, lw=2)
    axis.axvline(0, color="black", lw=0.8)
    axis.set_yticks(
        places, [f"{r['factor']}: {r['level']}\ninstead of {r['versus']}" for r in rows], fontsize=9
    )
    axis.set_ylim(-0.6, len(rows) - 0.4)
    axis.set_xlabel(
        f"effect on the rise, K; lines: {100 * result.confidence:g} % interval; grey: cannot be "
        f"told from none"
    )
    axis.set_title("What each factor does, evenly over the others", fontsize=11)
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    return axis
