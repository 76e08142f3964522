"""One function a figure: each takes a result, and axes if you have some, and returns what it drew on.

``run``, ``runs`` and ``judged`` return a figure, as they need several axes; all others return Matplotlib
axes. ``plot`` chooses by the kind of result.
"""

from typing import TYPE_CHECKING

from gelassen._lazy import loader, shown

if TYPE_CHECKING:
    from gelassen.figures.comparison_figure import differences, setups
    from gelassen.figures.cores_figure import cores
    from gelassen.figures.judged_figure import judged
    from gelassen.figures.loads_figure import loads
    from gelassen.figures.loop_figure import fan_loops, predictions
    from gelassen.figures.order_figure import order
    from gelassen.figures.overlay_figure import runs
    from gelassen.figures.plots import along, capacity, effects, plot, tradeoff
    from gelassen.figures.repeatability_figure import repeatability
    from gelassen.figures.run_figure import run
    from gelassen.figures.sweep_figure import sweep
    from gelassen.figures.unlike_figure import unlike

__all__ = [
    "along",
    "capacity",
    "cores",
    "differences",
    "effects",
    "fan_loops",
    "judged",
    "loads",
    "order",
    "plot",
    "predictions",
    "repeatability",
    "run",
    "runs",
    "setups",
    "sweep",
    "tradeoff",
    "unlike",
]

__dir__ = shown(globals())
__getattr__ = loader(
    __name__,
    {
        "comparison_figure": ("differences", "setups"),
        "cores_figure": ("cores",),
        "judged_figure": ("judged",),
        "loads_figure": ("loads",),
        "loop_figure": ("fan_loops", "predictions"),
        "order_figure": ("order",),
        "overlay_figure": ("runs",),
        "plots": ("along", "capacity", "effects", "plot", "tradeoff"),
        "repeatability_figure": ("repeatability",),
        "run_figure": ("run",),
        "sweep_figure": ("sweep",),
        "unlike_figure": ("unlike",),
    },
)
