"""Two or more runs over each other, from the start of their loads."""

from collections.abc import Sequence
from textwrap import shorten
from typing import TYPE_CHECKING

from gelassen.answers.traces import run_traces
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.recording import Recording
from gelassen.figures.canvas import GREY, SERIES, footer, legend_below, literal_text, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_LABEL = 40  # letters of a run's name


@literal_text
def runs(recordings: Sequence[Recording]) -> "Figure":
    """Draw hottest core, clock and power of several runs, each counted from the start of its load."""
    found = [(one, run_traces(one)) for one in recordings]
    wanted = [("°C", ("hottest core", "processor")), ("MHz", ("clock",)), ("W", ("processor",))]
    lanes = []
    for unit, labels in wanted:
        series = []
        for number, (_, traces) in enumerate(found):
            own = [t for t in traces.traces if t.unit == unit and t.label in labels]
            if own:
                series.append((number, own[0]))
        if series:
            lanes.append((unit, series))
    figure, axes = new_figure(max(len(lanes), 1), [2.5, 1.0, 1.0][: max(len(lanes), 1)])
    for axis, (unit, series) in zip(axes, lanes, strict=False):
        for number, trace in series:
            one = found[number][1]
            name = f"{one.run.split('-')[0]}  {one.setup}" if one.setup else one.run
            label = shorten(name, _LABEL, placeholder=" …")
            axis.plot(
                trace.time_s / 60, trace.readings, color=SERIES[number % len(SERIES)], lw=1.2,
                ls="-" if number < len(SERIES) else "--", label=label,
            )  # fmt: skip
        axis.set_ylabel(f"{series[0][1].label} in {unit}")
        axis.axvline(0, color=GREY, lw=0.8, ls=":")
        axis.grid(axis="y", color="#dddddd", lw=0.6)
        axis.margins(x=0.01)
    axes[-1].set_xlabel("time since the start of the load in min")
    legend_below(figure, axes[0], 3)
    made_up = f"   ({MADE_UP})" if any(one.made_up for one in recordings) else ""
    figure.suptitle(f"{len(recordings)} runs over each other{made_up}")
    days = sorted({f"{one.started:%Y-%m-%d}" for one in recordings if one.started is not None})
    footer(figure, (", ".join(days), made_up.strip(" ()")))
    return figure
