"""Fan curves with where they settle, and cooling over fan speed."""

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np

from gelassen.answers.fans.curves import StudyCurves
from gelassen.core.fans.curve import parse_curve
from gelassen.figures.canvas import RED, SERIES, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_LABELS = 8  # operating points with words; with more they cover each other


def curve_figure(result: StudyCurves, ax: "Axes | None" = None) -> "Axes":
    """Draw the curves with their operating points; without a curve, cooling over fan speed."""
    axis = axes_or_new(ax)
    axis.grid(color="#dddddd", lw=0.6)
    if not len(result.points):
        return _resistance(result, axis)
    colours = {name: SERIES[k % len(SERIES)] for k, name in enumerate(result.pays_until)}
    left = float(result.points["low_c"].min()) - 15
    right = max(float(result.points["high_c"].max()) + 8, result.limit_c + 3)
    for row in result.curves.to_dict("records"):
        if ":" not in row["points"]:
            continue
        curve = replace(parse_curve(row["points"], row["curve"]), steps=bool(row["steps"]))
        temps = np.linspace(left, right, 400)
        # With hysteresis, a loop that cools down rests above its curve.
        band = f", hysteresis {row['hysteresis_k']:g} K" if row["hysteresis_k"] else ""
        axis.plot(
            temps, [curve.duty_at(t) for t in temps], color=colours[row["setup"]], lw=1.4,
            label=f"{row['setup']}: {row['curve']}{band}",
        )  # fmt: skip
    for (name, _, _), own in result.fixed.groupby(["setup", "power_w", "room_c"], sort=False):
        if name not in set(result.points["setup"]):
            continue
        axis.plot(own["temp_c"], own["duty_pct"], color=colours[name], lw=1, ls=":")
    few = len(result.points) <= _MOST_LABELS
    for row in result.points.to_dict("records"):
        axis.errorbar(
            row["temp_c"], row["duty_pct"],
            xerr=[[row["temp_c"] - row["low_c"]], [row["high_c"] - row["temp_c"]]],
            fmt="o" if row["hunting"] == "steady" else "X", color=colours[row["setup"]], capsize=3,
        )  # fmt: skip
        if few:
            axis.annotate(
                f"{row['power_w']:g} W, room {row['room_c']:g} °C\n{row['temp_c']:.1f} °C, "
                f"{row['rpm']:.0f} rpm",
                (row["temp_c"], row["duty_pct"]), xytext=(-8, 8), textcoords="offset points", fontsize=8,
                bbox={"boxstyle": "square,pad=0.1", "fc": "white", "ec": "none", "alpha": 0.8},
                ha="right", color=colours[row["setup"]],
            )  # fmt: skip
    axis.axvline(result.limit_c, color=RED, lw=1, ls="--")
    axis.annotate(f"limit {result.limit_c:g} °C", (result.limit_c, 1), rotation=90, fontsize=8,
                  ha="right", color=RED)  # fmt: skip
    axis.set(xlim=(left, right), ylim=(0, 105), xlabel="temperature, °C", ylabel="duty, %")
    axis.set_title(
        "Fan curves and where they settle (predicted; dotted: fixed duties; cross: the loop may hunt)",
        fontsize=11,
    )
    axis.legend(loc="upper left", fontsize=8)
    return axis


def _resistance(result: StudyCurves, axis: "Axes") -> "Axes":
    for k, (name, own) in enumerate(result.resistance.groupby("setup", sort=False)):
        colour = SERIES[k % len(SERIES)]
        axis.fill_between(own["rpm"], own["low"], own["high"], color=colour, alpha=0.2, lw=0)
        axis.plot(own["rpm"], own["k_per_w"], color=colour, label=str(name))
        runs = result.runs[result.runs["setup"] == name] if len(result.runs) else result.runs
        axis.plot(runs["rpm"], runs["measured_k"] / runs["power_w"], "o", ms=4, color=colour)
    axis.set(xlabel="fan speed, rpm", ylabel="rise per watt, K/W")
    axis.set_title(
        f"Cooling over fan speed at {result.power_w:g} W; dots: runs, at their own power",
        fontsize=11,
    )
    axis.legend(fontsize=9)
    return axis
