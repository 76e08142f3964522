"""What may have spoilt a run without anyone noticing, how much, and what to do about it."""

from collections.abc import Mapping

import numpy as np
import pandas as pd

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import columns_of, mean_where
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.signal.gaps import wide_gaps

_ROOM_DRIFT_K, _FAN_DRIFT_SHARE, _WORK_DRIFT_SHARE = 1.0, 0.05, 0.02
_IDLE_LOAD_PCT = 10.0
# A share of missing readings worth a word.
_SILENT_SHARE = 0.05
_OTHERS_MOVED_K, _FEWEST_READINGS = 8.0, 30
# So close to its own limit another part holds the chip back, or is about to.
_NEAR_LIMIT_K = 2.0
_BAND_K = 0.5
# A room read by hand is read every few minutes.
_UNREAD_S = 600.0
# A log shows no rest if its load begins this soon; most of what a load does is there from this share on.
_FIRST_S, _MOSTLY_THERE = 5.0, 0.5


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
    if room is not None and str(over).startswith("room."):  # what the load warms is meant to move
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
                    f"{name} moved by {drift:+.0f} rpm ({100 * drift / mean:+.0f} %) during hold: hold "
                    "began too early, or its curve hunts. Soak longer, or fix its duty"
                )
    steady_work, unit = (work, "work per second") if work is not None else (power, "power")
    if steady_work is not None:
        mean = mean_where(steady_work, held)
        drift = _late_minus_early(steady_work, held)
        if mean > 0 and abs(drift) > _WORK_DRIFT_SHARE * mean:
            cautions.append(
                f"{unit} changed by {100 * drift / mean:+.1f} % during hold: the load was not constant. "
                "Use a load that keeps its intensity"
            )
    return cautions


def bridged_caution(
    times: Floats, room: Floats, over: str | None, span: tuple[float, float]
) -> list[str]:
    """Say for how long the reference was not read, if straight lines bridge most of it."""
    known = np.isfinite(room)
    if known.mean() > 0.5:
        return []  # what is missing then is told with the steady state
    read = times[known & (times >= span[0]) & (times <= span[1])]
    longest_s = float(np.diff(np.concatenate([span[:1], read, span[1:]])).max())
    if longest_s < _UNREAD_S:
        return []
    return [
        f"{over} was not read for {longest_s / 60:.0f} min of the load; straight lines bridge it. Read it "
        "more often"
    ]


def sensor_cautions(
    frame: pd.DataFrame, times: Floats, loaded: Bools, chosen: str | None
) -> list[str]:
    """Say which readings fell silent or stood still, and where time itself has gaps."""
    cautions = []
    gaps = wide_gaps(times)
    if gaps:
        start, end = max(gaps, key=lambda gap: gap[1] - gap[0])
        cautions.append(
            f"nothing was recorded for {end - start:.0f} s after {start:.0f} s"
            + (f" (and in {len(gaps) - 1} more gaps)" if len(gaps) > 1 else "")
            + ": the clock jumped, the machine slept, or the logger stopped. What happened there is "
            "unknown"
        )
    names = [n for n in frame.columns if n.endswith(".temp_c") and not n.startswith("room.")]
    under = columns_of(frame, names)[loaded]
    if under.shape[0] == 0 or not names:
        return cautions
    known = np.isfinite(under)
    span = np.where(known, under, -np.inf).max(axis=0) - np.where(known, under, np.inf).min(axis=0)
    moved = dict(zip(names, np.where(known.any(axis=0), span, np.nan).tolist(), strict=True))
    most = max((k for k in moved.values() if k == k), default=0.0)
    shares = dict(zip(names, (1 - known.mean(axis=0)).tolist(), strict=True))
    for name in names:
        missing = shares[name]
        if missing == 1 and name != chosen and frame[name].notna().any():
            cautions.append(f"{name} fell silent: no reading under load. Check its sensor")
        elif _SILENT_SHARE < missing < 1:
            cautions.append(
                f"{name} is missing in {100 * missing:.0f} % of the load. Check its sensor or the logger"
            )
        still = moved[name] == 0 and under.shape[0] > _FEWEST_READINGS
        if still and name.startswith("cpu.") and most > _OTHERS_MOVED_K:
            cautions.append(
                f"{name} stood still at {_still_at(frame, name, loaded):.1f} °C while another reading "
                f"moved by {most:.0f} K: is it stuck?"
            )
        elif still and name == chosen and frame[name].max() == frame[name].min():
            at_c = f"{name} stood still at {_still_at(frame, name, loaded):.1f} °C"
            cautions.append(
                f"{at_c}, at rest and under load: it is stuck, or no temperature. Nothing can be "
                "concluded from it"
                if not loaded[0]
                else f"{at_c} in the whole log: it is coarse and has settled, or it is stuck"
            )
    return cautions


def _still_at(frame: pd.DataFrame, name: str, loaded: Bools) -> float:
    return float(frame.loc[loaded, name].median())


def other_part_cautions(
    frame: pd.DataFrame,
    loaded: Bools,
    limits_c: Mapping[str, float],
    held: Bools | None,
) -> list[str]:
    """Say which other part came to its own limit: then the cooler under test is not to blame."""
    cautions = []
    for name, limit in limits_c.items():
        if name.startswith(("cpu.", "room.")) or name not in frame.columns:
            continue
        hottest = float(frame.loc[loaded, name].max())
        if hottest >= limit - _NEAR_LIMIT_K:
            first = float(frame.index[loaded & (frame[name] >= limit - _NEAR_LIMIT_K)][0])
            also = " and the chip was held back" if held is not None and held.any() else ""
            cautions.append(
                f"{name} came to {hottest:.1f} °C at {first:.0f} s, its own limit is {limit:g} °C{also}: "
                "what is measured may be that part and not the cooler. Cool it, or lower the power"
            )
    for name in frame.columns:
        if name.endswith((".held_by_heat_flag", ".held_by_power_flag")) and name[:4] != "cpu.":
            share = float((frame.loc[loaded, name] > 0).mean())
            if share > 0:
                cause = "heat" if "_heat_" in name else "its power limit"
                cautions.append(
                    f"{name.split('.')[0]} was held back by {cause} for {100 * share:.0f} % of the load: "
                    "look at its clock and power, too"
                )
    return cautions


def hold_cautions(
    recording: Recording, steady: SteadyState, hold: tuple[float, float]
) -> list[str]:
    """Say if the hold began before the temperature had settled, and what that makes of its mean."""
    if not any(phase.name == "hold" for phase in recording.phases) or steady.curve is None:
        return []
    curve = steady.curve
    begun = float(np.interp(hold[0], curve.time_s, curve.value))
    short = steady.value - begun
    if abs(short) <= _BAND_K:
        return []
    return [
        f"hold began {abs(short):.1f} K {'below' if short > 0 else 'above'} the steady value: its mean and "
        "its peak say less than the steady value does. Soak longer"
    ]


def begun_cautions(
    times: Floats,
    rise: Floats,
    span: tuple[float, float],
    settled_k: float,
) -> list[str]:
    """Say if the log shows no rest, and most of the rise was there when it began."""
    first = rise[(times <= times[0] + _FIRST_S) & np.isfinite(rise)]
    if span[0] > times[0] + _FIRST_S or not first.size:
        return []
    share = float(np.median(first)) / settled_k if settled_k > 0 else 0.0
    if share < _MOSTLY_THERE:
        return []
    return [
        f"the log begins under load, with {100 * min(share, 1.0):.0f} % of the rise: what warms up slowly "
        "may still follow what came before, which widens the interval. Begin the log at rest"
    ]


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
