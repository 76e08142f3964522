"""`plot(result)`: one figure for each kind of result, on axes of your own or new ones."""

from functools import singledispatch
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from gelassen.answers.capacities import StudyCapacity
from gelassen.core.comparing.effects import Effects
from gelassen.core.comparing.response import Response
from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.core.foundation.result import MADE_UP
from gelassen.figures.canvas import BLUE, GREEN, GREY, ORANGE, PURPLE, RED, SKY, new_figure, save

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_COLOURS = (BLUE, ORANGE, GREEN, PURPLE, SKY, RED, GREY)
_MARKS = "osD^vP*"


@singledispatch
def plot(result: Any, ax: "Axes | None" = None) -> "Axes":
    """Draw a result on axes and return them.

    Parameters
    ----------
    result : StudyCapacity, Effects, Response or Tradeoff
        What a study answered.
    ax : matplotlib Axes, optional
        Where to draw; a new figure of 1280 by 800 if not given.

    Raises
    ------
    TypeError
        There is no figure for such a result.
    """
    raise TypeError(f"there is no figure for a {type(result).__name__}")


def _axes(ax: "Axes | None") -> "Axes":
    return new_figure(1, [1.0])[1][0] if ax is None else ax


@plot.register(StudyCapacity)
def _(result: StudyCapacity, ax: "Axes | None" = None) -> "Axes":
    axis = _axes(ax)
    allowed = result.limit_c - result.room_c
    ends = [1.12 * x for x in result.setups["capacity_w"] if np.isfinite(x)]
    # An interval is shown whole, unless it is so long that the rest would be squeezed.
    ends += [
        min(1.04 * high, 1.5 * max(ends)) for high in result.setups["high_w"] if np.isfinite(high)
    ]
    top = max([*ends, 1.12 * float(result.points["power_w"].max())])
    for k, row in enumerate(result.setups.to_dict("records")):
        colour, mark = _COLOURS[k % len(_COLOURS)], _MARKS[k % len(_MARKS)]
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


@plot.register(Effects)
def _(result: Effects, ax: "Axes | None" = None) -> "Axes":
    axis = _axes(ax)
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


@plot.register(Response)
def _(result: Response, ax: "Axes | None" = None) -> "Axes":
    axis = _axes(ax)
    levels = result.levels
    axis.plot(levels["x"], levels["mean"], "o-", color=BLUE)
    if np.isfinite(levels["low"]).all():
        axis.fill_between(
            levels["x"],
            levels["low"],
            levels["high"],
            color=BLUE,
            alpha=0.2,
            label=f"{100 * result.confidence:g} % interval",
        )
    if result.stops_paying_at is not None:
        axis.axvline(
            result.stops_paying_at,
            color=ORANGE,
            ls="--",
            label="beyond this no step is known to pay",
        )
    axis.set_xlabel("level")
    axis.set_ylabel("steady rise, K")
    if axis.get_legend_handles_labels()[0]:
        axis.legend()
    axis.set_title("Along the scale", fontsize=11)
    axis.grid(color="#dddddd", lw=0.6)
    return axis


@plot.register(Tradeoff)
def _(result: Tradeoff, ax: "Axes | None" = None) -> "Axes":
    axis = _axes(ax)
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
    axis.set_xlabel(result.x_name)
    axis.set_ylabel(result.y_name)
    axis.set_title(
        f"{result.y_name} against {result.x_name}; blue: nothing is better in both", fontsize=11
    )
    axis.grid(color="#dddddd", lw=0.6)
    return axis


def save_plot(result: Any, path: Path, *, about: str = "") -> None:
    """Draw a result and save it; `about` says above it which study it is of."""
    from matplotlib import rc_context

    with rc_context({"text.parse_math": False}):
        axis = plot(result)
        if about:
            axis.set_title(f"{about}\n{axis.get_title()}", fontsize=11)
        save(axis.figure, path)  # type: ignore[arg-type]
