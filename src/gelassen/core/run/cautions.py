"""The cautions of a run: what may have spoilt it, by how much, and what to do."""

import numpy as np
import pandas as pd

from gelassen.core.changes.steps import Step
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.chips import whole_chips
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import columns_of, mean_where
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.thresholds import Cautions
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.thresholds import Noted
from gelassen.core.signal.gaps import wide_gaps
from gelassen.core.throttling.other_part import OtherPart
from gelassen.core.throttling.throttling_result import Throttling


def run_cautions(
    run: PreparedRun,
    steady: SteadyState | None,
    hold: tuple[float, float],
    steps: tuple[Step, ...],
    *,
    before: tuple[Caution, ...],
    throttling: Throttling | None,
) -> list[Caution]:
    """Return all cautions of a run, in the order of the output.

    `before` are cautions from the preparation. They come after those about missing channels.
    """
    held = run.within(hold)
    took_notice = steady is None or steady.took_notice  # else the steady state has the caution
    held_back = None if throttling is None else throttling.thermal | throttling.power
    cautions = [*run.cautions, *missing_cautions(run), *before]
    if steady is not None:
        cautions += steady.cautions
        if not steady.is_mean:  # a mean over the load is no matter of the hold
            cautions += hold_cautions(run.recording, steady, hold)
        cautions += begun_cautions(run, steady.value)
    cautions += change_cautions(steps)
    if run.recording.protocol != "capacity":
        drifts = drift_cautions(run, held)
        varies = steady is not None and steady.is_mean
        cautions += [one for one in drifts if not (varies and one.code == "work_drifted")]
    cautions += bridged_caution(run)
    cautions += background_cautions(run.recording, run.frame)
    cautions += sensor_cautions(run, run.judged.channel if took_notice else None)
    cautions += hotter_chip(run, held)
    by = None if throttling is None else throttling.other_part
    if by is not None:
        cautions.append(_held_by_other(by))
    also = other_part_cautions(run, held_back)
    return cautions + [one for one in also if by is None or one.sizes.get("channel") != by.channel]


def missing_cautions(run: PreparedRun) -> list[Caution]:
    """Say what was not logged and what cannot be concluded without it."""
    channel = run.judged.channel
    if channel is None:
        return [caution("no_temperature")]
    cautions: list[Caution] = []
    if run.reference is None:
        loop = [n for n in run.frame.columns if n.startswith("loop.") and n.endswith(".temp_c")]
        over_loop = (
            f" Rises over {loop[0]} are given where it is named as the reference." if loop else ""
        )
        cautions.append(caution("no_room", over_loop=over_loop))
    if run.readable_c is None and not run.recording.only_rested:
        cautions.append(caution("no_reading_under_load", channel=channel))
    elif run.limit_c is None:
        cautions.append(caution("no_limit"))
    return cautions


def change_cautions(steps: tuple[Step, ...]) -> list[Caution]:
    """Say that each stretch between changes is answered by itself."""
    if not steps:
        return []
    paused = all(step.what == "pause" for step in steps)
    code = "load_paused_in_between" if paused else "conditions_changed"
    return [caution(code, moments=", ".join(f"{step.at_s:.0f} s" for step in steps))]


def drift_cautions(run: PreparedRun, held: Bools) -> list[Caution]:
    """Say what moved that should have stood still: room, fans, work; and by how much."""
    cautions: list[Caution] = []
    frame, loaded, room, over = run.frame, run.loaded, run.reference_c, run.reference
    if room is not None and str(over).startswith("room."):  # what the load warms is meant to move
        drift = _late_minus_early(room, loaded)
        if abs(drift) > Cautions.ROOM_DRIFT_K:
            cautions.append(caution("reference_drifted", channel=str(over), drift_k=drift))
    for name in frame.columns:
        if name.startswith("fan.") and name.endswith(".speed_rpm"):
            fan = frame[name].to_numpy(dtype=float)
            mean = mean_where(fan, held)
            drift = _late_minus_early(fan, held)
            if mean > 0 and abs(drift) > Cautions.FAN_DRIFT_SHARE * mean:
                cautions.append(
                    caution(
                        "fan_drifted", channel=name, drift_rpm=drift, percent=100 * drift / mean
                    )
                )
    steady_work, unit = (
        (run.work_per_s, "work per second")
        if run.work_per_s is not None
        else (run.power_w, "power")
    )
    if steady_work is not None:
        mean = mean_where(steady_work, held)
        drift = _late_minus_early(steady_work, held)
        if mean > 0 and abs(drift) > Cautions.WORK_DRIFT_SHARE * mean:
            cautions.append(caution("work_drifted", what=unit, percent=100 * drift / mean))
    return cautions


def hotter_chip(run: PreparedRun, held: Bools) -> list[Caution]:
    """Name the processor or card that was warmer than what is judged by default, and rose further."""
    own = run.judged.channel
    if not run.judged_by_default or own is None or run.readable_c is None:
        return []
    chips = [name for part in ("cpu", "gpu") for name in whole_chips(run.frame, part, "temp_c")]
    theirs = {
        name: _level_and_rise(run.frame[name].to_numpy(dtype=float), run.loaded, held)
        for name in chips if name.partition(".")[0] != own.partition(".")[0]
    }  # fmt: skip
    level_c, rise_k = _level_and_rise(run.readable_c, run.loaded, held)
    warmer = [name for name, (c, k) in theirs.items() if c > level_c and k > rise_k]
    if not warmer:
        return []
    name = max(warmer, key=lambda one: theirs[one])
    return [caution("hotter_chip", channel=name, there_c=theirs[name][0], here_c=level_c)]


def _level_and_rise(series: Floats, loaded: Bools, held: Bools) -> tuple[float, float]:
    """Return the mean over the hold, in °C, and how far it lies above the lowest reading until then."""
    level_c = mean_where(series, held)
    before = series[: int(np.flatnonzero(loaded)[-1]) + 1]
    lowest = float(np.nanmin(before)) if np.isfinite(before).any() else float("nan")
    return level_c, level_c - lowest


def bridged_caution(run: PreparedRun) -> list[Caution]:
    """Say for how long the reference was not read, if straight lines bridge most of it."""
    if run.reference_c is None:
        return []
    times, span, known = run.times, run.load_s, np.isfinite(run.reference_c)
    if known.mean() > 0.5 or known.sum() <= Noted.MOST:
        return []  # what is missing then is told with the steady state
    read = times[known & (times >= span[0]) & (times <= span[1])]
    longest_s = float(np.diff(np.concatenate([span[:1], read, span[1:]])).max())
    if longest_s < Cautions.UNREAD_S:
        return []
    return [caution("reference_bridged", channel=str(run.reference), minutes=longest_s / 60)]


def sensor_cautions(run: PreparedRun, chosen: str | None) -> list[Caution]:
    """Say which readings fell silent or stood still, and where time itself has gaps."""
    cautions: list[Caution] = []
    frame, loaded = run.frame, run.loaded
    gaps = wide_gaps(run.times)
    if gaps:
        start, end = max(gaps, key=lambda gap: gap[1] - gap[0])
        more = f" (and in {counted(len(gaps) - 1, 'more gap')})" if len(gaps) > 1 else ""
        cautions.append(caution("nothing_recorded", length_s=end - start, start_s=start, more=more))
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
            cautions.append(caution("fell_silent", channel=name))
        elif Cautions.SILENT_SHARE < missing < 1:
            cautions.append(caution("partly_missing", channel=name, percent=100 * missing))
        still = moved[name] == 0 and under.shape[0] > Cautions.FEWEST_READINGS
        if still and name.startswith("cpu.") and most > Cautions.OTHERS_MOVED_K:
            cautions.append(
                caution(
                    "stuck_while_others_moved",
                    channel=name,
                    at_c=_still_at(frame, name, loaded),
                    moved_k=most,
                )
            )
        elif still and name == chosen and frame[name].max() == frame[name].min():
            code = "never_moved" if loaded[0] else "stuck"
            cautions.append(caution(code, channel=name, at_c=_still_at(frame, name, loaded)))
    return cautions


def _held_by_other(part: OtherPart) -> Caution:
    return caution("held_by_other_part", channel=part.channel, words=str(part), from_s=part.from_s)


def _still_at(frame: pd.DataFrame, name: str, loaded: Bools) -> float:
    return float(frame.loc[loaded, name].median())


def other_part_cautions(run: PreparedRun, held: Bools | None) -> list[Caution]:
    """Say which other part came to its own limit: then the cooler under test is not to blame."""
    cautions: list[Caution] = []
    frame, loaded = run.frame, run.loaded
    for name, limit in run.recording.limits_c.items():
        if name.startswith(("cpu.", "room.")) or name not in frame.columns:
            continue
        hottest = float(frame.loc[loaded, name].max())
        if hottest >= limit - Cautions.NEAR_LIMIT_K:
            first = float(frame.index[loaded & (frame[name] >= limit - Cautions.NEAR_LIMIT_K)][0])
            also = " and the chip was held back" if held is not None and held.any() else ""
            cautions.append(
                caution(
                    "other_part_at_limit",
                    channel=name,
                    hottest_c=hottest,
                    at_s=first,
                    limit_c=limit,
                    also=also,
                )
            )
    for name in frame.columns:
        if name.endswith((".held_by_heat_flag", ".held_by_power_flag")) and name[:4] != "cpu.":
            share = float((frame.loc[loaded, name] > 0).mean())
            if share > 0:
                cause = "heat" if "_heat_" in name else "its power limit"
                part = name.split(".")[0]
                cautions.append(
                    caution("other_part_held_back", part=part, cause=cause, percent=100 * share)
                )
    return cautions


def hold_cautions(
    recording: Recording, steady: SteadyState, hold: tuple[float, float]
) -> list[Caution]:
    """Return whether the hold began before the temperature had settled, and what that makes of its mean."""
    if not any(phase.name == "hold" for phase in recording.phases) or steady.curve is None:
        return []
    curve = steady.curve
    begun = float(np.interp(hold[0], curve.time_s, curve.value))
    short = steady.value - begun
    if abs(short) <= Cautions.BAND_K:
        return []
    side = "below" if short > 0 else "above"
    return [caution("hold_began_early", short_k=abs(short), side=side)]


def begun_cautions(run: PreparedRun, settled_k: float) -> list[Caution]:
    """Return whether the log shows no rest, and most of the rise was there when it began."""
    if run.temperature_c is None or run.reference_c is None or run.over_coolant:
        return []
    times, rise = run.times, run.temperature_c - run.reference_c
    first = rise[(times <= times[0] + Cautions.FIRST_S) & np.isfinite(rise)]
    if run.load_s[0] > times[0] + Cautions.FIRST_S or not first.size:
        return []
    share = float(np.median(first)) / settled_k if settled_k > 0 else 0.0
    if share < Cautions.MOSTLY_THERE:
        return []
    return [caution("log_begins_under_load", percent=100 * min(share, 1.0))]


def background_cautions(recording: Recording, frame: pd.DataFrame) -> list[Caution]:
    """Return whether other programs kept the machine busy while it was to rest."""
    idle = [phase for phase in recording.phases if phase.name == "idle"]
    if not idle or "cpu.all.load_pct" not in frame.columns:
        return []
    # The load begins with the first sample of the next phase.
    resting = frame.index.to_numpy(dtype=float) < idle[0].end_s
    busy = float(frame.loc[resting, "cpu.all.load_pct"].mean())
    if not busy > Cautions.IDLE_LOAD_PCT:
        return []
    return [caution("busy_at_rest", percent=busy)]


def _late_minus_early(series: Floats, where: Bools) -> float:
    values = series[where]
    quarter = values.size // 4
    if quarter < 2:
        return 0.0
    early, late = values[:quarter], values[-quarter:]
    if not (np.isfinite(early).any() and np.isfinite(late).any()):
        return 0.0
    return float(np.nanmean(late) - np.nanmean(early))
