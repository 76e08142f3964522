"""The temperature of each core over time, as a map."""

from typing import TYPE_CHECKING

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.recording import Recording
from gelassen.figures.canvas import axes_or_new, footer, literal_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_MOST_COLUMNS = 1200  # a column a pixel: of a longer run, each column is the highest of its moments


@literal_text
def cores(recording: Recording, ax: "Axes | None" = None) -> "Axes":
    """Draw a row for each core and a column for each moment; return the axes.

    Raises
    ------
    InputError
        No core's temperature was logged.
    """
    names = core_channels(recording.frame)
    if not names:
        raise InputError(
            f"{recording.name or 'this run'}: no temperature of a single core was logged"
        )
    axis = axes_or_new(ax)
    values = recording.frame[names].to_numpy(dtype=float)
    minutes = recording.frame.index.to_numpy(dtype=float) / 60
    starts = np.unique(np.linspace(0, len(values), _MOST_COLUMNS, endpoint=False).astype(int))
    shown = np.fmax.reduceat(values, starts, axis=0)
    ends = np.append(
        minutes[starts], minutes[-1] + (minutes[-1] - minutes[0]) / max(len(minutes) - 1, 1)
    )
    mesh = axis.pcolormesh(ends, np.arange(len(names) + 1), shown.T, cmap="cividis")
    axis.figure.colorbar(mesh, ax=axis, label="temperature, °C", pad=0.01)
    labels = [name.split(".")[1].replace("core", "core ") for name in names]
    every = max(1, len(names) // 32)
    axis.set_yticks(np.arange(len(names))[::every] + 0.5, labels[::every], fontsize=9)
    axis.invert_yaxis()
    axis.set_xlabel("time since the start of the recording in min")
    axis.set_title(f"{recording.setup or recording.name}: each core over time", fontsize=11)
    if ax is None:
        day = "" if recording.started is None else f"{recording.started:%Y-%m-%d}"
        footer(axis, (recording.name, day, MADE_UP if recording.made_up else ""))
    return axis
