"""The cause at each sample, heat or a power limit, from clock, power and temperature."""

from dataclasses import dataclass

import numpy as np

from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.signal.flags import running_median, tidied
from gelassen.core.throttling.best_clock import below_best, best_clock, single_losses
from gelassen.core.throttling.boost_loss import lost_gradually
from gelassen.core.throttling.clock_cuts import cut_again_and_again, cut_by_heat, lowered_at_limit
from gelassen.core.throttling.clock_over_temperature import WarmCourse, warm_course
from gelassen.core.throttling.power_limit import gives_way, pinned, switched
from gelassen.core.throttling.temperature_held import gives_way_at_limit
from gelassen.core.throttling.thresholds import Cause, Smooth


@dataclass(frozen=True, slots=True)
class _Lowered:
    """Where heat lowered the clock."""

    cut: Bools  # and raised it again
    again: Bools  # short ones among these
    close: Bools  # lowered at the limit, and the chip is hardly cooler since
    begun: Bools  # lowered at the limit, however cool it is since

    @property
    def by_heat(self) -> Bools:
        """Cut, or still close to the limit."""
        return self.cut | self.close


@dataclass(frozen=True, slots=True)
class Chip:
    """What is known of the chip at each sample, and how near to its limit counts as near."""

    times: Floats
    temperature: Floats
    loaded: Bools
    steady: Bools  # loaded, without pauses and what lies beside them
    near: Bools
    limit_c: float
    near_k: float
    impossible: bool

    @property
    def nowhere(self) -> Bools:
        """No sample."""
        return np.zeros(self.times.size, dtype=bool)

    def lowered(
        self, level: Floats, slow: Bools, best: Floats | float, course: WarmCourse
    ) -> _Lowered:
        """Return where heat lowered clock (or power), at the limit or a little below it."""
        if self.impossible:
            return _Lowered(self.nowhere, self.nowhere, self.nowhere, self.nowhere)
        times, temperature = self.times, self.temperature
        at_limit = temperature >= self.limit_c - self.near_k
        cut = slow & cut_by_heat(times, temperature, level, slow, at_limit, self.steady)
        low = self.steady & single_losses(level, best)
        again = cut_again_and_again(times, temperature, level, low, at_limit, self.steady)
        cut = tidied(times, cut | again) | again
        begun, close = lowered_at_limit(
            times, temperature, level, slow, cut, at_limit, self.limit_c, self.near_k
        )
        return _Lowered(cut, again, slow & close & ~course.follows, begun)

    def course(self, level: Floats) -> WarmCourse:
        """Return where, near the limit, clock (or power) keeps its course from below the limit."""
        return warm_course(self.times, self.temperature, level, self.loaded, self.near)


def from_clock(
    chip: Chip,
    clock: Floats,
    power: Floats | None,
    load: Floats | None,
    allowed: Floats | None,
) -> tuple[Bools, Bools, Bools]:
    """Return where heat held the chip back, where power did, and which cuts are surely by heat."""
    times, loaded, near = chip.times, chip.loaded, chip.near
    drawn = clock.clip(min=0) ** Cause.USUAL_STEEPNESS if power is None else power
    best = best_clock(times, clock, loaded, near, drawn)
    slow, surely_slow = (chip.steady & low for low in below_best(times, clock, best))
    course = chip.course(clock)
    lowered = chip.lowered(clock, slow, best, course)
    again = lowered.again
    thermal, by_power = slow & near & ~course.follows, chip.nowhere
    if power is None:
        thermal |= lowered.by_heat
        if load is not None:
            by_power = switched(times, clock, surely_slow & ~near & ~lowered.begun & ~thermal)
        return thermal, by_power, again
    # Also near the temperature limit: while power keeps its level, heat takes nothing. But the level
    # is read off where heat cannot have made it.
    held = surely_slow & ~lowered.cut if allowed is None else slow
    away = held & ~near & ~(lowered.close if allowed is None else chip.nowhere)
    by_power = held & pinned(times, power, allowed, away, near | lowered.close)
    if allowed is None:
        by_power &= ~lost_gradually(times, chip.temperature, power, by_power, loaded, clock, best)
    if not chip.impossible:
        thermal |= gives_way_at_limit(times, chip.temperature, clock, power, chip.limit_c, loaded)
        thermal |= chip.steady & course.leaves & chip.course(power).leaves
    thermal = (thermal | lowered.by_heat) & ~by_power
    if allowed is None:
        free = loaded & ~near & ~lowered.by_heat
        by_power |= gives_way(times, chip.temperature, clock, power, free) & ~thermal
        by_power |= switched(
            times, power, surely_slow & ~near & ~lowered.begun & ~by_power & ~thermal
        )
    return thermal, by_power, again & ~by_power


def from_power(chip: Chip, power: Floats, load: Floats | None) -> tuple[Bools, Bools, Bools]:
    """Return the same from power alone: a chip with less power is taken to be held back."""
    times, loaded, near = chip.times, chip.loaded, chip.near
    # A warming chip leaks and draws more. So power below what it drew before is a loss.
    drawn = np.where(loaded, running_median(power, times, Smooth.USUAL_S), 0.0)
    best = np.maximum.accumulate(np.nan_to_num(drawn))
    slow = chip.steady & (
        running_median(power, times, Smooth.GLANCE_S) < (1 - Cause.POWER_SHARE) * best
    )
    course = chip.course(power)
    lowered = chip.lowered(power, slow, best, course)
    thermal = slow & near & ~course.follows | lowered.by_heat
    by_power = chip.nowhere
    if load is not None:  # otherwise the load itself may do less
        below = slow & ~thermal
        by_power = below & pinned(times, power, None, below & ~near, near)
        by_power &= ~lost_gradually(times, chip.temperature, power, by_power, loaded)
        by_power |= switched(times, power, below & ~near & ~lowered.begun & ~by_power)
    return thermal, by_power, lowered.again
