"""What can be set on the simulated bench."""

from collections.abc import Callable

from gelassen.bench.simulated.governor import Governor
from gelassen.bench.simulated.parts import FanCurve
from gelassen.core.foundation.errors import BenchError


class PowerLimit:
    """The simulated power limit as an actuator."""

    name = "cpu.package.power_limit_w"
    what = "long-term power limit"
    low, high = 5.0, 400.0

    def __init__(self, governor: Governor) -> None:
        self._governor = governor
        self._before: float | None = None

    def read(self) -> float:
        """Return the limit, W."""
        return self._governor.power_limit_w

    def set(self, value: float) -> None:
        """Set the limit, W."""
        check_range(self.name, value, self.low, self.high, "W")
        if self._before is None:
            self._before = self._governor.power_limit_w
        self._governor.power_limit_w = float(value)

    def check(self) -> str:
        """Return nothing: nobody else changes it."""
        return ""

    def restore(self) -> None:
        """Put back the limit from before."""
        if self._before is not None:
            self._governor.power_limit_w = self._before
            self._before = None


class FanDuty:
    """The duty of the simulated fan as an actuator; put back, the fan follows its own curve again."""

    name = "fan.cpu.duty_pct"
    what = "duty of the fan"
    low, high = 0.0, 100.0

    def __init__(self, curve: Callable[[], FanCurve], change: Callable[[FanCurve], None]) -> None:
        self._curve, self._change = curve, change
        self._before: FanCurve | None = None
        self._set_pct = self.high

    def read(self) -> float:
        """Return the duty that was set, %."""
        return self._set_pct

    def set(self, value: float) -> None:
        """Hold the fan at a duty, %."""
        check_range(self.name, value, self.low, self.high, "%")
        if self._before is None:
            self._before = self._curve()
        self._set_pct = float(value)
        held = FanCurve(name="held", temperatures_c=(0.0, 100.0), duties_pct=(self._set_pct,) * 2)
        self._change(held)

    def check(self) -> str:
        """Return nothing: nobody else changes it."""
        return ""

    def restore(self) -> None:
        """Let the fan follow its curve from before."""
        if self._before is not None:
            self._change(self._before)
            self._before = None


def check_range(name: str, value: float, low: float, high: float, unit: str) -> None:
    """Refuse a value that cannot be set.

    Raises
    ------
    BenchError
        Naming what was asked for and what is possible.
    """
    if not low <= value <= high:
        raise BenchError(
            f"{name}: {value:g} {unit} asked for; {low:g} to {high:g} {unit} are possible here"
        )
