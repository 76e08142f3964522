"""The setups by each judged temperature, side by side."""

from textwrap import shorten
from typing import TYPE_CHECKING

import numpy as np

from gelassen.answers.comparison import StudyComparison
from gelassen.answers.judged import StudyJudged
from gelassen.core.foundation.counted import counted
from gelassen.core.recording.channel_words import judged_words
from gelassen.figures.canvas import BLUE, RED, footer, literal_text, side_by_side, study_footer

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LABEL = 30  # letters of a setup's name
_LABELLED = 3  # panels that are wide enough for a label each
_WAYS = "(cooler ←   → warmer)"


@literal_text
def judged(result: StudyJudged) -> "Figure":
    """Draw one panel for each judged temperature, with the same setups below each other in all of them."""
    names = list(
        dict.fromkeys(
            str(name) for found in result.comparisons.values() for name in found.setups["setup"]
        )
    )
    figure, axes = side_by_side(len(result.comparisons))
    for axis, (channel, found) in zip(axes, result.comparisons.items(), strict=True):
        _panel(axis, found, names)
        axis.set_title(judged_words(channel), fontsize=11)
    shown = [_shown(found) for found in result.comparisons.values()]
    if len(set(shown)) == 1 and len(axes) > _LABELLED:
        # Said once: labels beside each other would overlap.
        axes[len(axes) // 2].set_xlabel(f"{shown[0]}   {_WAYS}")
    else:
        for axis, what in zip(axes, shown, strict=True):
            axis.set_xlabel(f"{what}\n{_WAYS}")
    axes[0].set_yticks(
        np.arange(len(names))[::-1],
        [shorten(name, _LABEL, placeholder=" …") for name in names],
        fontsize=7 if len(names) > 18 else 10,
    )
    against = len(result.conflicts)
    figure.suptitle(
        "Each judged temperature; setups that share a letter are not told apart"
        + (f"; {counted(against, 'pair')} cooler by one and warmer by another" if against else ""),
        fontsize=11,
    )
    runs = next(iter(result.comparisons.values())).runs
    footer(figure, study_footer(result.title, runs["started"], len(runs), made_up=result.made_up))
    return figure


def _panel(axis: "Axes", found: StudyComparison, names: list[str]) -> None:
    """Draw the setups by one temperature: means, intervals, and the limit of that part."""
    rows = found.setups.set_index("setup")
    for place, name in zip(np.arange(len(names))[::-1], names, strict=True):
        if name not in rows.index:
            axis.annotate("not read", (0.02, place), xycoords=("axes fraction", "data"), fontsize=8)
            continue
        row = rows.loc[name]
        colour = RED if row["at_limit"] else BLUE
        ends = [row["rise_k"] - row["low_k"], row["high_k"] - row["rise_k"]]
        axis.errorbar(
            row["rise_k"], place, xerr=[[end if np.isfinite(end) else 0.0] for end in ends],
            fmt="o", color=colour, capsize=3,
        )  # fmt: skip
        more = " or more" if row["at_limit"] else ""
        axis.annotate(
            f"{row['rise_k']:.1f}{more}  {row['group']}", (row["rise_k"], place), xytext=(0, 7),
            textcoords="offset points", ha="center", fontsize=8, color=colour,
        )  # fmt: skip
    axis.margins(x=0.25)
    axis.set_ylim(-0.6, len(names) - 0.4)
    axis.grid(axis="x", color="#dddddd", lw=0.6)


def _shown(found: StudyComparison) -> str:
    """Return what the axis shows."""
    return f"rise over {found.over}, K" if found.unit == "K" else "temperature, °C"
