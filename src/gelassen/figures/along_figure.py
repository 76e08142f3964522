"""The rise along a scale, and where more stops paying."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.comparing.along.response import Response
from gelassen.figures.canvas import BLUE, ORANGE, axes_or_new, literal_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes


@literal_text
def along_figure(result: Response, ax: "Axes | None" = None) -> "Axes":
    """Draw it on axes, new ones if none are given; return them."""
    axis = axes_or_new(ax)
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
    for row in levels.itertuples():
        axis.annotate(
            f"{row.mean:.1f}",
            (row.x, row.mean),
            xytext=(6, 6),
            textcoords="offset points",
            fontsize=9,
        )
    axis.set_xlabel(result.name or "level")
    axis.set_ylabel("steady rise, K   (cooler ←   → warmer)")
    if axis.get_legend_handles_labels()[0]:
        axis.legend()
    axis.margins(x=0.08, y=0.12)
    axis.set_title(f"Steady rise along {result.name or 'the scale'}", fontsize=11)
    axis.grid(color="#dddddd", lw=0.6)
    return axis
