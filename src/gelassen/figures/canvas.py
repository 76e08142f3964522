"""What all figures share: size, colours, and saving without a screen."""

import warnings
from collections.abc import Callable, Iterable
from functools import wraps
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, ParamSpec, TypeVar, cast

from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import FileError
from gelassen.core.foundation.printable import printable
from gelassen.core.foundation.result import MADE_UP
from gelassen.system.files import replace_file

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

P = ParamSpec("P")
R = TypeVar("R")

# The palette of Okabe and Ito, which is distinguishable with every kind of colour vision.
BLUE, ORANGE, GREEN, RED = "#0072B2", "#E69F00", "#009E73", "#D55E00"
SKY, PURPLE, GREY = "#56B4E9", "#CC79A7", "#666666"
SERIES = (BLUE, ORANGE, GREEN, PURPLE, SKY, RED, GREY)  # in turn, for setups or runs
_FOOTER, _ABOVE_FOOTER = "footer", (0, 0.03, 1, 0.97)
_FOOTER_LINES = 2.2  # height of the footer, in letters of a legend
_SIZE, _DPI = (12.8, 8.0), 100


def literal_text(draw: Callable[P, R]) -> Callable[P, R]:
    """Make a drawing function show names as they are: a "$" in a name begins no formula."""

    @wraps(draw)
    def drawn(*arguments: P.args, **options: P.kwargs) -> R:
        from matplotlib import rc_context

        with rc_context({"text.parse_math": False}):
            return draw(*arguments, **options)

    return drawn


def new_figure(rows: int, heights: list[float]) -> tuple["Figure", list["Axes"]]:
    """Return a figure with lanes below each other that share the time axis."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=_SIZE, dpi=_DPI, layout="constrained")
    axes = figure.subplots(rows, 1, sharex=True, height_ratios=heights, squeeze=False)[:, 0]
    return figure, list(axes)


def side_by_side(count: int) -> tuple["Figure", list["Axes"]]:
    """Return a figure with panels beside each other that share what stands at their left."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=_SIZE, dpi=_DPI, layout="constrained")
    return figure, list(figure.subplots(1, count, sharey=True, squeeze=False)[0])


def axes_or_new(ax: "Axes | None") -> "Axes":
    """Return these axes, or those of a new figure."""
    return new_figure(1, [1.0])[1][0] if ax is None else ax


def footer(figure: "Figure | Axes", parts: Iterable[str]) -> None:
    """Say below a figure of our own what it is made of."""
    from matplotlib.axes import Axes

    whole = cast("Figure", figure.figure if isinstance(figure, Axes) else figure)
    words = "  ·  ".join(part for part in parts if part)
    for text in [text for text in whole.texts if text.get_gid() == _FOOTER]:
        text.remove()
    whole.text(
        0.995, 0.008, words, ha="right", fontsize=8, color=GREY, gid=_FOOTER, parse_math=False
    )
    if (layout := whole.get_layout_engine()) is not None:
        layout.set(rect=_ABOVE_FOOTER)  # type: ignore[call-arg]


def say_instead(axis: "Axes", words: str) -> None:
    """Say on empty axes why nothing is drawn."""
    axis.set_axis_off()
    axis.annotate(words, (0.5, 0.5), xycoords="axes fraction", ha="center")


def legend_below(figure: "Figure", axes: "Axes", columns: int) -> None:
    """Name what is drawn on these axes below the figure, where it takes no width from the curves."""
    handles, labels = axes.get_legend_handles_labels()
    if handles:
        figure.legend(
            handles, labels, loc="outside lower center", borderaxespad=_FOOTER_LINES, ncols=columns,
            fontsize=9, frameon=False,
        )  # fmt: skip


def study_footer(
    title: str, started: Iterable[object], runs: int, *, made_up: bool
) -> tuple[str, ...]:
    """Return what stands below a figure of a study: its title, how many runs, of which days, made up."""
    days = sorted({str(one)[:10] for one in started if isinstance(one, str)})
    span = "" if not days else days[0] if len(days) == 1 else f"{days[0]} to {days[-1]}"
    return title, counted(runs, "run"), span, MADE_UP if made_up else ""


def _make_printable(figure: "Figure") -> None:
    """Show control characters in names as their codes: an SVG with them would be no XML."""
    from matplotlib.text import Text
    from matplotlib.ticker import FixedFormatter

    for axes in figure.axes:
        for axis in (axes.xaxis, axes.yaxis):
            formatter = axis.get_major_formatter()
            if isinstance(formatter, FixedFormatter):
                formatter.seq = [printable(str(label)) for label in formatter.seq]
    for text in figure.findobj(Text):
        if isinstance(text, Text):
            text.set_text(printable(text.get_text()))


def save(figure: "Figure | Axes", path: Path) -> None:
    """Save a figure, or the one that axes belong to, as PNG, SVG or PDF; folders are made as needed.

    Raises
    ------
    FileError
        It cannot be written there.
    """
    from matplotlib.axes import Axes
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    figure = cast("Figure", figure.figure if isinstance(figure, Axes) else figure)
    FigureCanvasAgg(figure)
    form = path.suffix.lower().removeprefix(".")
    known = sorted(figure.canvas.get_supported_filetypes())
    if form not in known:
        raise FileError(f'{path}: "{path.suffix}" is no kind of picture ({", ".join(known)})')
    _make_printable(figure)
    picture = BytesIO()
    with warnings.catch_warnings():
        # A name may have letters that the font lacks; they become boxes.
        warnings.filterwarnings("ignore", message="Glyph .* missing")
        figure.savefig(picture, format=form)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        replace_file(path, picture.getvalue())
    except OSError as error:
        raise FileError(
            f"the figure cannot be written to {path} ({error.strerror or error})"
        ) from None
