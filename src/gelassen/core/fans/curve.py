"""A fan curve in full: duty over temperature, and how it is followed from sample to sample."""

import math
import re
from bisect import bisect_right
from dataclasses import dataclass, field

import numpy as np

from gelassen.core.fans.priors import Loop
from gelassen.core.foundation.errors import InputError

_POINT = re.compile(r"\s*(-?\d+(?:\.\d+)?)\s*°?C?\s*:\s*(\d+(?:\.\d+)?)\s*%?\s*")
_START_S = 3.0  # s at the start duty: a fan of 140 mm turns by then


@dataclass(frozen=True, slots=True, kw_only=True)
class FanCurve:
    """Duty over temperature, level outside its points.

    Attributes
    ----------
    temperatures_c, duties_pct
        The points, °C and %.
    steps
        Whether the duty jumps at each point; straight lines between them else.
    follows
        Channels of which the hottest counts; empty: every temperature of a processor.
    average_s
        Time constant of the average that is followed, s; 0 for the readings themselves.
    hysteresis_k
        The duty falls only once the temperature is this far below the one it was set at, K.
    rise_pct_per_s, fall_pct_per_s
        How fast the duty may change, % a second.
    start_pct, least_pct
        Lowest duty at which the fan starts, and at which it keeps turning.
    stop_below_c
        The fan stands still below this, °C; None if it never stops.
    """

    temperatures_c: tuple[float, ...]
    duties_pct: tuple[float, ...]
    steps: bool = False
    follows: tuple[str, ...] = ()
    average_s: float = 0.0
    hysteresis_k: float = 0.0
    rise_pct_per_s: float = math.inf
    fall_pct_per_s: float = math.inf
    start_pct: float = 0.0
    least_pct: float = 0.0
    stop_below_c: float | None = None

    def duty_at(self, temperature_c: float) -> float:
        """Return the duty at this temperature, in %, once all is settled."""
        if self.stop_below_c is not None and temperature_c < self.stop_below_c:
            return 0.0
        above = bisect_right(self.temperatures_c, temperature_c)
        left, right = max(above - 1, 0), min(above, len(self.duties_pct) - 1)
        duty = self.duties_pct[left]
        if not self.steps and left != right and above:
            low, high = self.temperatures_c[left], self.temperatures_c[right]
            duty += (self.duties_pct[right] - duty) * (temperature_c - low) / (high - low)
        return max(duty, self.least_pct)

    def __str__(self) -> str:
        points = zip(self.temperatures_c, self.duties_pct, strict=True)
        return ", ".join(f"{t:g}: {d:g}" for t, d in points)


def parse_curve(text: str, where: str) -> FanCurve:
    """Return the curve that "40: 30, 60: 40, 80: 70" describes, °C to %.

    Raises
    ------
    InputError
        Text that is not a curve, or a curve that `check_curve` refuses.
    """
    points = [_POINT.fullmatch(part) for part in text.split(",")]
    if len(points) < 2 or not all(points):
        raise InputError(
            f'{where}: "{text}" is not a fan curve: write °C and %, like "40: 30, 60: 40, 80: 70"'
        )
    curve = FanCurve(
        temperatures_c=tuple(float(p[1]) for p in points if p),
        duties_pct=tuple(float(p[2]) for p in points if p),
    )
    check_curve(curve, where)
    return curve


def check_curve(curve: FanCurve, where: str) -> None:
    """Refuse a curve that cools less when it is hotter, or contradicts itself.

    Raises
    ------
    InputError
        Temperatures that do not rise, duties that fall or leave 0 to 100 %, a lowest duty above the
        start duty, a fan that stops where its curve already asks for more.
    """
    temperatures, duties = curve.temperatures_c, curve.duties_pct
    if np.any(np.diff(temperatures) <= 0):
        at = int(np.argmax(np.diff(temperatures) <= 0))
        raise InputError(
            f"{where}: temperatures must rise, and {temperatures[at + 1]:g} °C comes after "
            f"{temperatures[at]:g} °C"
        )
    if max(duties) > 100 or min(duties) < 0:
        raise InputError(f"{where}: duties stay within 0 to 100 %, found {max(duties):g} %")
    if np.any(np.diff(duties) < 0):
        at = int(np.argmax(np.diff(duties) < 0))
        raise InputError(
            f"{where}: the duty falls from {duties[at]:g} % at {temperatures[at]:g} °C to "
            f"{duties[at + 1]:g} % at {temperatures[at + 1]:g} °C: a hotter chip must not have less air"
        )
    if curve.least_pct > curve.start_pct > 0:
        raise InputError(
            f"{where}: least_pct ({curve.least_pct:g}) is above start_pct ({curve.start_pct:g}): a fan "
            "that starts at a duty also keeps turning at it"
        )
    if curve.stop_below_c is not None and curve.stop_below_c > temperatures[-1]:
        raise InputError(
            f"{where}: stop_below_c = {curve.stop_below_c:g} is above the last point "
            f"({temperatures[-1]:g} °C): the fan would stand still wherever the curve says otherwise"
        )


def reaches(curve: FanCurve, guard_c: float, where: str) -> None:
    """Refuse a curve that has not reached its highest duty where the guard stops the run.

    Raises
    ------
    InputError
        Its last point lies above the guard's temperature.
    """
    if curve.temperatures_c[-1] > guard_c:
        raise InputError(
            f"{where}: its highest duty comes at {curve.temperatures_c[-1]:g} °C, and the guard stops the "
            f"run at {guard_c:g} °C: let it reach {curve.duties_pct[-1]:g} % earlier"
        )


@dataclass(slots=True)
class Follower:
    """What a curve does from sample to sample. It starts at full duty, or at the one given."""

    curve: FanCurve
    duty_pct: float | None = None
    _average_c: float | None = field(default=None, init=False)
    _held_c: float = field(default=-math.inf, init=False)  # the temperature the duty was set at
    _starting_s: float = field(default=0.0, init=False)

    @property
    def held_k(self) -> float:
        """How far above the present temperature the duty is set, K; never more than the hysteresis."""
        return 0.0 if self._average_c is None else self._held_c - self._average_c

    def step(self, temperature_c: float, step_s: float = Loop.STEP_S) -> float:
        """Return the duty after one more sample, in %."""
        curve = self.curve
        if self._average_c is None or curve.average_s <= 0:
            self._average_c = temperature_c
        else:
            share = 1.0 - math.exp(-step_s / curve.average_s)
            self._average_c += share * (temperature_c - self._average_c)
        now = self._average_c
        self._held_c = max(now, min(self._held_c, now + curve.hysteresis_k))
        wanted = self._started(curve.duty_at(self._held_c), step_s)
        before = self.duty_pct
        if before is not None:
            wanted = min(wanted, before + curve.rise_pct_per_s * step_s)
            wanted = max(wanted, before - curve.fall_pct_per_s * step_s)
            if 0 < wanted < curve.least_pct:  # on its way: a fan does not turn in between
                wanted = curve.least_pct if wanted > before else 0.0
        self.duty_pct = wanted
        return wanted

    def _started(self, wanted: float, step_s: float) -> float:
        """Return at least the start duty while a fan that stood still gets going."""
        if wanted > 0 and self.duty_pct == 0:
            self._starting_s = _START_S
        if wanted > 0 and self._starting_s > 0:
            self._starting_s -= step_s
            return max(wanted, self.curve.start_pct)
        return wanted
