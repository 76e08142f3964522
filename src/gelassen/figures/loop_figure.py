"""Fan loops in time, and predictions beside what was measured."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.answers.fans.curves import StudyCurves
from gelassen.core.foundation.result import MADE_UP
from gelassen.figures.canvas import GREY, RED, SERIES, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST = 6  # courses that can be told from each other
_MINUTE_S = 60.0


def fan_loops(result: StudyCurves, ax: "Axes | None" = None) -> "Axes":
    """Draw how each loop goes from the start of the load: temperature in time, as predicted.

    Parameters
    ----------
    result : StudyCurves
        With at least one curve; the first six loops are drawn.
    ax : Axes, optional
        Where to draw.

    Raises
    ------
    ValueError
        There is no curve.
    """
    if not len(result.courses):
        raise ValueError("there is no curve whose loop could be drawn")
    axis = axes_or_new(ax)
    axis.grid(color="#dddddd", lw=0.6)
    keys = ["setup", "curve", "power_w", "room_c"]
    hunts = result.points.set_index(keys)["hunting"].to_dict()
    for place, (key, own) in enumerate(result.courses.groupby(keys, sort=False)):
        if place == _MOST:
            axis.annotate(
                f"and {result.courses.groupby(keys).ngroups - _MOST} more", (0.99, 0.02),
                xycoords="axes fraction", ha="right", color=GREY,
            )  # fmt: skip
            break
        setup, curve, power_w, room_c = key
        verdict = hunts.get(key, "steady")
        axis.plot(
            own["elapsed_s"] / _MINUTE_S, own["temp_c"], lw=1.4, color=SERIES[place % len(SERIES)],
            ls="-" if verdict == "steady" else "--",
            label=f"{setup}: {curve}, {power_w:g} W, room {room_c:g} °C: {verdict}",
        )  # fmt: skip
    axis.axhline(result.limit_c, color=RED, lw=1, ls=":")
    axis.annotate(f"limit {result.limit_c:g} °C", (0, result.limit_c), va="bottom", color=RED)
    axis.set(xlabel="minutes from the start of the load", ylabel="temperature, °C")
    title = "Fan loops in time (predicted; dashed: the loop hunts, or may)"
    axis.set_title(title + _made_up(result), fontsize=11)
    axis.legend(loc="lower right", fontsize=9)
    return axis


def predictions(result: StudyCurves, ax: "Axes | None" = None) -> "Axes":
    """Draw each run beside what the other runs predict for it.

    Parameters
    ----------
    result : StudyCurves
        With at least one run that the others predict.
    ax : Axes, optional
        Where to draw.

    Raises
    ------
    ValueError
        No run is predicted by others.
    """
    if not len(result.runs):
        raise ValueError("no run is predicted by others: at least three are needed")
    axis = axes_or_new(ax)
    axis.grid(color="#dddddd", lw=0.6)
    runs = result.runs
    reach = np.array([runs["low_k"].min(), runs["high_k"].max(), *runs["measured_k"]])
    ends = (float(reach.min()) - 1, float(reach.max()) + 1)
    axis.plot(ends, ends, color=GREY, lw=1, label="predicted as measured")
    for place, (setup, own) in enumerate(runs.groupby("setup", sort=False)):
        colour = SERIES[place % len(SERIES)]
        error = [own["predicted_k"] - own["low_k"], own["high_k"] - own["predicted_k"]]
        axis.errorbar(
            own["measured_k"], own["predicted_k"], yerr=error, fmt="o", capsize=3, color=colour,
            label=f"{setup}: {int(own['inside'].sum())} of {len(own)} within their interval",
        )  # fmt: skip
    axis.set(xlim=ends, ylim=ends, xlabel="measured rise, K", ylabel="predicted from the others, K")
    title = f"Predictions beside measurements ({100 * result.confidence:g} % intervals)"
    axis.set_title(title + _made_up(result), fontsize=11)
    axis.legend(loc="upper left", fontsize=9)
    return axis


def _made_up(result: StudyCurves) -> str:
    return f"   ({MADE_UP})" if result.made_up else ""
