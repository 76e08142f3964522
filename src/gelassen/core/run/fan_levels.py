"""Duties within one run: a fan that is held at one after the other, and where each of them settles."""

from dataclasses import replace
from itertools import pairwise

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.run.power_levels import Level, levels_of
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.stretches import answer_stretches
from gelassen.core.run.thresholds import Levels
from gelassen.core.settling.outlook import widened_for_looking
from gelassen.core.throttling.throttling_result import Throttling


def fan_levels(
    run: PreparedRun, throttling: Throttling | None, confidence: float
) -> tuple[Level, ...]:
    """Return one level for each duty under load; none for a fan that keeps one, or follows a curve."""
    duties = [n for n in run.frame.columns if n.startswith("fan.") and n.endswith(".duty_pct")]
    if run.power_w is None or run.temperature_c is None:
        return ()
    steps = [duty_steps(run.times, run.frame[n].to_numpy(dtype=float), run.load_s) for n in duties]
    borders = max(steps, key=len, default=[])  # of several fans, the one that was stepped
    if not borders:
        return ()
    stretches = answer_stretches(run, borders, confidence, throttling)
    # A load that waits for its answers leaves each duty as it is known, also if its time runs out later.
    if any(phase.ending in ("known", "time limit") for phase in run.recording.phases):
        stretches = tuple(replace(one, steady=widened_for_looking(one.steady)) for one in stretches)
    return tuple(level for level, _ in levels_of(run, run.power_w, stretches, throttling))


def duty_steps(times: Floats, duty_pct: Floats, load_s: tuple[float, float]) -> list[float]:
    """Return when the duty went to another that was held, s; nothing if it ever drifted under load."""
    under = np.isfinite(duty_pct) & (times >= load_s[0]) & (times < load_s[1])
    at, duty = times[under], duty_pct[under]
    if at.size < 2:
        return []
    jumps = at[1:][np.abs(np.diff(duty)) >= Levels.DUTY_APART_PCT]
    # A fan controller may take two readings for one step: the last of them counts.
    borders = [
        float(t)
        for k, t in enumerate(jumps)
        if k + 1 == jumps.size or jumps[k + 1] - t > Levels.FAN_S
    ]
    borders = [t for t in borders if t - load_s[0] > Levels.FAN_S]
    for start, end in pairwise([load_s[0], *borders, load_s[1]]):
        held = duty[(at >= start + Levels.FAN_S) & (at < end - Levels.FAN_S)]
        if (
            end - start < Levels.DUTY_LASTS_S
            or not held.size
            or np.ptp(held) > Levels.DUTY_HELD_PCT
        ):
            return []
    return borders
