"""Figures: one run over time, and setups side by side."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from gelassen.core.recording import Recording
from gelassen.core.summary import RunSummary, core_channels
from gelassen.show.run_text import MADE_UP
from gelassen.study.analysis import StudyComparison

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

# Okabe and Ito's palette, which is told apart with every kind of colour vision.
_BLUE, _ORANGE, _GREEN, _RED, _SKY, _PURPLE = (
    "#0072B2", "#E69F00", "#009E73", "#D55E00", "#56B4E9", "#CC79A7",
)  # fmt: skip
_GREY = "#666666"
_PHASE_SHADES = {"idle": "#f4f4f4", "soak": "#e6eef5", "hold": "#d3e3ef", "cooldown": "#f4f4f4"}
_SIZE, _DPI = (12.8, 8.0), 100


def _new_figure(rows: int, heights: list[float]) -> tuple["Figure", list["Axes"]]:
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib.figure import Figure

    figure = Figure(figsize=_SIZE, dpi=_DPI, layout="constrained")
    axes = figure.subplots(rows, 1, sharex=True, height_ratios=heights, squeeze=False)[:, 0]
    return figure, list(axes)


def _save(figure: "Figure", path: Path) -> None:
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    FigureCanvasAgg(figure)
    path.parent.mkdir(parents=True, exist_ok=True)
    figure.savefig(path)


def run_figure(recording: Recording, summary: RunSummary, path: Path) -> None:
    """Draw one run: temperatures, clock, power, fan and work over time, and save it."""
    frame = recording.frame
    minutes = frame.index.to_numpy(dtype=float) / 60
    lanes = _lanes(frame.columns.tolist())
    lanes = [lane for lane in lanes if lane[0] == "temperature" or _any(frame, lane[1])]
    if any(lane[0] == "work" for lane in lanes):  # work says more than load
        lanes = [lane for lane in lanes if lane[0] != "load"]
    if summary.channel is None:
        lanes = [lane for lane in lanes if lane[0] != "temperature"]
    if not lanes:
        lanes = [("load", ["cpu.all.load_pct"], "load in %")]
    heights = [3.0 if lane[0] == "temperature" else 1.0 for lane in lanes]
    figure, axes = _new_figure(len(lanes), heights)
    for axis, (kind, names, label) in zip(axes, lanes, strict=True):
        _shade_phases(axis, recording)
        if kind == "temperature":
            _temperatures(axis, recording, summary, minutes)
        else:
            for name, colour in zip(names, (_BLUE, _ORANGE, _GREEN, _RED), strict=False):
                if name == "cores":
                    clocks = [
                        n
                        for n in frame.columns
                        if n.startswith("cpu.") and n.endswith(".clock_mhz")
                    ]
                    axis.plot(minutes, frame[clocks].mean(axis=1), color=_PURPLE, lw=1)
                elif name in frame.columns:
                    axis.plot(minutes, frame[name], color=colour, lw=1, label=name)
            if len(names) > 1:
                axis.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=8, frameon=False)
            if kind != "clock":  # a sag of a few per cent would not show from zero
                axis.set_ylim(bottom=0)
        axis.set_ylabel(label)
        axis.grid(axis="y", color="#dddddd", lw=0.6)
        axis.margins(x=0)
    axes[-1].set_xlabel("time since the start of the recording in min")
    title = summary.setup or summary.name
    made_up = f"   ({MADE_UP})" if summary.made_up else ""
    figure.suptitle(f"{summary.name}: {title}{made_up}" if summary.setup else f"{title}{made_up}")
    _save(figure, path)


def _any(frame: Any, names: list[str]) -> bool:
    if names == ["cores"]:
        return any(n.startswith("cpu.") and n.endswith(".clock_mhz") for n in frame.columns)
    return any(name in frame.columns and frame[name].notna().any() for name in names)


def _lanes(columns: list[str]) -> list[tuple[str, list[str], str]]:
    fans = [n for n in columns if n.startswith("fan.") and n.endswith(".speed_rpm")][:4]
    known = ["cpu.package.power_w", "wall.supply.power_w"]
    powers = [n for n in known if n in columns]
    return [
        ("temperature", [], "temperature in °C"),
        ("clock", ["cores"], "mean clock\nin MHz"),
        ("power", powers, "power in W"),
        ("fan", fans, "fan speed\nin rpm"),
        ("work", ["load.work.rate_per_s"], "work in\nrounds/s"),
        ("load", ["cpu.all.load_pct"], "load in %"),
    ]


def _temperatures(
    axis: "Axes", recording: Recording, summary: RunSummary, minutes: "np.ndarray[Any, Any]"
) -> None:
    frame = recording.frame
    cores = [n for n in core_channels(frame) if n != summary.channel]
    if cores:
        low, high = frame[cores].min(axis=1), frame[cores].max(axis=1)
        axis.fill_between(minutes, low, high, color=_SKY, alpha=0.35, lw=0, label="other cores")
    if summary.channel is not None:
        axis.plot(minutes, frame[summary.channel], color=_BLUE, lw=1, label=summary.channel)
    others = [n for n in frame.columns if n.endswith(".temp_c") and n not in cores]
    others = [n for n in others if n not in (summary.channel, "cpu.package.temp_c")][:4]
    for name, colour in zip(others, (_GREEN, _ORANGE, _PURPLE, _GREY), strict=False):
        axis.plot(minutes, frame[name], color=colour, lw=1.2, label=name)
    if summary.limit_c is not None:
        axis.axhline(
            summary.limit_c,
            color=_RED,
            lw=1.2,
            ls="--",
            zorder=6,
            label=f"limit {summary.limit_c:g} °C",
        )
    for stretch in summary.stretches:
        base = 0.0
        if summary.reference is not None:
            room = frame.loc[stretch.start_s : stretch.end_s, summary.reference]
            base = float(room.mean())
        steady = stretch.steady
        span = np.array([stretch.start_s, stretch.end_s]) / 60
        sure = f"settles ({100 * steady.confidence:g} % interval)"
        first = stretch is summary.stretches[0]
        axis.plot(
            span, [base + steady.value] * 2, color="black", lw=1.2, label=sure if first else None
        )
        if np.isfinite(steady.low) and np.isfinite(steady.high):
            axis.fill_between(
                span, base + steady.low, base + steady.high, color="black", alpha=0.15, lw=0
            )
    if summary.throttling is not None:
        seen = set()
        for start, end, cause in summary.throttling.intervals:
            colour = _RED if cause == "thermal" else _ORANGE
            words = "held back by heat" if cause == "thermal" else "held back by power limit"
            axis.axvspan(
                start / 60, end / 60, ymin=0, ymax=0.03, color=colour, lw=0,
                label=None if cause in seen else words,
            )  # fmt: skip
            seen.add(cause)
    for step in summary.steps:
        axis.axvline(step.at_s / 60, color=_GREY, lw=1, ls=":")
        axis.annotate(
            " change found", (step.at_s / 60, 0.04), xycoords=("data", "axes fraction"), fontsize=8
        )
    axis.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), fontsize=8, frameon=False)


def _shade_phases(axis: "Axes", recording: Recording) -> None:
    for phase in recording.phases:
        axis.axvspan(
            phase.start_s / 60, phase.end_s / 60, color=_PHASE_SHADES.get(phase.name, "white"), lw=0
        )
        first = axis.get_subplotspec()
        if first is not None and first.rowspan.start == 0:
            middle = (phase.start_s + phase.end_s) / 120
            axis.annotate(
                phase.name, (middle, 1.01), xycoords=("data", "axes fraction"), ha="center",
                fontsize=9, color=_GREY,
            )  # fmt: skip


def comparison_figure(comparison: StudyComparison, path: Path) -> None:
    """Draw the setups sorted by rise, with intervals, single runs, and the limit; and save it."""
    setups = comparison.setups
    figure, axes = _new_figure(1, [1.0])
    axis = axes[0]
    places = np.arange(len(setups))[::-1]
    for place, row in zip(places, setups.to_dict("records"), strict=True):
        own = row["setup"] == comparison.baseline
        colour = _RED if row["at_limit"] else _ORANGE if own else _BLUE
        hatch = "///" if row["at_limit"] else None
        axis.barh(
            place,
            row["rise_k"],
            color=colour,
            alpha=0.75,
            height=0.62,
            hatch=hatch,
            edgecolor="white",
        )
        values = comparison.runs.loc[comparison.runs["setup"] == row["setup"], "value"]
        axis.plot(values, np.full(len(values), place - 0.2), "|", color="black", ms=7, mew=1)
        end = row["rise_k"]
        if np.isfinite(row["high_k"]) and np.isfinite(row["low_k"]):
            below, above = row["rise_k"] - row["low_k"], row["high_k"] - row["rise_k"]
            axis.errorbar(
                row["rise_k"], place, xerr=[[below], [above]],
                fmt="none", color="black", capsize=4, lw=1.4,
            )  # fmt: skip
            end = row["high_k"]
        text = f"{row['rise_k']:.1f}"
        if row["at_limit"]:
            text += f" or more: at its limit, held {row['power_w']:.0f} W"
        elif np.isfinite(row["power_w"]):
            text += f"   at {row['power_w']:.0f} W"
        axis.annotate(
            text, (end, place), xytext=(6, 0), textcoords="offset points", va="center", fontsize=9,
            bbox={"facecolor": "white", "edgecolor": "none", "pad": 1.5}, zorder=5,
        )  # fmt: skip
    axis.set_yticks(places, [str(name) for name in setups["setup"]])
    largest = float(setups["rise_k"].max())
    axis.set_xlim(0, largest * 1.32)
    rooms = comparison.runs["reference_c"].dropna()
    if comparison.limit_c is not None and not rooms.empty and comparison.unit == "K":
        allowed = comparison.limit_c - float(rooms.mean())
        if allowed < largest * 1.3:
            axis.axvline(allowed, color=_RED, lw=1.2, ls="--")
            axis.annotate(
                f"limit {comparison.limit_c:g} °C\nin a room of {rooms.mean():.1f} °C",
                (allowed, 0.5), xycoords=("data", "axes fraction"), xytext=(6, 0),
                textcoords="offset points", fontsize=9, color=_RED,
            )  # fmt: skip
    over = "over the reference in K" if comparison.unit == "K" else f"in {comparison.unit}"
    axis.set_xlabel(
        f"steady rise of the {comparison.measured} {over}; bars: mean, whiskers: "
        f"{100 * comparison.confidence:g} % interval, ticks: single runs"
    )
    axis.grid(axis="x", color="#dddddd", lw=0.6)
    axis.set_axisbelow(True)
    made_up = f"   ({MADE_UP})" if comparison.made_up else ""
    baseline = f"; orange: baseline {comparison.baseline}" if comparison.baseline else ""
    axis.set_title(f"{comparison.title}: setups from cool to warm{baseline}{made_up}", fontsize=11)
    _save(figure, path)
