"""A fan curve that software keeps: duty over the hottest processor temperature."""

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from gelassen.bench.interface import Actuator
from gelassen.core.foundation.errors import BenchError, InputError

_POINT = re.compile(r"\s*(-?\d+(?:\.\d+)?)\s*°?C?\s*:\s*(\d+(?:\.\d+)?)\s*%?\s*")
_LEAST_CHANGE_PCT = 2.0


@dataclass(frozen=True, slots=True)
class FanCurve:
    """Straight between its points, level outside."""

    temperatures_c: tuple[float, ...]
    duties_pct: tuple[float, ...]

    def duty_at(self, temperature_c: float) -> float:
        """Return the duty at this temperature, in %."""
        return float(np.interp(temperature_c, self.temperatures_c, self.duties_pct))


def parse_curve(text: str, where: str) -> FanCurve:
    """Return the curve that "40: 30, 60: 40, 80: 70" describes, °C to %.

    Raises
    ------
    InputError
        Text that is not a curve, temperatures that do not rise, duties beyond 0 to 100 %.
    """
    points = [_POINT.fullmatch(part) for part in text.split(",")]
    if len(points) < 2 or not all(points):
        raise InputError(
            f'{where}: "{text}" is not a fan curve: write °C and %, like "40: 30, 60: 40, 80: 70"'
        )
    temperatures = tuple(float(p[1]) for p in points if p)
    duties = tuple(float(p[2]) for p in points if p)
    if any(np.diff(temperatures) <= 0) or max(duties) > 100:
        raise InputError(
            f'{where}: "{text}": temperatures must rise, duties stay within 0 to 100 %'
        )
    return FanCurve(temperatures, duties)


class CurveKeeper:
    """Sets a fan's duty from sample to sample, as its curve says."""

    def __init__(self, actuator: Actuator, curve: FanCurve) -> None:
        self._actuator, self._curve = actuator, curve
        self._set_pct: float | None = None

    def follow(self, values: Mapping[str, float]) -> str:
        """Set the duty for these readings; return what went wrong, if anything."""
        temps = [
            value
            for name, value in values.items()
            if name.startswith(("cpu.", "gpu.")) and name.endswith(".temp_c") and value == value
        ]
        # A temperature that cannot be read counts as high.
        duty = self._curve.duty_at(max(temps)) if temps else max(self._curve.duties_pct)
        if self._set_pct is not None and abs(duty - self._set_pct) < _LEAST_CHANGE_PCT:
            return ""
        try:
            self._actuator.set(round(duty))
        except BenchError as error:
            return str(error)
        self._set_pct = duty
        return ""
