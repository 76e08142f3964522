"""`plot(result)`: the table of figures, one function for each kind of result.

A new figure is a function in a file of this folder, taking a result and axes, and a line in `FIGURES`.
"""

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen.answers.capacities import StudyCapacity
from gelassen.answers.comparison import StudyComparison
from gelassen.answers.fans.curves import StudyCurves
from gelassen.answers.loads import StudyLoads
from gelassen.core.comparing.along.response import Response
from gelassen.core.comparing.effects import Effects
from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.figures.along_figure import along_figure
from gelassen.figures.canvas import save
from gelassen.figures.capacity_figure import capacity_figure
from gelassen.figures.comparison_figure import setups
from gelassen.figures.curve_figure import curve_figure
from gelassen.figures.effects_figure import effects_figure
from gelassen.figures.loads_figure import loads
from gelassen.figures.tradeoff_figure import tradeoff_figure

if TYPE_CHECKING:
    from matplotlib.axes import Axes

along, capacity, effects, tradeoff = along_figure, capacity_figure, effects_figure, tradeoff_figure

FIGURES: dict[type, Callable[..., "Axes"]] = {
    StudyComparison: setups,
    StudyLoads: loads,
    StudyCapacity: capacity_figure,
    StudyCurves: curve_figure,
    Effects: effects_figure,
    Response: along_figure,
    Tradeoff: tradeoff_figure,
}


def plot(result: Any, ax: "Axes | None" = None) -> "Axes":
    """Draw a result on axes and return them.

    Parameters
    ----------
    result : StudyComparison, StudyLoads, StudyCapacity, Effects, Response or Tradeoff
        What a study answered.
    ax : matplotlib Axes, optional
        Where to draw; a new figure of 1280 by 800 if not given.

    Raises
    ------
    TypeError
        There is no figure for such a result.
    """
    draw = FIGURES.get(type(result))
    if draw is None:
        raise TypeError(f"there is no figure for a {type(result).__name__}")
    return draw(result, ax)


def save_plot(result: Any, path: Path, *, about: str = "") -> None:
    """Draw a result and save it; `about` says above it which study it is of."""
    from matplotlib import rc_context

    with rc_context({"text.parse_math": False}):
        axis = plot(result)
        if about:
            axis.set_title(f"{about}\n{axis.get_title()}", fontsize=11)
        save(axis, path)
