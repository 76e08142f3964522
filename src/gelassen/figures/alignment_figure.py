"""Two logs after their clocks were aligned, and how well the offset is known."""

from pathlib import Path

import numpy as np

from gelassen.core.changes.alignment import Alignment
from gelassen.core.foundation.inputs import Floats
from gelassen.core.recording.channels import parse_channel
from gelassen.figures.canvas import BLUE, GREY, ORANGE, literal_text, save

_SHOWN_S = 120.0


@literal_text
def alignment_figure(
    first: tuple[str, str, Floats, Floats],
    other: tuple[str, str, Floats, Floats],
    alignment: Alignment,
    path: Path,
    *,
    made_up: bool = False,
) -> None:
    """Draw the two channels that were matched, and the correlation over offsets.

    Parameters
    ----------
    first, other
        Name of the log, channel, times in s and readings; those of `other` by its own clock.
    """
    from matplotlib.figure import Figure

    figure = Figure(figsize=(12.8, 8.0), dpi=100, layout="constrained")
    above, below = figure.subplots(2, 1, height_ratios=[3, 2])
    name_a, channel_a, time_a, values_a = first
    name_b, channel_b, time_b, values_b = other
    where = "made-up sample data: " if made_up else ""
    figure.suptitle(
        f"{where}{name_b} laid beside {name_a}: {alignment.offset_s:+.1f} s "
        f"({alignment.low_s:+.1f} to {alignment.high_s:+.1f} s, 95 %)", fontsize=14,
    )  # fmt: skip
    above.plot(time_a / 60, values_a, color=BLUE, label=f"{name_a}: {channel_a}")
    above.set_ylabel(f"{channel_a}, {parse_channel(channel_a).symbol}", color=BLUE)
    right = above.twinx()
    right.plot(
        (time_b + alignment.offset_s) / 60,
        values_b,
        color=ORANGE,
        linestyle="--",
        label=f"{name_b}: {channel_b}",
    )
    right.set_ylabel(f"{channel_b}, {parse_channel(channel_b).symbol}", color=ORANGE)
    above.set_xlabel(f"time from the start of {name_a}, min")
    lines = [*above.get_lines(), *right.get_lines()]
    above.legend(
        lines,
        [str(line.get_label()) for line in lines],
        loc="upper center",
        bbox_to_anchor=(0.5, 1.08),
        ncols=2,
        frameon=False,
    )
    near = np.abs(alignment.lags_s - alignment.offset_s) <= max(
        _SHOWN_S, 5 * (alignment.high_s - alignment.low_s)
    )
    below.plot(alignment.lags_s[near], alignment.correlations[near], color=GREY)
    below.axvline(alignment.offset_s, color=BLUE)
    below.axvspan(
        alignment.low_s,
        alignment.high_s,
        color=BLUE,
        alpha=0.2,
        label="95 % interval of the offset",
    )
    below.set_xlabel(f"offset of {name_b}, s")
    below.set_ylabel("correlation of changes")
    below.legend(loc="upper right")
    save(figure, path)
