"""Two goals against each other, and the setups that no other setup beats."""

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd
from scipy.optimize import isotonic_regression

from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.figures.canvas import BLUE, GREY, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_NAME_POINTS = 8.0  # size of a name
_LINE_POINTS = 11.0  # from one name to the next below it
_ALONE_POINTS = 9.0  # above its point, a name is clear of the line through the points
_LETTER_POINTS = 4.8  # width of a letter of that size, about


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
    front = result.table[result.table["unbeaten"]].sort_values("x")
    axis.plot(front["x"], front["y"], color=BLUE, lw=1, ls=":")
    axis.margins(x=0.2, y=0.15)
    _name_points(axis, result.table)
    if result.x_words:
        axis.set_xticks(range(1, len(result.x_words) + 1), result.x_words)
    axis.set_xlabel(result.x_name)
    axis.set_ylabel(result.y_name)
    axis.set_title(
        f"{result.y_name} against {result.x_name}; blue: nothing is better in both", fontsize=11
    )
    axis.grid(color="#dddddd", lw=0.6)
    return axis


def _name_points(axis: "Axes", table: pd.DataFrame) -> None:
    """Write the setups beside their points; names that would lie on each other are moved up or down.

    They are moved as little as can be, in the sense of least squares.
    """
    axis.autoscale_view()
    dots = axis.get_figure(root=True).dpi / 72  # type: ignore[union-attr]
    places = axis.transData.transform(table[["x", "y"]].to_numpy(dtype=float)) / dots
    moved = np.full(len(table), _ALONE_POINTS)
    order = np.argsort(places[:, 1], kind="stable")
    widths = _LETTER_POINTS * table["setup"].str.len().to_numpy()
    left = list(order)
    while left:  # one column of names after the other
        column = [k for k in left if abs(places[k, 0] - places[left[0], 0]) < widths[left[0]]]
        left = [k for k in left if k not in column]
        wanted = places[column, 1]
        steps = _LINE_POINTS * np.arange(len(column))
        if len(column) > 1:
            moved[column] = isotonic_regression(wanted - steps).x + steps - wanted
    for row, up in zip(table.to_dict("records"), moved, strict=True):
        line = {"arrowstyle": "-", "color": GREY, "lw": 0.4, "relpos": (0.0, 0.5)}
        alone = up == _ALONE_POINTS
        axis.annotate(
            row["setup"], (row["x"], row["y"]), xytext=(7 if alone else 16, up), va="center",
            textcoords="offset points", fontsize=_NAME_POINTS, color=BLUE if row["unbeaten"] else GREY,
            arrowprops=None if alone else line,
        )  # fmt: skip
