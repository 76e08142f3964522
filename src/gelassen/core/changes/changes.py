"""When conditions changed in mid-run, from temperature, case air and the other logged channels."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pandas as pd

from gelassen.core.changes.logged_conditions import ConditionChange, condition_changes
from gelassen.core.changes.power_changes import power_change_near, power_changes
from gelassen.core.changes.steps import Step, find_steps
from gelassen.core.changes.thresholds import Changes
from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.gaps import wide_gaps
from gelassen.core.signal.grid import lagged, make_grid
from gelassen.core.signal.noise import step_size
from gelassen.core.signal.pauses import Pause, load_pauses
from gelassen.core.signal.renewal import without_repeats
from gelassen.core.signal.smooth_steps import unstepped
from gelassen.core.thermal.reference_place import BESIDE, likeliest_place
from gelassen.core.throttling.throttling_result import Throttling


def find_changes(
    frame: pd.DataFrame,
    times: Floats,
    span: tuple[float, float],
    temperature: Floats,
    room: Floats | None,
    *,
    throttling: Throttling | None,
    noted: list[tuple[float, str]],
    coolant: bool | None = None,
    power: Floats | None = None,
) -> tuple[Step, ...]:
    """Look for changes in the judged temperature and in the case air, both over the room.

    Parameters
    ----------
    frame : DataFrame
        All channels, one row a sample.
    times, temperature, room, power : array, shape (n,)
        Times in s, the judged temperature, its reference and the power of the part.
    span : (float, float)
        Start and end of the load, in s.
    throttling : Throttling, optional
        What held the chip back.
    noted : list of (float, str)
        Moments and words that the tester noted during the load.
    coolant : bool, optional
        Whether the reference is coolant; found from how it moves if not told.

    Notes
    -----
    What the tester noted during the load is a hint: a change at that moment needs less to be seen.
    Where throttling sets in or ends, the chip itself changed its heat: the conditions did not. Nor
    does a gap in the log show a change, or a channel that never moves. Power, fans, flow or load, where
    they were logged and changed as well, tell the moment best.
    """
    if not np.nanmax(temperature) > np.nanmin(temperature):
        return ()
    base = np.zeros(times.size) if room is None else _late(times, room, temperature, span, coolant)
    conditions = condition_changes(frame, times, span, temperature)
    told_s = [moment for moment, _ in noted] + [one.to_s for one in conditions]
    if power is not None:
        told_s += power_changes(times, power, span)
    known, fresh = power is not None, without_repeats(times, temperature)
    own = find_steps(
        times,
        fresh - base,
        load_s=span,
        told_s=told_s,
        power_known=known,
        reads_in=step_size(fresh) or None,
    )
    logged: list[ConditionChange | Pause] = [*conditions, *_pauses(frame, times, span)]
    shown = [_with_logged(step, logged) for step in own]
    rest = [step for step in shown if not step.logged and not _at_the_limit(step, throttling)]
    in_air = [_with_logged(step, logged) for step in _in_case_air(frame, times, span, base)]
    found = [step for step in (*shown, *in_air) if step.logged]
    rest += [step for step in in_air if not step.logged]
    found += _not_by_the_chip(rest, times, power, throttling)
    found = [_named(step, noted) for step in found]
    kept: list[Step] = []
    # Of several changes near each other, the one with the narrowest interval is kept. Others nearer to it
    # than their own interval are the same change.
    for step in sorted(found, key=lambda s: (not s.noted, s.high_s - s.low_s)):
        reach_s = max(Changes.SAME_CHANGE_S, step.high_s - step.low_s)
        if all(abs(step.at_s - other.at_s) > reach_s for other in kept):
            kept.append(step)
    return tuple(sorted(kept, key=lambda s: s.at_s))


def _pauses(frame: pd.DataFrame, times: Floats, span: tuple[float, float]) -> list[Pause]:
    if "cpu.all.load_pct" not in frame:
        return []
    return load_pauses(times, frame["cpu.all.load_pct"].to_numpy(dtype=float), span)


def _not_by_the_chip(
    found: list[Step],
    times: Floats,
    power: Floats | None,
    throttling: Throttling | None,
) -> list[Step]:
    """Return the changes that neither the chip itself nor gaps caused, placed where power changed."""
    intervals = throttling.intervals if throttling else ()
    heat = [(start, end) for start, end, cause in intervals if cause == "thermal"]
    by_limit = [t for *ends, cause in intervals if cause == "power" for t in ends]
    by_heat = [t for ends in heat for t in ends] + [t for gap in wide_gaps(times) for t in gap]
    held = [step for step in found if _to_a_held_level(step, times, power, heat)]
    free = [step for step in found if step not in held and _away(step, by_heat)]
    moved = [_at_change_of_power(step, times, power) for step in free]
    # A new power limit is a change. A limit that only begins to hold is none, nor is power that heat takes.
    left = [
        s for s, was in zip(moved, free, strict=True) if _away(s, by_limit if s is was else by_heat)
    ]
    return left + [_at_change_of_power(step, times, power) for step in held]


def _at_the_limit(step: Step, throttling: Throttling | None) -> bool:
    """Return whether heat held the chip before and after: then its governor sets the temperature."""
    return throttling is not None and any(
        start + Changes.SAME_CHANGE_S < step.at_s < end - Changes.SAME_CHANGE_S
        for start, end, cause in throttling.intervals
        if cause == "thermal"
    )


def _in_case_air(
    frame: pd.DataFrame, times: Floats, span: tuple[float, float], base: Floats
) -> list[Step]:
    """Return changes of the case air over the room beyond its usual wander."""
    found: list[Step] = []
    for name in frame.columns.tolist():
        if name.startswith("case.") and name.endswith(".temp_c"):
            air = without_repeats(times, frame[name].to_numpy(dtype=float)) - base
            within = air[(times >= span[0]) & (times <= span[1])]
            if not np.isfinite(within).any():
                continue
            least_k = max(
                Changes.CASE_CHANGE_K,
                Changes.CASE_CHANGE_SHARE * float(np.nanmax(within) - np.nanmin(within)),
            )
            steps = find_steps(times, air, load_s=span, smallest=least_k)
            found += [step for step in steps if abs(step.after - step.before) >= least_k]
    return found


def _away(step: Step, borders: list[float]) -> bool:
    return all(abs(step.at_s - t) > Changes.SAME_CHANGE_S for t in borders)


def _to_a_held_level(
    step: Step, times: Floats, power: Floats | None, heat: list[tuple[float, float]]
) -> bool:
    """Return whether power went up to a level that heat then cut. Then the load changed, not the governor.

    A governor raises power as well, when it stops holding the chip back.
    """
    if power is None or step.after <= step.before:
        return False
    rise = power_change_near(times, power, step.at_s, 1.0)
    if rise is None or any(abs(rise[1] - end) <= Changes.GIVEN_BACK_S for _, end in heat):
        return False
    if not any(0 <= start - rise[0] <= Changes.SAME_CHANGE_S for start, _ in heat):
        return False
    before, after = (
        power[(times >= a) & (times <= b) & np.isfinite(power)]
        for a, b in (
            (rise[0] - Changes.SAME_CHANGE_S, rise[0]),
            (rise[1], rise[1] + Changes.GIVEN_BACK_S),
        )
    )
    return bool(after.max(initial=0.0) > (1 + Changes.LEVEL_SHARE) * np.median(before))


def _at_change_of_power(step: Step, times: Floats, power: Floats | None) -> Step:
    """Move a change to where power changed the same way: heat follows it, and arrives later."""
    if power is None:
        return step
    between = power_change_near(times, power, step.at_s, float(np.sign(step.after - step.before)))
    if between is None:
        return step
    return replace(step, at_s=between[1], low_s=between[0], high_s=between[1])


def _with_logged(step: Step, logged: Sequence[ConditionChange | Pause]) -> Step:
    """Move a change to a nearby moment at which fan, flow or load changed suddenly, or the load paused."""
    near = [
        one
        for one in logged
        if one.away_s(step.at_s) <= Changes.LOGGED_NEAR_S
        or step.low_s - Changes.LATE_S <= one.to_s <= step.high_s + Changes.LATE_S
    ]
    if not near:
        return step
    one = min(near, key=lambda one: one.away_s(step.at_s))
    return replace(
        step, at_s=one.to_s, low_s=one.from_s, high_s=one.to_s, what=one.what, logged=str(one)
    )


def _named(step: Step, notes: list[tuple[float, str]]) -> Step:
    """Take over the tester's note about that moment."""
    near = [(abs(step.at_s - moment), text) for moment, text in notes]
    away_s, text = min(near, default=(np.inf, ""))
    return replace(step, noted=text) if away_s <= Changes.SAME_CHANGE_S else step


def _late(
    times: Floats,
    room: Floats,
    temperature: Floats,
    span: tuple[float, float],
    coolant: bool | None,
) -> Floats:
    """Return the delayed reference, so that a wave of the room does not look like a change."""
    grid = make_grid(times, float(times[-1]))
    reference = grid.filled(times, room)
    under_load = (times >= span[0]) & (times <= span[1])
    place = likeliest_place(temperature[under_load], room[under_load], coolant)
    if place is BESIDE:
        reference, _ = unstepped(reference, (grid.times_s >= span[0]) & (grid.times_s <= span[1]))
    felt = lagged(reference, grid.step_s, place.lag_s)
    return np.interp(times, grid.times_s, felt)
