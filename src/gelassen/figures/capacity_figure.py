"""Capacities: rise over power, the limit, and the interval of each capacity."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.answers.capacities import StudyCapacity
from gelassen.core.foundation.result import MADE_UP
from gelassen.figures.canvas import RED, SERIES, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MARKS = "osD^vP*"


def capacity_figure(result: StudyCapacity, ax: "Axes | None" = None) -> "Axes":
    """Draw it on axes, new ones if none are given; return them."""
    axis = axes_or_new(ax)
    allowed = result.limit_c - result.room_c
    ends = [1.12 * x for x in result.setups["capacity_w"] if np.isfinite(x)]
    # An interval is shown whole, unless it is so long that the rest would be squeezed.
    ends += [
        min(1.04 * high, 1.5 * max(ends)) for high in result.setups["high_w"] if np.isfinite(high)
    ]
    top = max([*ends, 1.12 * float(result.points["power_w"].max())])
    for k, row in enumerate(result.setups.to_dict("records")):
        colour, mark = SERIES[k % len(SERIES)], _MARKS[k % len(_MARKS)]
        points = result.points[result.points["setup"] == row["setup"]]
        free, held = points[~points["throttled"]], points[points["throttled"]]
        span = ""
        if np.isfinite(row["low_w"]) and np.isfinite(row["high_w"]):
            span = f": {row['capacity_w']:.0f} W ({row['low_w']:.0f} to {row['high_w']:.0f})"
        axis.plot(
            free["power_w"], free["rise_k"], mark, color=colour, ms=6, label=f"{row['setup']}{span}"
        )
        axis.plot(held["power_w"], held["rise_k"], mark, color=colour, ms=7, mfc="white")
        if span:
            answer = result.answers[str(row["setup"])]
            axis.plot(answer.course_power_w, answer.course_rise_k, color=colour, lw=1, alpha=0.7)
            axis.plot(
                [row["low_w"], row["high_w"]],
                [allowed] * 2,
                color=colour,
                lw=4,
                alpha=0.6,
                solid_capstyle="butt",
            )
    axis.axhline(allowed, color=RED, lw=1.2, ls="--")
    axis.annotate(
        f"limit {result.limit_c:g} °C in a room of {result.room_c:g} °C", (0.01, allowed),
        xycoords=("axes fraction", "data"),
        xytext=(0, 5), textcoords="offset points", color=RED, fontsize=9,
    )  # fmt: skip
    axis.set_xlim(0, top)
    axis.set_ylim(0, 1.15 * max(allowed, float(result.points["rise_k"].max())))
    axis.set_xlabel("power, W   (thick: interval of the capacity; hollow: held back by heat)")
    axis.set_ylabel("steady rise over the room, K")
    axis.legend(loc="lower right", fontsize=9)
    axis.set_title(
        f"{result.title}: power sustained below the limit"
        + (f"   ({MADE_UP})" if result.made_up else ""),
        fontsize=11,
    )
    return axis
