"""What warmth cost: clock, power and work now against those of the first minute, or before a change."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from gelassen.core.changes.steps import Step
from gelassen.core.foundation.inputs import Bools
from gelassen.core.foundation.result import Result
from gelassen.core.recording.series import mean_where
from gelassen.core.run.prepared import PreparedRun
from gelassen.core.run.thresholds import Warmth


@dataclass(frozen=True, slots=True, kw_only=True)
class WarmthCost(Result):
    """A change of clock, power and work between two parts of a load, whatever its cause.

    Attributes
    ----------
    at_s
        When conditions changed, s; None for the first minute of the load against the hold.
    clock_pct, power_pct, work_pct
        Later mean against the earlier one, in % (negative: lost); NaN where not logged.
    """

    at_s: float | None
    clock_pct: float
    power_pct: float
    work_pct: float

    def __str__(self) -> str:
        told = [
            f"{name} {change:+.1f} %"
            for name, change in (
                ("clock", self.clock_pct), ("power", self.power_pct), ("work", self.work_pct)
            )
            if math.isfinite(change)
        ]  # fmt: skip
        return ", ".join(told) or "cannot tell"

    @property
    def largest_pct(self) -> float:
        """The largest of the changes, without its sign; 0 if nothing was logged."""
        known = [abs(x) for x in (self.clock_pct, self.work_pct) if math.isfinite(x)]
        return max(known, default=0.0)


def warmth_costs(
    run: PreparedRun, hold_s: tuple[float, float], steps: Sequence[Step]
) -> tuple[WarmthCost, ...]:
    """Return what changed from the first minute to the hold, and at each change of conditions.

    A load that is too short for both has none.
    """
    start_s, end_s = run.load_s
    if end_s - start_s < Warmth.SHORTEST_S:
        return ()
    first = run.within((start_s + Warmth.STARTS_S, start_s + Warmth.FIRST_S))
    found = [_cost(run, None, first & run.loaded, run.within(hold_s) & run.loaded)]
    for step in steps:
        before = run.within((step.at_s - Warmth.BESIDE_S, step.low_s)) & run.loaded
        after_s = min(step.high_s + Warmth.SETTLES_S, end_s)
        after = run.within((after_s, min(after_s + Warmth.BESIDE_S, end_s))) & run.loaded
        found.append(_cost(run, step.at_s, before, after))
    return tuple(found)


def _cost(run: PreparedRun, at_s: float | None, before: Bools, after: Bools) -> WarmthCost:
    clock, power, work = (
        _change_pct(mean_where(series, before), mean_where(series, after))
        for series in (run.part.clock_mhz, run.power_w, run.work_per_s)
    )
    return WarmthCost(at_s=at_s, clock_pct=clock, power_pct=power, work_pct=work)


def _change_pct(before: float, after: float) -> float:
    return 100 * (after / before - 1) if before > 0 and math.isfinite(after) else math.nan
