"""Fan speed over duty, and sound over fan speed, from what was measured."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from gelassen.core.fans.priors import Noise, Speed
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Floats


@dataclass(frozen=True, slots=True, eq=False)
class SpeedLaw:
    """Speed over duty through the measured points, which never falls; straight beyond them."""

    duty_pct: Floats
    rpm: Floats

    def at(self, duty_pct: float) -> tuple[float, float]:
        """Return speed and its standard deviation at this duty, rpm."""
        speeds, doubts = self.over(np.array([duty_pct]))
        return float(speeds[0]), float(doubts[0])

    def over(self, duty_pct: Floats) -> tuple[Floats, Floats]:
        """Return speeds and their standard deviations at these duties, rpm."""
        low, high = float(self.duty_pct[0]), float(self.duty_pct[-1])
        from scipy.interpolate import PchipInterpolator  # only here: it takes long to import

        inside = np.clip(duty_pct, low, high)
        beyond = duty_pct - inside
        slope = float(self.rpm[-1] - self.rpm[0]) / (high - low)
        rpm = PchipInterpolator(self.duty_pct, self.rpm)(inside) + slope * beyond
        place = np.clip(np.searchsorted(self.duty_pct, inside), 1, self.duty_pct.size - 1)
        left, right = self.duty_pct[place - 1], self.duty_pct[place]
        way = (inside - left) / (right - left)
        between = Speed.BETWEEN * 4 * way * (1 - way) * (right - left) / 100.0
        doubt = np.sqrt(Speed.NOISE**2 + between**2 + (Speed.BEYOND * beyond) ** 2)
        return np.maximum(rpm, 0.0), doubt * np.maximum(rpm, float(self.rpm[0]))

    def duty_for(self, rpm: float) -> float:
        """Return the lowest duty at which the fan turns this fast, %; 100 if it never does."""
        tried = np.linspace(0.0, 100.0, 1001)
        fast = self.over(tried)[0] >= rpm
        return float(tried[int(np.argmax(fast))]) if fast.any() else 100.0


def speed_law(duty_pct: Sequence[float], rpm: Sequence[float]) -> SpeedLaw:
    """Return the speed over duty that these readings show.

    Raises
    ------
    InputError
        Fewer than two duties.
    """
    duty, speed = np.asarray(duty_pct, dtype=float), np.asarray(rpm, dtype=float)
    known = np.isfinite(duty) & np.isfinite(speed)
    order = np.argsort(duty[known], kind="stable")
    duty, speed = duty[known][order], speed[known][order]
    groups = np.cumsum(np.concatenate([[0], np.diff(duty) > Speed.SAME_PCT])) if duty.size else duty
    middle = [float(duty[groups == k].mean()) for k in np.unique(groups)]
    means = [float(speed[groups == k].mean()) for k in np.unique(groups)]
    if len(middle) < 2:
        raise InputError(
            "fan speed over duty needs readings at two duties at least: run or sweep a few fixed duties"
        )
    return SpeedLaw(np.array(middle), np.maximum.accumulate(np.array(means)))


@dataclass(frozen=True, slots=True)
class NoiseLaw:
    """Sound pressure in dB(A), straight over the logarithm of the fan speed."""

    middle: tuple[float, float]  # log10 rpm, dB(A)
    slope: float  # dB per decade
    errors: tuple[float, float]  # of the middle and of the slope

    def at(self, rpm: float) -> tuple[float, float]:
        """Return level and its standard deviation at this speed, dB(A)."""
        away = math.log10(rpm) - self.middle[0]
        return self.middle[1] + self.slope * away, math.hypot(self.errors[0], self.errors[1] * away)


def noise_law(rpm: Sequence[float], level_dba: Sequence[float]) -> NoiseLaw | None:
    """Return the sound over fan speed that these readings show; None without any."""
    speed, level = np.asarray(rpm, dtype=float), np.asarray(level_dba, dtype=float)
    known = np.isfinite(speed) & np.isfinite(level) & (speed > 0)
    if not known.any():
        return None
    logs, level = np.log10(speed[known]), level[known]
    away = logs - logs.mean()
    precision = float(away @ away) / Noise.METER_DBA**2 + Noise.DB_PER_DECADE_DOUBT**-2
    pull = (
        float(away @ level) / Noise.METER_DBA**2
        + Noise.DB_PER_DECADE / Noise.DB_PER_DECADE_DOUBT**2
    )
    middle = (float(logs.mean()), float(level.mean()))
    errors = (Noise.METER_DBA / math.sqrt(logs.size), precision**-0.5)
    return NoiseLaw(middle, pull / precision, errors)
