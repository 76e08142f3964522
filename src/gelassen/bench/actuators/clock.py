"""The clock ceiling of the processor, and its boost, through the kernel's cpufreq."""

import contextlib
from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import Setting, noted, number_in, put
from gelassen.bench.actuators.undo import Before
from gelassen.bench.sensors.identity import text_of


class ClockLimit(Setting):
    """Highest clock of all cores, in MHz."""

    name = "cpu.all.clock_limit_mhz"

    def __init__(self, sys_root: Path, policies: Sequence[Path], net: SafetyNet) -> None:
        low = min(number_in(policy / "cpuinfo_min_freq") for policy in policies) / 1e3
        high = max(number_in(policy / "cpuinfo_max_freq") for policy in policies) / 1e3
        super().__init__(self.name, "highest clock of all cores", low, high, net)
        self.tolerance = high * 0.01
        self._sys_root = sys_root
        self._policies = policies

    def _present(self) -> list[Path]:
        """Return the policies of cores that are on. The others refuse with "busy"."""
        return [p for p in self._policies if text_of(p / "scaling_max_freq") is not None]

    def read(self) -> float:
        """Return the ceiling, in MHz; cores of another kind may have a lower one of their own."""
        return max(number_in(policy / "scaling_max_freq") for policy in self._present()) / 1e3

    def _before(self) -> Sequence[Before]:
        files = [policy / "scaling_max_freq" for policy in self._present()]
        return [noted(self._sys_root, self.name, file) for file in files]

    def _write(self, value: float) -> None:
        for policy in self._present():
            own = number_in(policy / "cpuinfo_max_freq") / 1e3
            put(policy / "scaling_max_freq", min(value, own) * 1e3)

    def _refused(self, found: float) -> str:
        steps = text_of(self._policies[0] / "scaling_available_frequencies")
        if steps is None:
            return "the driver rounds to its own steps"
        shown = ", ".join(f"{int(step) // 1000}" for step in steps.split())
        return f"the driver knows {shown} MHz"


class Boost(Setting):
    """Whether the processor may exceed its base clock: 1 or 0."""

    name = "cpu.all.boost_flag"

    def __init__(self, sys_root: Path, file: Path, net: SafetyNet) -> None:
        super().__init__(self.name, "clocks above the base clock, 1 or 0", 0.0, 1.0, net)
        self._sys_root = sys_root
        self._file = file
        self._inverse = file.name == "no_turbo"

    def read(self) -> float:
        """Return 1 if boost is on."""
        return abs(number_in(self._file) - self._inverse)

    def _before(self) -> Sequence[Before]:
        return [noted(self._sys_root, self.name, self._file)]

    def _write(self, value: float) -> None:
        if value not in (0, 1):
            raise ValueError("only 0 and 1 have a meaning")
        put(self._file, abs(value - self._inverse))


def find_clock_settings(sys_root: Path, net: SafetyNet) -> list[Setting]:
    """Return the clock ceiling and the boost switch, where the kernel offers them."""
    cpu = sys_root / "devices" / "system" / "cpu"
    found: list[Setting] = []
    policies = sorted((cpu / "cpufreq").glob("policy*"), key=lambda p: int(p.name[6:] or 0))
    policies = [p for p in policies if (p / "scaling_max_freq").exists()]
    if policies:
        # Without a stated range of the driver there is no range to keep.
        with contextlib.suppress(OSError, ValueError):
            found.append(ClockLimit(sys_root, policies, net))
    for file in (cpu / "intel_pstate" / "no_turbo", cpu / "cpufreq" / "boost"):
        if file.exists():
            found.append(Boost(sys_root, file, net))
            break
    return found
