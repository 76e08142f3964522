"""One run in one row: what comparisons need of it, and nothing more. Plain values, so it can be kept."""

import math
from collections.abc import Mapping
from datetime import datetime
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.recording.recording import Recording
from gelassen.core.run.power_levels import Level
from gelassen.core.run.summary import RunSummary

Row = dict[str, Any]

# Means over all channels whose names end so.
_MEANS = {
    "noise_dba": ".level_dba",
    "duty_pct": ".duty_pct",
    "load_pct": "cpu.all.load_pct",
    "wall_w": "wall.supply.power_w",
}


def run_row(recording: Recording, summary: RunSummary) -> Row:
    """Return what comparisons need of one run.

    Every value is a number, a text, a truth value, or None. `parts` maps each temperature channel to
    its mean over the hold, its highest reading then, and its own limit. `climb` holds power, steady rise
    and standard error of points on the course of a run whose power climbed, `levels` what each level of a
    run came to whose power went in steps.
    """
    steady, throttling = summary.steady, summary.throttling
    table = summary.channels
    names, mean, peak = (table[name].tolist() for name in ("channel", "hold_mean", "hold_peak"))
    means = dict(zip(names, mean, strict=True))
    row: Row = {
        "run": summary.name,
        "setup": summary.setup or summary.name,
        "measured": summary.channel_words,
        "unit": steady.unit if steady else "",
        "value": steady.value if steady else None,
        "standard_error": steady.standard_error if steady else None,
        "low": steady.low if steady else None,
        "high": steady.high if steady else None,
        "reached": bool(steady.reached) if steady else False,
        "at_limit": bool(throttling and throttling.at_limit),
        "thermal_share": throttling.thermal_share if throttling else None,
        "power_share": throttling.power_share if throttling else None,
        "power_w": summary.power_w,
        "settled_w": steady.power_w if steady else None,
        "clock_mhz": summary.clock_mhz,
        "fan_rpm": summary.fan_rpm,
        "work_per_s": summary.work_per_s,
        "reference_c": summary.reference_c,
        "reference": summary.reference,
        "limit_c": summary.limit_c,
        "power_limit_w": recording.power_limit_w,
        "outcome": summary.outcome,
        "made_up": bool(summary.made_up),
        "hold_length_s": summary.hold_s[1] - summary.hold_s[0],
        "load_length_s": summary.load_s[1] - summary.load_s[0],
        "mount": recording.mount,
        "started": recording.started.isoformat() if recording.started else None,
        **{name: _hold_mean(means, ending) for name, ending in _MEANS.items()},
        "steps": len(summary.steps),
        **_last_change(summary),
        "sensors": sorted(map(str, means)),
        "parts": _parts(
            recording, summary, dict(zip(names, zip(mean, peak, strict=True), strict=True))
        ),
        "protocol": recording.protocol,
        "load": recording.load,
        "took_notice": steady is None or steady.took_notice,
        "levels": [_level_entry(level, recording, summary) for level in summary.levels],
        "climb": [list(point) for point in summary.climb.points()] if summary.climb else [],
    }
    return {key: _plain(value) for key, value in row.items()}


def _last_change(summary: RunSummary) -> Row:
    """Return the change of conditions after which the answer counts; steps of power are levels."""
    if not summary.steps or summary.levels:
        return {"changed_at_s": None, "changed_by_k": None, "changed_how": None}
    step = summary.steps[-1]
    ends = (step.moved_low, step.moved_high)
    told = all(map(math.isfinite, ends)) and (ends[0] > 0 or ends[1] < 0)
    return {
        "changed_at_s": step.at_s,
        "changed_by_k": step.after - step.before if told else None,
        "changed_how": step.logged or (f'"{step.noted}"' if step.noted else "conditions changed"),
    }


def too_short(row: Row) -> str:
    """Say why a run without an interval is left out."""
    if not row.get("took_notice", True):
        return "its temperature reads the same at rest and under load"
    words = "too short to tell where it settles"
    if row["changed_at_s"] is None:
        return words
    return f"{words} after conditions changed at {row['changed_at_s'] / 60:.1f} min"


def _level_entry(level: Level, recording: Recording, summary: RunSummary) -> Row:
    """Return what a row says anew for one level of its power."""
    entry = {
        "power_w": level.power_w, "settled_w": level.power_w, "value": level.rise,
        "standard_error": level.standard_error, "low": level.low, "high": level.high,
        "reached": level.reached, "at_limit": level.at_limit, "thermal_share": level.thermal_share,
        "power_share": level.power_share, "clock_mhz": level.clock_mhz, "work_per_s": level.work_per_s,
        "fan_rpm": level.fan_rpm, "reference_c": level.reference_c,
        "hold_length_s": (level.end_s - level.start_s) / 3, "load_length_s": level.end_s - level.start_s,
    }  # fmt: skip
    means = {name: mean for name, (mean, _) in level.channels.items()}
    entry |= {name: _hold_mean(means, ending) for name, ending in _MEANS.items()}
    entry["duty_pct"] = level.duty_pct
    plain = {name: _plain(value) for name, value in entry.items()}
    return {**plain, "parts": _parts(recording, summary, level.channels)}


def started_days(row: "Row | pd.Series[Any]") -> float:
    """Return when a run began, in days; NaN if it does not say."""
    text = row["started"]
    return datetime.fromisoformat(text).timestamp() / 86_400 if isinstance(text, str) else math.nan


def _hold_mean(means: dict[str, float], ending: str) -> float:
    """Return the mean over the channels whose names end so; NaN if none was read."""
    read = [mean for name, mean in means.items() if name.endswith(ending) and math.isfinite(mean)]
    return math.fsum(read) / len(read) if read else math.nan


def _parts(
    recording: Recording, summary: RunSummary, read: Mapping[str, tuple[float, float]]
) -> dict[str, list[float | None]]:
    parts: dict[str, list[float | None]] = {}
    for name, (mean, peak) in read.items():
        if not name.endswith(".temp_c") or name.startswith(("room.", "loop.")):
            continue
        limit = recording.limits_c.get(name)
        if limit is None and name.startswith("cpu."):
            limit = summary.limit_c
        parts[name] = [_plain(mean), _plain(peak), _plain(limit)]
    return parts


def _plain(value: Any) -> Any:
    if isinstance(value, np.generic):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value
