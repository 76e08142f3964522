"""What differed between runs and setups besides the factors, and about what that did."""

from textwrap import fill
from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.comparing.comparability import Comparability
from gelassen.figures.canvas import GREY, ORANGE, axes_or_new, literal_text, say_instead

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_LABEL = 62  # letters in a line
_MOST_ROWS = 16


@literal_text
def unlike(result: Comparability, ax: "Axes | None" = None) -> "Axes":
    """Draw by how much each unlike condition moved a temperature, where that is known; return the axes."""
    axis = axes_or_new(ax)
    pairs = result.pairs[~result.pairs["expected"].astype(bool)]
    said = [*zip(result.odd_runs["words"], result.odd_runs["pushes_k"], strict=True),
            *zip(pairs["what"], pairs["pushes_k"], strict=True)]  # fmt: skip
    said.sort(key=lambda one: -abs(one[1]) if np.isfinite(one[1]) else 0.0)
    left, said = len(said) - _MOST_ROWS, said[:_MOST_ROWS]
    for place, (_, pushes) in zip(range(len(said))[::-1], said, strict=True):
        known = bool(np.isfinite(pushes))
        axis.barh(place, pushes if known else 0.0, color=ORANGE, height=0.55)
        axis.annotate(
            f"{pushes:+.1f} K" if known else "no rule says", (pushes if known else 0.0, place),
            xytext=(6 if not known or pushes >= 0 else -6, 0), textcoords="offset points", va="center",
            ha="left" if not known or pushes >= 0 else "right", color="black" if known else GREY,
        )  # fmt: skip
    if not said:
        say_instead(axis, "Nothing differed beyond its own scatter")
        return axis
    axis.set_yticks(range(len(said))[::-1], [fill(words, _LABEL) for words, _ in said], fontsize=8)
    axis.axvline(0, color="black", lw=1)
    axis.margins(x=0.25)
    axis.set_xlabel("about what that did, K   (made it look cooler ←   → warmer)")
    more = f", and {left} more" if left > 0 else ""
    axis.set_title(f"What differed besides the factors{more}", fontsize=11)
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    return axis
