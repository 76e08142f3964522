"""One run over time: temperatures, clock, power, fan and work."""

from dataclasses import replace
from pathlib import Path
from textwrap import shorten
from typing import TYPE_CHECKING, Any

import numpy as np

from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channel_words import channel_words
from gelassen.core.recording.chips import chip_of, core_channels, of_chip
from gelassen.core.recording.judging import with_mean_of_cores
from gelassen.core.recording.recording import Recording
from gelassen.core.run.stretches import Stretch
from gelassen.core.run.summary import RunSummary
from gelassen.core.signal.impossible import without_impossible
from gelassen.figures.canvas import (
    BLUE,
    GREEN,
    GREY,
    ORANGE,
    PURPLE,
    RED,
    SKY,
    footer,
    legend_below,
    literal_text,
    new_figure,
    save,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Labels of changes are between the curves: two words each, and this many letters of a note.
_LABEL = 24
_CHANGED = {
    "fan": "fan changed",
    "flow": "flow changed",
    "load": "load changed",
    "pause": "load paused",
}
_PHASE_SHADES = {"soak": "#f4f7fa", "hold": "#e9eff5"}


def run_figure(recording: Recording, summary: RunSummary, path: Path) -> None:
    """Draw one run and save it; see `run`."""
    save(run(recording, summary), path)


@literal_text
def run(recording: Recording, summary: RunSummary) -> "Figure":
    """Draw one run: temperatures, clock, power, fan and work over time, below each other."""
    frame, _ = without_impossible(with_mean_of_cores(recording.frame, summary.channel))
    recording = replace(recording, frame=frame)
    minutes = frame.index.to_numpy(dtype=float) / 60
    part = "gpu." if (summary.channel or "").startswith("gpu.") else "cpu."
    chip = chip_of(summary.channel or "")
    lanes = _lanes([name for name in frame.columns if not _still_fan(frame, name)], part, chip)
    lanes = [
        lane for lane in lanes
        if lane[0] == "temperature" or any(frame[name].notna().any() for name in lane[1])
    ]  # fmt: skip
    if any(lane[0] == "work" for lane in lanes):  # work says more than load
        lanes = [lane for lane in lanes if lane[0] != "load"]
    if summary.channel is None:
        lanes = [lane for lane in lanes if lane[0] != "temperature"]
    if not lanes:
        lanes = [("load", [], "load in %")]
    heights = [3.0 if lane[0] == "temperature" else 1.0 for lane in lanes]
    figure, axes = new_figure(len(lanes), heights)
    for axis, (kind, names, label) in zip(axes, lanes, strict=True):
        _shade_phases(axis, recording)
        if kind == "temperature":
            _temperatures(axis, recording, summary, minutes)
        else:
            if kind == "clock":
                axis.plot(minutes, frame[names].mean(axis=1), color=PURPLE, lw=1)
                names = []
            for name, colour in zip(names, (BLUE, ORANGE, GREEN, RED), strict=False):
                axis.plot(minutes, frame[name], color=colour, lw=1, label=channel_words(name))
            if kind != "clock":  # a sag of a few per cent would not show from zero
                room = 1.4 if len(names) > 1 else 1.08  # above the lines, for the legend
                axis.set_ylim(0, room * axis.get_ylim()[1])
            if len(names) > 1:
                axis.legend(loc="upper center", ncols=4, fontsize=8, frameon=False)
        axis.set_ylabel(label)
        axis.grid(axis="y", color="#dddddd", lw=0.6)
        axis.margins(x=0)
        axis.set_xlim(left=float(minutes[0]), right=_end_minutes(minutes, summary))
    axes[-1].set_xlabel("time since the start of the recording in min")
    title = summary.setup or summary.name
    made_up = f"   ({MADE_UP})" if summary.made_up else ""
    figure.suptitle(f"{summary.name}: {title}{made_up}" if summary.setup else f"{title}{made_up}")
    if lanes[0][0] == "temperature":
        legend_below(figure, axes[0], 6)
    day = "" if recording.started is None else f"{recording.started:%Y-%m-%d %H:%M}"
    footer(figure, (summary.name, day, MADE_UP if summary.made_up else ""))
    return figure


def _still_fan(frame: Any, name: str) -> bool:
    """Return whether a fan header never turned. It would only take up space."""
    return name.startswith("fan.") and not (frame[name] > 0).any()


def _end_minutes(minutes: "np.ndarray[Any, Any]", summary: RunSummary) -> float:
    """Return where the time axis ends: a little beyond the log, or beyond what is extrapolated."""
    end = float(minutes[-1])
    steady = summary.stretches[-1].steady if summary.stretches else None
    if steady is not None and steady.curve is not None and not steady.reached:
        end = max(end, float(steady.curve.time_s[-1]) / 60)
    return end + max(0.01 * (end - float(minutes[0])), 0.01)


def _lanes(columns: list[str], part: str, chip: str) -> list[tuple[str, list[str], str]]:
    """Return what is drawn below each other, with the channels of each; `part` is that which is judged."""
    fans = [n for n in columns if n.startswith("fan.") and n.endswith(".speed_rpm")]
    clocks = [n for n in columns if n.startswith(part) and n.endswith(".clock_mhz")]
    clocks = [n for n in clocks if ".memory." not in n]
    clocks = of_chip(clocks, chip)
    own = f"{part}package{chip}.power_w"
    others = ("cpu.package.power_w", "gpu.package.power_w", "wall.supply.power_w")
    powers = [n for n in dict.fromkeys((own, *others)) if n in columns]
    load = "cpu.all.load_pct" if part == "cpu." else "gpu.package.load_pct"
    return [
        ("temperature", [], "temperature in °C"),
        ("clock", clocks, "mean clock\nin MHz" if len(clocks) > 1 else "clock\nin MHz"),
        ("power", powers, "power in W"),
        ("fan", fans[:4], "fan speed\nin rpm"),
        ("work", [n for n in columns if n == "load.work.rate_per_s"], "work in\nrounds/s"),
        ("load", [n for n in columns if n == load], "load in %"),
    ]


def _temperatures(
    axis: "Axes", recording: Recording, summary: RunSummary, minutes: "np.ndarray[Any, Any]"
) -> None:
    frame = recording.frame
    cores = [n for n in core_channels(frame) if n != summary.channel]
    if cores:
        low, high = frame[cores].min(axis=1), frame[cores].max(axis=1)
        axis.fill_between(minutes, low, high, color=SKY, alpha=0.35, lw=0, label="other cores")
    if summary.channel is not None:
        judged = channel_words(summary.channel)
        if summary.channel_words == "hottest core":
            judged = f"hottest core ({judged})"
        axis.plot(minutes, frame[summary.channel], color=BLUE, lw=1, label=judged)
    others = [n for n in frame.columns if n.endswith(".temp_c") and n not in cores]
    others = [n for n in others if n not in (summary.channel, "cpu.package.temp_c")][:4]
    for name, colour in zip(others, (GREEN, ORANGE, PURPLE, GREY), strict=False):
        axis.plot(minutes, frame[name], color=colour, lw=1.2, label=channel_words(name))
    _limits(axis, summary)
    for stretch in summary.stretches:
        _fitted(axis, stretch, _reference_c(frame, summary), last=stretch is summary.stretches[-1])
    if summary.throttling is not None:
        # A power limit that the tester has set is part of the test, and no fault.
        own = recording.power_limit_w is not None and not summary.throttling.mostly_other
        by_limit = (
            (GREY, "at the power limit that was set")
            if own
            else (ORANGE, f"held by {summary.throttling.power_cause}")
        )
        seen = set()
        for start, end, cause in summary.throttling.intervals:
            colour, words = (RED, "held back by heat") if cause == "thermal" else by_limit
            axis.axvspan(
                start / 60, end / 60, ymin=0, ymax=0.035, color=colour, lw=0, zorder=5,
                label=None if cause in seen else words,
            )  # fmt: skip
            seen.add(cause)
    for step in summary.steps:
        axis.axvline(step.at_s / 60, color=GREY, lw=1, ls=":")
        # Along the line and low, where a warm part's curve is not.
        axis.annotate(
            shorten(step.noted, _LABEL, placeholder=" …")
            or _CHANGED.get(step.what, "change found"),
            (step.at_s / 60, 0.13),
            xytext=(-2, 0),
            xycoords=("data", "axes fraction"),
            textcoords="offset points",
            rotation=90,
            ha="right",
            va="bottom",
            fontsize=8,
        )


def _limits(axis: "Axes", summary: RunSummary) -> None:
    """Draw the limit of the chip, and that of another part which held it back."""
    if summary.limit_c is not None:
        words = f"limit {summary.limit_c:g} °C"
        axis.axhline(summary.limit_c, color=RED, lw=1.2, ls="--", zorder=6, label=words)
    by = None if summary.throttling is None else summary.throttling.other_part
    if by is not None and np.isfinite(by.limit_c):
        words = f"limit of {channel_words(by.channel)}, {by.limit_c:g} °C"
        axis.axhline(by.limit_c, color=RED, lw=1.2, ls=":", zorder=6, label=words)


def _reference_c(frame: "pd.DataFrame", summary: RunSummary) -> float:
    """Return the mean of the reference under load, in °C; 0 where there is none."""
    if summary.reference is None:
        return 0.0
    start_s, end_s = summary.load_s
    return float(frame.loc[start_s:end_s, summary.reference].mean())


def _mean_over_load(axis: "Axes", stretch: Stretch, reference_c: float, *, last: bool) -> None:
    """Draw the mean of a load that comes and goes, over all of it, with its interval."""
    steady = stretch.steady
    span, middle = [one / 60 for one in steady.window_s], reference_c + steady.value
    axis.plot(
        span, [middle, middle], color="black", lw=1.6, ls="--", zorder=7,
        label="mean over the load" if last else None,
    )  # fmt: skip
    if np.isfinite(steady.low) and np.isfinite(steady.high):
        axis.fill_between(
            span, reference_c + steady.low, reference_c + steady.high, color="black", alpha=0.15, lw=0,
            label=f"{100 * steady.confidence:g} % interval" if last else None,
        )  # fmt: skip


def _fitted(axis: "Axes", stretch: Stretch, reference_c: float, *, last: bool) -> None:
    """Draw the fitted approach and its interval; beyond the log, where it is extrapolated, dashed."""
    steady = stretch.steady
    if steady.curve is None:
        return
    base = steady.curve.conditions_c
    minutes, value = steady.curve.time_s / 60, base + steady.curve.value
    inside = steady.curve.time_s <= stretch.end_s
    swings = steady.swings_between is not None
    settles = (
        "mean over swings" if swings else "held by its limit" if steady.limited else "settles at"
    )
    axis.plot(
        minutes[inside], value[inside], color="black", lw=1.3,
        label=None if swings or not last else "fitted",
    )  # fmt: skip
    if steady.is_mean:
        _mean_over_load(axis, stretch, reference_c, last=last)
        return
    beyond = ~inside
    beyond[max(int(inside.sum()) - 1, 0)] = True  # joined to what was measured
    drawn = np.ones_like(inside) if last and not steady.reached else inside
    axis.fill_between(
        minutes[drawn], (base + steady.curve.low)[drawn], (base + steady.curve.high)[drawn],
        color="black", alpha=0.15, lw=0,
        label=f"{100 * steady.confidence:g} % interval" if last else None,
    )  # fmt: skip
    if last and not steady.reached and not swings:
        axis.plot(
            minutes[beyond],
            value[beyond],
            color="black",
            lw=1.3,
            ls="--",
            label="without a limit" if steady.limited else "extrapolated",
        )
    if np.isfinite(steady.low) and np.isfinite(steady.high):
        at = minutes[drawn][-1]
        axis.errorbar(
            [at], [base[drawn][-1] + steady.value],
            yerr=[[steady.value - steady.low], [steady.high - steady.value]],
            color="black", marker="o", ms=4, capsize=4, lw=1.2, zorder=7,
            label=settles if last else None,
        )  # fmt: skip


def _shade_phases(axis: "Axes", recording: Recording) -> None:
    log_end_s = float(recording.frame.index[-1])
    for phase in recording.phases:
        if phase.start_s >= log_end_s:
            continue
        axis.axvspan(
            phase.start_s / 60, phase.end_s / 60, color=_PHASE_SHADES.get(phase.name, "white"), lw=0,
            zorder=0,
        )  # fmt: skip
        first = axis.get_subplotspec()
        if first is not None and first.rowspan.start == 0:
            middle = (phase.start_s + phase.end_s) / 120
            axis.annotate(
                phase.name, (middle, 1.01), xycoords=("data", "axes fraction"), ha="center",
                fontsize=9, color=GREY,
            )  # fmt: skip
