"""One run in one row: what comparisons need of it, and nothing more. Plain values, so it can be kept."""

import math
from datetime import datetime
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.recording import Recording
from gelassen.core.summary import RunSummary

Row = dict[str, Any]


def run_row(recording: Recording, summary: RunSummary) -> Row:
    """Return what comparisons need of one run.

    Every value is a number, a text, a truth value, or None. `parts` maps each temperature channel to
    its mean over the hold, its highest reading then, and its own limit. `climb` holds power, steady rise
    and standard error of points on the course of a run whose power climbed, `levels` what each level of a
    run came to whose power went in steps.
    """
    steady, throttling = summary.steady, summary.throttling
    table = summary.channels
    means = dict(zip(table["channel"].tolist(), table["hold_mean"].tolist(), strict=True))
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
        "noise_dba": _hold_mean(means, ".level_dba"),
        "duty_pct": _hold_mean(means, ".duty_pct"),
        "load_pct": _hold_mean(means, "cpu.all.load_pct"),
        "wall_w": _hold_mean(means, "wall.supply.power_w"),
        "steps": len(summary.steps),
        "sensors": sorted(map(str, means)),
        "parts": _parts(recording, summary),
        "protocol": recording.protocol,
        "load": recording.load,
        "levels": [
            {
                "power_w": _plain(level.power_w),
                "value": _plain(level.rise),
                "standard_error": _plain(level.standard_error),
                "at_limit": level.at_limit,
                "fan_rpm": _plain(level.fan_rpm),
                "duty_pct": _plain(level.duty_pct),
                "reference_c": _plain(level.reference_c),
            }
            for level in summary.levels
        ],
        "climb": [list(point) for point in summary.climb.points()] if summary.climb else [],
    }
    return {key: _plain(value) for key, value in row.items()}


def started_days(row: "Row | pd.Series[Any]") -> float:
    """Return when a run began, in days; NaN if it does not say."""
    text = row["started"]
    return datetime.fromisoformat(text).timestamp() / 86_400 if isinstance(text, str) else math.nan


def _hold_mean(means: dict[str, float], ending: str) -> float:
    """Return the mean over the channels whose names end so; NaN if none was read."""
    read = [mean for name, mean in means.items() if name.endswith(ending) and math.isfinite(mean)]
    return math.fsum(read) / len(read) if read else math.nan


def _parts(recording: Recording, summary: RunSummary) -> dict[str, list[float | None]]:
    parts: dict[str, list[float | None]] = {}
    for entry in summary.channels.to_dict("records"):
        name = str(entry["channel"])
        if not name.endswith(".temp_c") or name.startswith(("room.", "loop.")):
            continue
        limit = recording.limits_c.get(name)
        if limit is None and name.startswith("cpu."):
            limit = summary.limit_c
        parts[name] = [_plain(entry["hold_mean"]), _plain(entry["hold_peak"]), _plain(limit)]
    return parts


def _plain(value: Any) -> Any:
    if isinstance(value, np.generic):
        value = value.item()
    return None if isinstance(value, float) and not math.isfinite(value) else value
