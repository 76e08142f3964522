"""`plot(result)`: the table of figures, one function for each kind of result.

A new figure is a function in a file of this folder, taking a result and axes, and a line in `FIGURES`.
"""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from gelassen.answers.capacities import StudyCapacity
from gelassen.answers.comparison import StudyComparison
from gelassen.answers.fans.curves import StudyCurves
from gelassen.answers.judged import StudyJudged
from gelassen.answers.loads import StudyLoads
from gelassen.core.comparing.along.response import Response
from gelassen.core.comparing.comparability import Comparability
from gelassen.core.comparing.effects import Effects
from gelassen.core.comparing.repeatability import Repeatability
from gelassen.core.comparing.tradeoff import Tradeoff
from gelassen.core.foundation.errors import InputError
from gelassen.figures.along_figure import along_figure
from gelassen.figures.canvas import footer, save
from gelassen.figures.capacity_figure import capacity_figure
from gelassen.figures.comparison_figure import differences, setups
from gelassen.figures.curve_figure import curve_figure
from gelassen.figures.effects_figure import effects_figure
from gelassen.figures.judged_figure import judged
from gelassen.figures.loads_figure import loads
from gelassen.figures.order_figure import order
from gelassen.figures.repeatability_figure import repeatability
from gelassen.figures.tradeoff_figure import tradeoff_figure
from gelassen.figures.unlike_figure import unlike

if TYPE_CHECKING:
    from matplotlib.axes import Axes

along, capacity, effects, tradeoff = along_figure, capacity_figure, effects_figure, tradeoff_figure

FIGURES: dict[type, Callable[..., Any]] = {
    StudyComparison: setups,
    StudyLoads: loads,
    StudyCapacity: capacity_figure,
    StudyCurves: curve_figure,
    StudyJudged: judged,
    Effects: effects_figure,
    Comparability: unlike,
    Repeatability: repeatability,
    Response: along_figure,
    Tradeoff: tradeoff_figure,
}


def plot(result: Any, ax: "Axes | None" = None) -> Any:
    """Draw a result on axes and return them; several judged temperatures are a figure.

    Parameters
    ----------
    result : StudyComparison, StudyLoads, StudyCapacity, StudyCurves, StudyJudged, Effects, Response,
        Tradeoff, Comparability or Repeatability
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
    return draw(result) if ax is None else draw(result, ax)


# Other figures of a comparison, by name.
OF_COMPARISON: dict[str, Callable[..., "Axes"]] = {
    "differences": differences,
    "order": order,
    "unlike": lambda found: unlike(found.comparability),
}


def save_plot(result: Any, path: Path, *, drawn: str = "setups", below: Sequence[str] = ()) -> None:
    """Draw a result and save it.

    Parameters
    ----------
    result, path
        What to draw, and where.
    drawn : str
        Of a comparison: "setups", or one of `OF_COMPARISON`.
    below : sequence of str
        What stands below it: which study it is of.

    Raises
    ------
    FileError
        It cannot be written there.
    InputError
        A comparison by another quantity than a temperature does not look for what differed.
    """
    of_comparison = isinstance(result, StudyComparison) and drawn != "setups"
    if of_comparison and drawn == "unlike" and result.comparability is None:
        raise InputError(
            "what differed besides the factors is only looked for where temperatures are compared"
        )
    figure = OF_COMPARISON[drawn](result) if of_comparison else plot(result)
    if below:
        footer(figure, below)
    save(figure, path)
