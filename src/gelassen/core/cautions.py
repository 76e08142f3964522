"""What may have spoilt a run without anyone noticing: drift, and other programs."""

import numpy as np
import pandas as pd

from gelassen.core.inputs import Bools, Floats
from gelassen.core.recording import Recording
from gelassen.core.tabular import mean_where

_ROOM_DRIFT_K, _FAN_DRIFT_SHARE, _WORK_DRIFT_SHARE = 1.0, 0.05, 0.02
_IDLE_LOAD_PCT = 10.0


def drift_cautions(
    frame: pd.DataFrame,
    loaded: Bools,
    held: Bools,
    room: Floats | None,
    over: str | None,
    power: Floats | None,
    work: Floats | None,
) -> list[str]:
    """Say what moved that should have stood still: room, fans, work; and by how much."""
    cautions = []
    if room is not None:
        drift = _late_minus_early(room, loaded)
        if abs(drift) > _ROOM_DRIFT_K:
            cautions.append(
                f"{over} drifted by {drift:+.1f} K during the load; it is allowed for, but a steadier "
                "room gives a surer answer"
            )
    for name in frame.columns:
        if name.startswith("fan.") and name.endswith(".speed_rpm"):
            fan = frame[name].to_numpy(dtype=float)
            mean = mean_where(fan, held)
            drift = _late_minus_early(fan, held)
            if mean > 0 and abs(drift) > _FAN_DRIFT_SHARE * mean:
                cautions.append(
                    f"{name} moved by {drift:+.0f} rpm during hold: hold began too early"
                )
    steady_work, unit = (work, "work per second") if work is not None else (power, "power")
    if steady_work is not None:
        mean = mean_where(steady_work, held)
        drift = _late_minus_early(steady_work, held)
        if mean > 0 and abs(drift) > _WORK_DRIFT_SHARE * mean:
            cautions.append(f"{unit} changed by {100 * drift / mean:+.1f} % during hold")
    return cautions


def background_cautions(recording: Recording, frame: pd.DataFrame) -> list[str]:
    """Say if other programs kept the machine busy while it was to rest."""
    idle = [phase for phase in recording.phases if phase.name == "idle"]
    if not idle or "cpu.all.load_pct" not in frame.columns:
        return []
    # The load begins with the first sample of the next phase.
    resting = frame.index.to_numpy(dtype=float) < idle[0].end_s
    busy = float(frame.loc[resting, "cpu.all.load_pct"].mean())
    if not busy > _IDLE_LOAD_PCT:
        return []
    return [
        f"other programs used {busy:.0f} % of the processor while it was to rest: close them, or the "
        "load is not what it seems"
    ]


def _late_minus_early(series: Floats, where: Bools) -> float:
    values = series[where]
    quarter = values.size // 4
    if quarter < 2:
        return 0.0
    early, late = values[:quarter], values[-quarter:]
    if not (np.isfinite(early).any() and np.isfinite(late).any()):
        return 0.0
    return float(np.nanmean(late) - np.nanmean(early))
