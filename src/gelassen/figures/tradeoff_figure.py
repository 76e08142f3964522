"""Two goals against each other, and the setups that no other setup beats."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.figures.canvas import BLUE, GREY, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def tradeoff_figure(result: Tradeoff, ax: "Axes | None" = None) -> "Axes":
    """Draw it on axes, new ones if none are given; return them."""
    axis = axes_or_new(ax)
    for row in result.table.to_dict("records"):
        colour = BLUE if row["unbeaten"] else GREY
        high = row["y_high"] if np.isfinite(row["y_high"]) else row["y"]
        axis.errorbar(
            row["x"],
            row["y"],
            yerr=[[max(row["y"] - row["y_low"], 0)], [max(high - row["y"], 0)]],
            fmt="o",
            color=colour,
            capsize=3,
        )
        axis.annotate(
            row["setup"],
            (row["x"], row["y"]),
            xytext=(7, 5),
            textcoords="offset points",
            fontsize=8,
            color=colour,
        )
    front = result.table[result.table["unbeaten"]].sort_values("x")
    axis.plot(front["x"], front["y"], color=BLUE, lw=1, ls=":")
    axis.margins(x=0.2, y=0.15)
    if result.x_words:
        axis.set_xticks(range(1, len(result.x_words) + 1), result.x_words)
    axis.set_xlabel(result.x_name)
    axis.set_ylabel(result.y_name)
    axis.set_title(
        f"{result.y_name} against {result.x_name}; blue: nothing is better in both", fontsize=11
    )
    axis.grid(color="#dddddd", lw=0.6)
    return axis
