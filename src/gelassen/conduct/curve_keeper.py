"""A fan kept on its curve by software, from sample to sample."""

from collections.abc import Mapping

from gelassen.bench.interface import Actuator
from gelassen.core.fans.curve import FanCurve, Follower
from gelassen.core.foundation.errors import BenchError

_LEAST_CHANGE_PCT = 2.0  # % of duty: smaller changes wait; firmware and ears do not notice them


class CurveKeeper:
    """Sets a fan's duty from sample to sample, as its curve says.

    On any trouble the fan goes to full duty. A temperature that cannot be read is trouble, and so is a duty
    that the fan refuses. The curve is tried again with the next sample.
    """

    def __init__(self, actuator: Actuator, curve: FanCurve) -> None:
        self._actuator, self._curve = actuator, curve
        self._follower = Follower(curve)
        self._set_pct: float | None = None
        self._seen_s: float | None = None

    def follow(self, now_s: float, values: Mapping[str, float]) -> str:
        """Set the duty for these readings; return what went wrong, if anything."""
        step_s = 1.0 if self._seen_s is None else max(now_s - self._seen_s, 1e-3)
        self._seen_s = now_s
        temps = self._followed(values)
        duty = self._follower.step(max(temps), step_s) if temps else self._actuator.high
        if not temps:
            self._follower = Follower(self._curve, duty_pct=duty)
        small = self._set_pct is not None and abs(duty - self._set_pct) < _LEAST_CHANGE_PCT
        if small and not (duty == 0) ^ (self._set_pct == 0):
            return ""
        try:
            self._actuator.set(round(duty))
        except BenchError as error:
            return self._full(str(error))
        self._set_pct = duty
        return ""

    def _followed(self, values: Mapping[str, float]) -> list[float]:
        """Return the temperatures that count; none if one that was named is missing."""
        if self._curve.follows:
            named = [values.get(name, float("nan")) for name in self._curve.follows]
            return named if all(value == value for value in named) else []
        return [
            value
            for name, value in values.items()
            if name.startswith(("cpu.", "gpu.")) and name.endswith(".temp_c") and value == value
        ]

    def _full(self, said: str) -> str:
        """Try the highest duty instead; forget what was set, so that the next sample tries again."""
        self._set_pct = None
        self._follower = Follower(self._curve)
        try:
            self._actuator.set(self._actuator.high)
        except BenchError:
            return f"{said}; nor does it take full duty"
        return f"{said}; it is at full duty"
