"""What runs of one setup scatter by, and which part of it is remounting."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.comparing.repeatability import Repeatability
from gelassen.core.foundation.counted import counted
from gelassen.figures.canvas import BLUE, GREY, axes_or_new

if TYPE_CHECKING:
    from matplotlib.axes import Axes


def repeatability(result: Repeatability, ax: "Axes | None" = None) -> "Axes":
    """Draw the scatter and its parts as standard deviations; return the axes."""
    axis = axes_or_new(ax)
    parts = {
        "all together": result.total, "within one mounting": result.same_mount,
        "what remounting adds": result.remount, "what another day adds": result.day,
    }  # fmt: skip
    for place, (name, size) in zip(range(len(parts))[::-1], parts.items(), strict=True):
        if not np.isfinite(size):
            axis.annotate("these runs cannot tell", (0, place), xytext=(6, 0),
                          textcoords="offset points", va="center", color=GREY)  # fmt: skip
            continue
        whole = name == "all together"
        axis.barh(place, size, color=BLUE, alpha=0.8 if whole else 0.4, height=0.5)
        end = size
        if whole and np.isfinite([result.low, result.high]).all():
            ends = [[size - result.low], [result.high - size]]
            axis.errorbar(size, place, xerr=ends, fmt="none", color="black", capsize=4)
            end = result.high
        axis.annotate(
            f"{size:.2f} K", (end, place), xytext=(6, 0), textcoords="offset points", va="center"
        )
    axis.set_yticks(range(len(parts))[::-1], list(parts))
    axis.set_ylim(-0.6, len(parts) - 0.4)
    largest = np.nanmax([*parts.values(), result.high if np.isfinite(result.high) else 0.0])
    axis.set_xlim(0, 1.2 * float(largest) if largest > 0 else 1.0)
    axis.set_xlabel("standard deviation between runs of one setup, K   (whiskers: interval)")
    axis.set_title(
        f"How much runs scatter: {counted(result.runs, 'run')} of {counted(result.setups, 'setup')}",
        fontsize=11,
    )
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    return axis
