"""What the last samples say of a run that ended without notice: a crash is a result."""

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING

from gelassen.study.disk.run_file import RunFile

if TYPE_CHECKING:
    import pandas as pd


def last_words(frame: "pd.DataFrame", run: RunFile) -> str:
    """Return when the run ended and what was read last, against the limits that were set."""
    if frame.empty:
        return "ended without notice before the first sample"
    last = {str(name): float(value) for name, value in frame.ffill(limit=5).iloc[-1].items()}
    parts = [f"ended without notice at {float(frame.index[-1]):.0f} s"]
    hottest = _hottest(last)
    if hottest:
        said = f"last reading {last[hottest]:.1f} °C ({hottest})"
        if run.limit_c is not None:
            said += _beyond(last[hottest] - run.limit_c, "°C")
        parts.append(said)
    power_w = last.get("cpu.package.power_w", math.nan)
    if math.isfinite(power_w):
        said = f"{power_w:.0f} W"
        limit_w = run.power_limit_w or last.get("cpu.package.power_limit_w", math.nan)
        if math.isfinite(limit_w):
            said += _beyond(power_w - limit_w, "W")
        parts.append(said)
    return ", ".join(parts) + "; everything up to the last sample is here"


def _hottest(last: Mapping[str, float]) -> str:
    """Return the hottest part of the processor or graphics chip, or of anything else."""
    temps = {n: v for n, v in last.items() if n.endswith(".temp_c") and math.isfinite(v)}
    chips = {n: v for n, v in temps.items() if n.startswith(("cpu.", "gpu."))}
    found = chips or temps
    return max(found, key=lambda name: found[name], default="")


def _beyond(difference: float, unit: str) -> str:
    if difference > 0.5:
        return f", {difference:.0f} {unit} over the limit"
    if difference > -0.5:
        return ", at the limit"
    return f", {-difference:.0f} {unit} below the limit"
