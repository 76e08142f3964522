"""What a sweep of one duty shows: which fans it drives, where they stop and start, and dead ranges."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.result import Result
from gelassen.core.probing.thresholds import Sweep as At


@dataclass(frozen=True, slots=True, kw_only=True)
class SweepStep:
    """One duty that was held until all fans kept their speed.

    Attributes
    ----------
    duty_pct
        The duty that was set, %.
    falling
        Whether the duty came down to this value. If not, it rose from a fan that stood still.
    rpm
        The speed of each fan, by channel.
    """

    duty_pct: float
    falling: bool
    rpm: Mapping[str, float]


@dataclass(frozen=True, slots=True, kw_only=True)
class FanSweep(Result):
    """One fan over the duty that drives it.

    Attributes
    ----------
    duty, fan
        Channel of the duty, and of the speed that follows it.
    duty_pct, rpm
        Duties with rising values, %, and the speed at each while the duty fell, rpm.
    stalls_pct
        The highest duty at which the fan stood still while the duty fell; None if it always turned.
    starts_pct
        The lowest duty at which it started from standstill; None if it never stood, or never started.
    dead_pct
        Ranges of duty in which the speed does not follow while the fan turns, %.
    """

    duty: str
    fan: str
    duty_pct: tuple[float, ...]
    rpm: tuple[float, ...]
    stalls_pct: float | None
    starts_pct: float | None
    dead_pct: tuple[tuple[float, float], ...]
    cautions: tuple[Caution, ...] = ()

    @property
    def turning(self) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """Duties and speeds at which the fan turned."""
        kept = [(d, r) for d, r in zip(self.duty_pct, self.rpm, strict=True) if _turns(r)]
        return tuple(d for d, _ in kept), tuple(r for _, r in kept)

    def __str__(self) -> str:
        duties, speeds = self.turning
        told = f"{self.duty} drives {self.fan}: {speeds[0]:.0f} to {speeds[-1]:.0f} rpm"
        told += f" at {duties[0]:g} to {duties[-1]:g} %"
        if self.stalls_pct is None:
            told += "; it never stops"
        else:
            told += f"; it stops at {self.stalls_pct:g} %"
            told += "" if self.starts_pct is None else f", starts at {self.starts_pct:g} %"
        for low, high in self.dead_pct:
            told += f"; the speed does not follow from {low:g} to {high:g} %"
        return told


def fan_sweeps(duty: str, steps: Sequence[SweepStep]) -> tuple[FanSweep, ...]:
    """Return what the sweep showed of each fan that one duty drives; nothing if it drives none.

    A fan is driven by a duty if its speed rises with it: by a tenth at least, and never falls by more than
    scatter. Other fans may get faster while this one slows down, because the machine becomes warmer.

    Parameters
    ----------
    duty : str
        The channel of the duty.
    steps : sequence of SweepStep
        What was held, in order of time: down from the highest duty, then up again.
    """
    down = sorted((step for step in steps if step.falling), key=lambda step: step.duty_pct)
    up = [step for step in steps if not step.falling]
    found = []
    for fan in down[0].rpm if down else ():
        speeds = [step.rpm.get(fan, math.nan) for step in down]
        if not _driven(speeds):
            continue
        duties = [step.duty_pct for step in down]
        stood = [d for d, rpm in zip(duties, speeds, strict=True) if not _turns(rpm)]
        started = [step.duty_pct for step in up if _turns(step.rpm.get(fan, math.nan))]
        starts_pct = min(started, default=None) if stood else None
        found.append(
            FanSweep(
                duty=duty,
                fan=fan,
                duty_pct=tuple(duties),
                rpm=tuple(speeds),
                stalls_pct=max(stood, default=None),
                starts_pct=starts_pct,
                dead_pct=tuple(_dead(duties, speeds)),
                cautions=(caution("fan_never_started", fan=fan),) if stood and not started else (),
            )
        )
    return tuple(found)


def _turns(rpm: float) -> bool:
    return rpm >= At.STANDS_RPM


def _driven(speeds: Sequence[float]) -> bool:
    """Return whether the speed rises with the duty."""
    if any(math.isnan(rpm) for rpm in speeds) or not _turns(max(speeds)):
        return False
    most = max(speeds)
    falls = max(max(speeds[: k + 1]) - rpm for k, rpm in enumerate(speeds))
    return most - min(speeds) >= At.DRIVES_SHARE * most and falls <= At.FALLS_SHARE * most


def _dead(duties: Sequence[float], speeds: Sequence[float]) -> list[tuple[float, float]]:
    """Return ranges of duty over which the speed stays as it is while the fan turns."""
    points = [(d, r) for d, r in zip(duties, speeds, strict=True) if _turns(r)]
    if len(points) < 3:
        return []
    slope = (points[-1][1] - points[0][1]) / (points[-1][0] - points[0][0])
    found: list[tuple[float, float]] = []
    for (low, slow), (high, fast) in pairwise(points):
        if fast - slow >= At.DEAD_SHARE * slope * (high - low):
            continue
        if found and found[-1][1] == low:
            found[-1] = (found[-1][0], high)
        else:
            found.append((low, high))
    return [(low, high) for low, high in found if high - low >= At.DEAD_PCT]
