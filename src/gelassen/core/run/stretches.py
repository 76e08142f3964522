"""The stretches of a load between changes of conditions, each with its own steady state."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from gelassen.core.changes.steps import Step
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.foundation.result import Result
from gelassen.core.recording.load_span import in_bursts
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.thresholds import Levels, Stretches
from gelassen.core.settling.steady import steady_state
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.settling.thresholds import Course
from gelassen.core.throttling.throttling_result import Throttling


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch(Result):
    """A part of the load between two changes of conditions, and where it was settling.

    Attributes
    ----------
    start_s, end_s
        When it began and ended, in s.
    steady
        Where the temperature was going in it.
    within_1k_s
        How long it took to come within 1 K of that; None if it did not.
    first_minute_k
        By how much the temperature moved, over the reference, in its first minute; NaN if not read.
    thermal_share, power_share
        How much of it the chip was held back, 0 to 1; NaN if that is not known.
    """

    start_s: float
    end_s: float
    steady: SteadyState
    within_1k_s: float | None = None
    first_minute_k: float = float("nan")
    thermal_share: float = float("nan")
    power_share: float = float("nan")


def answer_stretches(
    run: PreparedRun, changes_s: Sequence[float], confidence: float, throttling: Throttling | None
) -> tuple[Stretch, ...]:
    """Say where each stretch of the load settles. `changes_s` are the times between stretches, s.

    The first stretch shows the whole heating. Its slowest time constant informs the others. Where no
    power was logged, the busy time of the chip tells whether the load came in bursts.
    """
    if run.temperature_c is None:
        return ()
    under = run.times <= run.load_s[1]
    times, temperature = run.times[under], run.temperature_c[under]
    room, power, load_pct = (
        None if series is None else series[under]
        for series in (run.mostly_read_reference_c, run.power_w, run.part.load_pct)
    )
    borders = [run.load_s[0], *changes_s, run.load_s[1]]
    parts: list[Stretch] = []
    read = np.isfinite(temperature) & (times >= run.load_s[0])
    bursts = comes_in_bursts(times, power, load_pct, read)
    level = load_pct if bursts and power is None else power
    for start, end in pairwise(borders):
        until = times <= end
        if not np.isfinite(temperature[until & (times >= start)]).any():
            continue
        steady = steady_state(
            times[until],
            temperature[until],
            reference_c=None if room is None else room[until],
            power_w=None if level is None else level[until],
            load_start_s=min(max(start, float(times[0])), float(times[until][-1]) - 1e-3),
            # Otherwise power tells when it ended, since a load may end before its phase does.
            load_end_s=float(times[until][-1]) if bursts else None,
            confidence=confidence,
            slowest_s=_slowest_s(parts[0].steady) if parts else None,
            reference_is_coolant=run.over_coolant,
            changes_before=_changes_before(parts, start) if room is not None else (),
            limit_c=_limit_of_judged(run),
            reference_se_k=None
            if run.recording.stated_room is None
            else run.recording.stated_room[1],
            held_back=_held_back(throttling, np.flatnonzero(until & (times >= start))),
        )
        if power is None:
            steady = replace(steady, power_w=float("nan"))
        by_heat, by_power = _shares(throttling, np.flatnonzero(until & (times >= start)))
        parts.append(
            Stretch(
                start_s=start,
                end_s=end,
                steady=steady,
                within_1k_s=within_1k_s(steady, start, end),
                first_minute_k=_first_minute_k(times, temperature, room, start, end),
                thermal_share=by_heat,
                power_share=by_power,
            )
        )
    return tuple(parts)


def _held_back(
    throttling: Throttling | None, inside: "np.ndarray[tuple[int], np.dtype[np.intp]]"
) -> bool | None:
    """Return whether heat held the chip back in the last third of a stretch; None if nothing tells."""
    if throttling is None or not np.isfinite(throttling.thermal_share):
        return None
    third = inside[-max(inside.size // 3, 1) :]
    return bool(throttling.thermal[third].mean() > Levels.HELD_SHARE)


def _limit_of_judged(run: PreparedRun) -> float | None:
    """Return the limit of the judged temperature, which is less hot than the hottest that has the limit."""
    temperature, late = run.temperature_c, run.within((sum(run.load_s) / 2, run.load_s[1]))
    if run.limit_c is None or temperature is None:
        return None
    below = (run.part.hottest_c - temperature)[late]
    below = below[np.isfinite(below)]
    return run.limit_c - (float(np.median(below)) if below.size else 0.0)


def _shares(
    throttling: Throttling | None, inside: "np.ndarray[tuple[int], np.dtype[np.intp]]"
) -> tuple[float, float]:
    if throttling is None:
        return float("nan"), float("nan")
    return float(throttling.thermal[inside].mean()), float(throttling.power[inside].mean())


def comes_in_bursts(
    times: Floats, power: Floats | None, load_pct: Floats | None, loaded: Bools
) -> bool:
    """Return whether the load comes and goes, by its power, or else by the time that the chip is busy."""
    level = load_pct if power is None else power
    return level is not None and in_bursts(times[loaded], level[loaded])


def steps_between(steps: tuple[Step, ...], stretches: tuple[Stretch, ...]) -> tuple[Step, ...]:
    """Return the changes with their sizes, from the steady states before and after each."""
    if len(stretches) != len(steps) + 1:
        return steps
    sized = []
    for step, (first, second) in zip(steps, pairwise(stretches), strict=True):
        before, after = first.steady, second.steady
        moved = after.value - before.value
        # Errors of two stretches add in squares, separately for each direction.
        down = float(np.hypot(after.value - after.low, before.high - before.value))
        up = float(np.hypot(after.high - after.value, before.value - before.low))
        sized.append(
            replace(
                step,
                before=before.value,
                after=after.value,
                moved_low=moved - down,
                moved_high=moved + up,
            )
        )
    return tuple(sized)


def _changes_before(parts: list[Stretch], start_s: float) -> list[tuple[float, float]]:
    """Return by how much each stretch moved the steady rise, and how long ago it began."""
    changes, rise = [], 0.0
    for part in parts:
        if np.isfinite([part.steady.low, part.steady.high]).all():
            changes.append((part.steady.value - rise, start_s - part.start_s))
            rise = part.steady.value
    return changes


def _first_minute_k(
    times: Floats, temperature: Floats, room: Floats | None, start_s: float, end_s: float
) -> float:
    """Return by how much it moved from the half minute before to the end of the first minute."""
    rise = temperature if room is None else temperature - room
    begin, end = Course.MINUTE_S
    there = np.isfinite(rise)
    before = rise[(times >= start_s - Stretches.BEFORE_S) & (times < start_s) & there]
    after = rise[(times >= start_s + begin) & (times <= min(start_s + end, end_s)) & there]
    return float(after.mean() - before.mean()) if before.size and after.size else float("nan")


def _slowest_s(steady: SteadyState) -> tuple[float, float] | None:
    told = np.isfinite([steady.low, steady.high]).all() and steady.time_constant_intervals_s
    return steady.time_constant_intervals_s[-1] if told else None


def within_1k_s(steady: SteadyState, start_s: float, end_s: float) -> float | None:
    """Return after how long the fitted course came within 1 K of its end for good."""
    if (
        steady.curve is None
        or steady.swings_between is not None
        or not np.isfinite([steady.low, steady.high]).all()
    ):
        return None  # without an interval, or while it swings, nothing is come near to
    logged = steady.curve.time_s <= end_s
    away = np.flatnonzero(np.abs(steady.curve.value[logged] - steady.value) > 1.0)
    if away.size == 0:  # no later than the start of the fit
        return float(max(steady.curve.time_s[0] - start_s, 0.0))
    if away[-1] + 1 >= logged.sum():
        return None
    return float(steady.curve.time_s[away[-1] + 1] - start_s)
