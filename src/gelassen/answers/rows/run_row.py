"""One run in one row, with all that comparisons need. Rows hold plain values, so they can be stored."""

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, fields, replace
from datetime import datetime
from functools import cache
from typing import TYPE_CHECKING, Any

import pandas as pd

from gelassen.core.foundation.result import Result
from gelassen.core.recording.recording import Recording

if TYPE_CHECKING:
    from pydantic import TypeAdapter

    from gelassen.core.run.power_levels import Level
    from gelassen.core.run.summary import RunSummary
    from gelassen.core.throttling.other_part import OtherPart

# Means over all channels with this ending of their name.
_MEANS = {
    "noise_dba": ".level_dba",
    "duty_pct": ".duty_pct",
    "load_pct": "cpu.all.load_pct",
    "wall_w": "wall.supply.power_w",
    "flow_lpm": ".flow_lpm",
    "pump_rpm": "loop.pump.speed_rpm",
}

BY_HAND = "read by hand"  # what was measured, of such a run
ENTERED = "entered"  # the outcome of a run that was read by hand

# Mean over the hold, highest reading in it, and limit of one part, in °C; None where unknown.
PartReadings = list[float | None]


@dataclass(frozen=True, slots=True, kw_only=True)
class RunLevel(Result):
    """One level of power, in a run whose power went in steps. The fields are as in `RunRow`."""

    power_w: float | None
    settled_w: float | None
    value: float | None
    standard_error: float | None
    low: float | None
    high: float | None
    reached: bool
    missing_k: float | None
    at_limit: bool
    thermal_share: float | None
    power_share: float | None
    clock_mhz: float | None
    work_per_s: float | None
    fan_rpm: float | None
    reference_c: float | None
    hold_length_s: float | None
    load_length_s: float | None
    noise_dba: float | None
    duty_pct: float | None
    load_pct: float | None
    wall_w: float | None
    flow_lpm: float | None
    pump_rpm: float | None
    parts: dict[str, PartReadings]
    quantities: dict[str, tuple[float, float]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class RunRow(Result):
    """What comparisons need from one run. None means not logged, or unknown.

    Attributes
    ----------
    run, setup
        Name of the run and of its setup.
    measured, kind
        The judged temperature, in words, and what kind of temperature it is.
    unit
        "K" if `value` is a rise, "°C" if no reference was logged, "" without a temperature.
    value, standard_error, low, high
        Steady state and its interval, in `unit`. `low` and `high` are None where it cannot be told.
    reached, missing_k
        Whether the temperature settled within the log, and how much of `value` was not reached, in K.
    at_limit
        Whether the run sat at its temperature limit: then `value` is a lower bound.
    thermal_share, power_share
        Share of the load that was held back by heat, and by a power limit; 0 to 1.
    power_w, clock_mhz, fan_rpm, work_per_s, noise_dba, duty_pct, load_pct, wall_w, flow_lpm,
    pump_rpm
        Means over the hold.
    settled_w
        The power that belongs to `value`, in W.
    moved_k
        By how much `value` was moved to the power that it is compared at; 0 for steady loads.
    reference_c, reference
        Mean of the reference over the hold in °C, and its channel.
    limit_c, power_limit_w
        Temperature limit and power limit that the run knew of.
    outcome
        How the run ended.
    made_up
        Whether it is made-up data.
    hold_length_s, load_length_s
        Length of the hold and of the whole load, in s.
    mount
        Name of the mounting.
    started
        When the run began, RFC 3339.
    steps
        How many changes of conditions were found in mid-run.
    changed_at_s, changed_by_k, changed_how
        The last of them: when, by how much it moved the steady value, what was logged or noted.
    sensors
        All channels, sorted.
    parts
        Temperature channel to its readings.
    protocol, load
        As recorded.
    took_notice
        Whether the judged temperature responded to the load.
    levels
        One entry a level, where power went in steps.
    fan_levels
        One entry a duty, where a fan was held at one after the other.
    climb
        Power in W, steady rise in K and its standard error, for points of a run whose power climbed.
    one_of
        How many levels the run has, if this row stands for one of them.
    level
        That level, in words.
    quantities
        What else the run says, by name: its value and standard error (`core/run/quantities.py`).
    uneven
        Whether the load came and went: then `value` is the mean over it, and no steady state.
    limit_at_s
        When the judged temperature reached its limit, in s from the start of the load; None if it did not.
    by_hand
        Whether its values were read off a screen.
    held_by
        The channel of another part that held the chip back, such as a regulator; None if none did.
    hotter_chip
        The temperature of another processor or card that was warmer than what is judged; None if none was.
    factors
        Factor to its level in this run.
    """

    run: str
    setup: str
    measured: str = ""
    kind: str = ""
    unit: str = ""
    value: float | None = None
    standard_error: float | None = None
    low: float | None = None
    high: float | None = None
    reached: bool = False
    missing_k: float | None = None
    at_limit: bool = False
    thermal_share: float | None = None
    power_share: float | None = None
    power_w: float | None = None
    settled_w: float | None = None
    clock_mhz: float | None = None
    fan_rpm: float | None = None
    work_per_s: float | None = None
    reference_c: float | None = None
    reference: str | None = None
    limit_c: float | None = None
    power_limit_w: float | None = None
    outcome: str = "finished"
    made_up: bool = False
    hold_length_s: float | None = None
    load_length_s: float | None = None
    mount: str | None = None
    started: str | None = None
    noise_dba: float | None = None
    duty_pct: float | None = None
    load_pct: float | None = None
    wall_w: float | None = None
    flow_lpm: float | None = None
    pump_rpm: float | None = None
    moved_k: float = 0.0
    steps: int = 0
    changed_at_s: float | None = None
    changed_by_k: float | None = None
    changed_how: str | None = None
    sensors: list[str] = field(default_factory=list)
    parts: dict[str, PartReadings] = field(default_factory=dict)
    protocol: str | None = None
    load: str | None = None
    took_notice: bool = True
    levels: list[RunLevel] = field(default_factory=list)
    fan_levels: list[RunLevel] = field(default_factory=list)
    climb: list[tuple[float, float, float]] = field(default_factory=list)
    one_of: int | None = None
    level: str | None = None
    quantities: dict[str, tuple[float, float]] = field(default_factory=dict)
    uneven: bool = False
    limit_at_s: float | None = None
    by_hand: bool = False
    held_by: str | None = None
    hotter_chip: str | None = None
    factors: dict[str, str | float] = field(default_factory=dict)

    def at_level(self, level: RunLevel) -> "RunRow":
        """Return this run as if it had only this level."""
        own = {one.name: getattr(level, one.name) for one in fields(level)}
        held_by = self.held_by if (level.power_share or 0.0) > 0 else None
        return replace(self, **own, held_by=held_by, one_of=len(self.levels or self.fan_levels))

    @property
    def over_room(self) -> bool:
        """Whether its rise is over room air."""
        return (self.reference or "").startswith("room.")

    @property
    def has_interval(self) -> bool:
        """Whether its steady state has an interval."""
        return self.low is not None and self.high is not None


def rows_to_table(rows: Iterable[RunRow]) -> pd.DataFrame:
    """Return a table with one line for each row, and one column for each field that is used."""
    names = [one.name for one in fields(RunRow)]
    table = pd.DataFrame([{name: getattr(row, name) for name in names} for row in rows])
    unused = [n for n in ("one_of", "level") if n in table and table[n].isna().all()]
    return table.drop(columns=unused)


def row_from_kept(kept: object) -> RunRow | None:
    """Return a row from stored plain values; None if they do not make a row."""
    try:
        return _kept_rows().validate_python(kept)
    except (ValueError, TypeError, RecursionError, OverflowError):
        return None


@cache
def _kept_rows() -> "TypeAdapter[RunRow]":
    from pydantic import TypeAdapter

    return TypeAdapter(RunRow)


def run_row(recording: Recording, summary: "RunSummary") -> RunRow:
    """Return what comparisons need from one run."""
    from gelassen.core.run.quantities import run_quantities  # only here: a kept row does without it

    steady, other = summary.steady, _held_by(summary)
    uneven = steady is not None and steady.is_mean
    channels = summary.channels
    means = dict(zip(channels["channel"].tolist(), channels["hold_mean"].tolist(), strict=True))
    hold: dict[str, Any] = {**_hold_means(means)}  # fields of any type, for the type checker
    return replace(
        _settled_row(recording, summary),
        **hold,
        quantities=run_quantities(recording, summary),
        limit_at_s=_number(_limit_at_s(summary)),
        held_by=None if other is None else other.channel,
        hotter_chip=next(
            (str(c.sizes["channel"]) for c in summary.cautions if c.code == "hotter_chip"), None
        ),
        factors=dict(recording.levels),
        uneven=uneven,
        # The mean belongs to the power of the whole load, not to that of its last minutes.
        power_w=_number(steady.power_w if uneven and steady else summary.power_w),
    )


def _settled_row(recording: Recording, summary: "RunSummary") -> RunRow:
    """Return the row with all that the summary says of the load."""
    steady, throttling = summary.steady, summary.throttling
    table = summary.channels
    names, mean, peak = (table[name].tolist() for name in ("channel", "hold_mean", "hold_peak"))
    readings = dict(zip(names, zip(mean, peak, strict=True), strict=True))
    points = summary.climb.points() if summary.climb else ()
    changed_at_s, changed_by_k, changed_how = _last_change(summary)
    return RunRow(
        run=summary.name,
        setup=summary.setup or summary.name,
        measured=summary.channel_words,
        kind=summary.channel_kind or summary.channel_words,
        unit=steady.unit if steady else "",
        value=_number(steady.value) if steady else None,
        standard_error=_number(steady.standard_error) if steady else None,
        low=_number(steady.low) if steady else None,
        high=_number(steady.high) if steady else None,
        reached=bool(steady and steady.reached),
        missing_k=_number(steady.missing_k) if steady else None,
        at_limit=bool(
            (throttling and throttling.at_limit)
            or (steady and steady.limited)
            or _is_what_holds(summary)
        ),
        thermal_share=_number(throttling.thermal_share) if throttling else None,
        power_share=_number(throttling.power_share) if throttling else None,
        power_w=_number(summary.power_w),
        settled_w=_number(steady.power_w) if steady else None,
        clock_mhz=_number(summary.clock_mhz),
        fan_rpm=_number(summary.fan_rpm),
        work_per_s=_number(summary.work_per_s),
        reference_c=_number(summary.reference_c),
        reference=summary.reference,
        limit_c=_number(summary.limit_c),
        power_limit_w=_number(recording.power_limit_w),
        outcome=summary.outcome,
        made_up=bool(summary.made_up),
        hold_length_s=_number(summary.hold_s[1] - summary.hold_s[0]),
        load_length_s=_number(summary.load_s[1] - summary.load_s[0]),
        mount=recording.mount,
        started=recording.started.isoformat() if recording.started else None,
        steps=len(summary.steps),
        changed_at_s=_number(changed_at_s),
        changed_by_k=_number(changed_by_k),
        changed_how=changed_how,
        sensors=sorted(map(str, names)),
        parts=_parts(recording, summary, readings),
        protocol=recording.protocol,
        load=recording.load,
        took_notice=steady is None or steady.took_notice,
        levels=[_run_level(level, recording, summary) for level in summary.levels],
        fan_levels=[_run_level(level, recording, summary) for level in summary.fan_levels],
        climb=[(float(w), float(k), float(se)) for w, k, se in points],
    )


def _last_change(summary: "RunSummary") -> tuple[float | None, float | None, str | None]:
    """Return the time of the last change, its effect on the steady value, and how it is known.

    Steps of power are levels, not changes.
    """
    if not summary.steps or summary.levels:
        return None, None, None
    step = summary.steps[-1]
    ends = (step.moved_low, step.moved_high)
    told = all(map(math.isfinite, ends)) and (ends[0] > 0 or ends[1] < 0)
    how = step.logged or (f'"{step.noted}"' if step.noted else "conditions changed")
    return step.at_s, step.after - step.before if told else None, how


def _held_by(summary: "RunSummary") -> "OtherPart | None":
    return None if summary.throttling is None else summary.throttling.other_part


def _is_what_holds(summary: "RunSummary") -> bool:
    """Return whether the judged temperature is that of a part whose limit holds the chip back."""
    other = _held_by(summary)
    return other is not None and other.channel == summary.channel


def _limit_at_s(summary: "RunSummary") -> float | None:
    """Return when the judged temperature reached its limit within the load."""
    steady, throttling, other = summary.steady, summary.throttling, _held_by(summary)
    found = steady.limit_at_s if steady is not None else None
    if other is not None and _is_what_holds(summary):
        found = other.from_s
    if found is None and throttling is not None and throttling.thermal_share > 0:
        found = throttling.onset_s
    if found is None or not summary.load_s[0] <= found <= summary.load_s[1]:
        return None
    return found - summary.load_s[0]


def too_short(row: RunRow) -> str:
    """Return why a run without an interval is left out."""
    if not row.took_notice:
        return "its temperature reads the same at rest and under load"
    words = "too short to tell where it settles"
    if row.changed_at_s is None:
        return words
    return f"{words} after conditions changed at {row.changed_at_s / 60:.1f} min"


def _run_level(level: "Level", recording: Recording, summary: "RunSummary") -> RunLevel:
    from gelassen.core.run.quantities import run_quantities

    means = _hold_means({name: mean for name, (mean, _) in level.channels.items()})
    return RunLevel(
        power_w=_number(level.power_w), settled_w=_number(level.power_w), value=_number(level.rise),
        standard_error=_number(level.standard_error), low=_number(level.low), high=_number(level.high),
        reached=bool(level.reached), missing_k=_number(level.missing_k), at_limit=bool(level.at_limit),
        thermal_share=_number(level.thermal_share), power_share=_number(level.power_share),
        clock_mhz=_number(level.clock_mhz), work_per_s=_number(level.work_per_s),
        fan_rpm=_number(level.fan_rpm), reference_c=_number(level.reference_c),
        hold_length_s=_number((level.end_s - level.start_s) / 3),
        load_length_s=_number(level.end_s - level.start_s),
        **{**means, "duty_pct": _number(level.duty_pct)},
        parts=_parts(recording, summary, level.channels),
        quantities=run_quantities(recording, summary, (level.start_s, level.end_s)),
    )  # fmt: skip


def started_days(started: object) -> float:
    """Return when a run began, in days; NaN if it does not say."""
    if not isinstance(started, str):
        return math.nan
    return datetime.fromisoformat(started).timestamp() / 86_400


def _hold_means(means: Mapping[str, float]) -> dict[str, float | None]:
    return {name: _number(_hold_mean(means, ending)) for name, ending in _MEANS.items()}


def _hold_mean(means: Mapping[str, float], ending: str) -> float:
    """Return the mean over the channels with this ending of their name; NaN if there is none."""
    read = [mean for name, mean in means.items() if name.endswith(ending) and math.isfinite(mean)]
    return math.fsum(read) / len(read) if read else math.nan


def _parts(
    recording: Recording, summary: "RunSummary", read: Mapping[str, tuple[float, float]]
) -> dict[str, PartReadings]:
    parts: dict[str, PartReadings] = {}
    for name, (mean, peak) in read.items():
        if not name.endswith(".temp_c") or name.startswith(("room.", "loop.")):
            continue
        limit = recording.limits_c.get(name)
        if limit is None and name.startswith("cpu."):
            limit = summary.limit_c
        parts[name] = [_number(mean), _number(peak), _number(limit)]
    return parts


def _number(value: float | None) -> float | None:
    """Return a plain number; None for what is not finite."""
    return float(value) if value is not None and math.isfinite(value) else None
