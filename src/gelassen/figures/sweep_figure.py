"""Fan speed over duty, as a sweep found it."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from gelassen.core.foundation.result import MADE_UP
from gelassen.core.probing.fan_sweep import FanSweep
from gelassen.figures.canvas import GREY, SERIES, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def sweep(found: Sequence[FanSweep], ax: "Axes | None" = None, *, made_up: bool = False) -> "Axes":
    """Draw speed over duty for each fan, where it stops, where it starts, and dead ranges.

    Parameters
    ----------
    found : sequence of FanSweep
        At least one fan.
    ax : Axes, optional
        Where to draw.
    made_up : bool
        Whether it is made-up data, which the title then says.
    """
    axis = axes_or_new(ax)
    axis.grid(color="#dddddd", lw=0.6)
    for k, one in enumerate(found):
        colour = SERIES[k % len(SERIES)]
        duties, speeds = one.turning
        axis.plot(
            duties, speeds, "o-", ms=4, color=colour, label=f"{one.fan}, driven by {one.duty}"
        )
        for low, high in one.dead_pct:
            inside = [(d, r) for d, r in zip(duties, speeds, strict=True) if low <= d <= high]
            axis.plot(*zip(*inside, strict=True), lw=7, alpha=0.3, color=colour)
        if one.stalls_pct is not None:
            axis.plot([one.stalls_pct], [0], "x", ms=9, mew=2, color=colour)
        if one.starts_pct is not None:
            axis.axvline(one.starts_pct, lw=1, ls=":", color=colour)
    axis.set(
        xlim=(-2, 102),
        ylim=(-0.03 * max(one.rpm[-1] for one in found), None),
        xlabel="duty, %",
        ylabel="fan speed, rpm",
    )
    axis.set_title(
        "Fan speed over duty (cross: it stops here; dotted: it starts here from standstill; "
        "broad: speed does not follow)" + (f"\n{MADE_UP}" if made_up else ""),
        fontsize=11,
    )
    axis.legend(loc="upper left", fontsize=9)
    if any(one.cautions for one in found):
        axis.annotate("a fan did not start again", (0.99, 0.02), xycoords="axes fraction",
                      ha="right", color=GREY)  # fmt: skip
    return axis
