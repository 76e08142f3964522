"""What happened under load: when the chip was held back, what changed, where each stretch settles."""

from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.capacity.from_climb import ClimbCapacity, capacity_from_climb
from gelassen.core.changes.changes import find_changes
from gelassen.core.changes.steps import Step
from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.series import mean_where
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.stretches import (
    Stretch,
    answer_stretches,
    comes_in_bursts,
    steps_between,
)
from gelassen.core.run.thresholds import Passing, Swinging
from gelassen.core.settling.swings import find_swings
from gelassen.core.signal.renewal import renewed_every_s
from gelassen.core.throttling.find_other_part import find_other_part
from gelassen.core.throttling.throttling import find_throttling
from gelassen.core.throttling.throttling_result import Throttling


@dataclass(frozen=True, slots=True, kw_only=True)
class UnderLoad:
    """The findings of one load."""

    throttling: Throttling | None = None
    climb: ClimbCapacity | None = None
    steps: tuple[Step, ...] = ()
    stretches: tuple[Stretch, ...] = ()
    cautions: tuple[Caution, ...] = ()


def find_under_load(run: PreparedRun, *, confidence: float, look_for_steps: bool) -> UnderLoad:
    """Return what happened under load; nothing without a reading of the judged temperature."""
    if run.recording.only_rested:
        return UnderLoad(cautions=(caution("never_loaded"),))
    if run.readable_c is None:
        return UnderLoad()
    renewed = _renewal_cautions(run)
    if run.recording.protocol == "capacity":  # a climb sets its own power limits
        climb, said = _climb(run, confidence)
        return UnderLoad(climb=climb, cautions=(*renewed, *said))
    throttling = _throttling(run)
    steps = _changes(run, throttling) if look_for_steps else ()
    stretches = answer_stretches(run, [step.at_s for step in steps], confidence, throttling)
    return UnderLoad(
        throttling=throttling,
        steps=steps_between(steps, stretches),
        stretches=stretches,
        cautions=(*(throttling.cautions if throttling else ()), *renewed),
    )


def _throttling(run: PreparedRun) -> Throttling | None:
    if run.limit_c is None:
        return None
    part = run.part
    found = find_throttling(
        run.times,
        temperature_c=part.hottest_c,
        limit_c=run.limit_c,
        clock_mhz=part.clock_mhz,
        power_w=part.power_w,
        power_limit_w=run.recording.power_limit_w if part.is_processor else None,
        load_pct=part.load_pct,
        throttle_count=part.throttle_count,
        heat_flag=part.heat_flag,
        power_flag=part.power_flag,
    )
    other = find_other_part(
        run.times, run.frame, run.loaded, found, run.recording.limits_c,
        processor=part.is_processor, stated_limit=run.recording.power_limit_w is not None,
    )  # fmt: skip
    return replace(found, other_part=other)


def _renewal_cautions(run: PreparedRun) -> list[Caution]:
    every_s = None if run.temperature_c is None else renewed_every_s(run.times, run.temperature_c)
    return [] if every_s is None else [caution("renewed_rarely", every_s=every_s)]


def _changes(run: PreparedRun, throttling: Throttling | None) -> tuple[Step, ...]:
    """Return the changes of conditions; a load or a temperature that comes and goes has none."""
    if run.temperature_c is None or comes_in_bursts(
        run.times, run.power_w, run.part.load_pct, run.loaded
    ):
        return ()
    start_s, end_s = run.load_s
    noted = [(e.at_s, e.text) for e in run.recording.events if start_s < e.at_s < end_s]
    # A fan that switches on and off is not a change. What the tester noted is one.
    if not noted and _swings(run):
        return ()
    # A reading at the very end of the load shows the rest after it.
    before = run.times[run.times < end_s]
    span = (start_s, float(before[-1]) if before.size else end_s)
    found = find_changes(
        run.frame, run.times, span, run.temperature_c, run.reference_c, throttling=throttling,
        noted=noted, coolant=run.over_coolant, power=run.power_w,
    )  # fmt: skip
    return _without_passing_cuts(run, found)


def _without_passing_cuts(run: PreparedRun, steps: tuple[Step, ...]) -> tuple[Step, ...]:
    """Return the changes without cuts of the load that soon passed: conditions are as before."""
    kept: list[Step] = []
    for step in steps:
        if kept and _passed(run, kept[-1], step):
            kept.pop()
        else:
            kept.append(step)
    return tuple(kept)


def _passed(run: PreparedRun, first: Step, second: Step) -> bool:
    """Return whether two changes are the beginning and the end of one short cut of the power."""
    if run.power_w is None or "pause" in (first.what, second.what) or first.noted or second.noted:
        return False
    if second.at_s - first.at_s > Passing.LONGEST_S:
        return False
    away_s = Passing.AROUND_S
    before = mean_where(run.power_w, run.within((first.at_s - away_s, first.at_s - Passing.EDGE_S)))
    between = mean_where(run.power_w, run.within((first.at_s, second.at_s)))
    after = mean_where(
        run.power_w, run.within((second.at_s + Passing.EDGE_S, second.at_s + away_s))
    )
    cut = abs(between - before) > Passing.SHARE * before
    return cut and abs(after - before) <= Passing.SHARE * before


def _swings(run: PreparedRun) -> bool:
    """Return whether the temperature swings for good, and the load does not."""
    load_pct, rise = run.part.load_pct, run.bridged_rise
    if rise is None:
        return False
    if load_pct is not None and np.isfinite(load_pct[run.loaded]).any():
        low, high = np.nanpercentile(load_pct[run.loaded], [5, 95])
        if high - low > Swinging.LOAD_SWINGS * high:
            return False
    swings = find_swings(run.times, rise, run.bridged_reference_c, run.power_w, *run.load_s)
    return swings is not None and swings.is_regular


def _climb(run: PreparedRun, confidence: float) -> tuple[ClimbCapacity | None, list[Caution]]:
    """Return the capacity that a climb shows, or why it shows none."""
    power, room, rise = run.power_w, run.bridged_reference_c, run.bridged_rise
    if room is None or power is None or rise is None or run.limit_c is None:
        return None, [caution("climb_lacks_channels")]
    under = run.times <= run.load_s[1]
    try:
        found = capacity_from_climb(
            run.times[under], power[under], rise[under],
            limit_c=run.limit_c, ambient_c=float(room[under].mean()), confidence=confidence,
        )  # fmt: skip
    except InputError as error:
        return None, [caution("climb_tells_nothing", why=str(error))]
    return found, []
