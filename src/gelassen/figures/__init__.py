"""One function a figure: each takes a result, and axes if you have some, and returns what it drew on.

``run`` and ``runs`` return a figure, as they need several axes; all others return Matplotlib axes. ``plot``
chooses by the kind of result.
"""

from typing import TYPE_CHECKING

from gelassen._lazy import loader, shown

if TYPE_CHECKING:
    from gelassen.figures.comparison_figure import differences, setups
    from gelassen.figures.loads_figure import loads
    from gelassen.figures.loop_figure import fan_loops, predictions
    from gelassen.figures.overlay_figure import runs
    from gelassen.figures.plots import along, capacity, effects, plot, tradeoff
    from gelassen.figures.run_figure import run
    from gelassen.figures.sweep_figure import sweep

__all__ = [
    "along",
    "capacity",
    "differences",
    "effects",
    "fan_loops",
    "loads",
    "plot",
    "predictions",
    "run",
    "runs",
    "setups",
    "sweep",
    "tradeoff",
]

__dir__ = shown(globals())
__getattr__ = loader(
    __name__,
    {
        "comparison_figure": ("differences", "setups"),
        "loads_figure": ("loads",),
        "loop_figure": ("fan_loops", "predictions"),
        "overlay_figure": ("runs",),
        "plots": ("along", "capacity", "effects", "plot", "tradeoff"),
        "run_figure": ("run",),
        "sweep_figure": ("sweep",),
    },
)
