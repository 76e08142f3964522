"""The power limits of a processor package, through the kernel's powercap."""

from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import Setting, noted, number_in, put
from gelassen.bench.actuators.undo import Before
from gelassen.bench.sensors.identity import text_of
from gelassen.bench.sensors.powercap import LIMITS, Zone, zones

# The register counts eighths of a watt in fifteen bits; drivers let greater values wrap silently.
_LOW_W, _HIGH_W = 1.0, 4095.0


class PowerLimit(Setting):
    """Long- or short-term limit of one package, in every tree that lists the package."""

    tolerance = 0.126  # rounded down to 1/8 W

    def __init__(
        self, sys_root: Path, name: str, found: Sequence[tuple[Zone, str]], net: SafetyNet
    ) -> None:
        zone, prefix = found[0]
        kind = (text_of(zone.folder / f"{prefix}_name") or "").replace("_", " ")
        super().__init__(name, f"{kind} power limit of {zone.name}", _LOW_W, _HIGH_W, net)
        self._sys_root = sys_root
        self._files = [zone.folder / f"{prefix}_power_limit_uw" for zone, prefix in found]
        self._switches = [zone.folder / "enabled" for zone, _ in found]

    def read(self) -> float:
        """Return the lowest of the limits that apply, in W."""
        return min(number_in(file) for file in self._files) / 1e6

    def _before(self) -> Sequence[Before]:
        off = [switch for switch in self._switches if text_of(switch) == "0"]
        return [noted(self._sys_root, self.name, file) for file in (*off, *self._files)]

    def _write(self, value: float) -> None:
        for file in self._files:
            put(file, value * 1e6)
        for switch in self._switches:
            if text_of(switch) == "0":  # a limit that is switched off has no effect
                put(switch, 1)

    def _refused(self, found: float) -> str:
        return (
            "the firmware has locked this limit, or rounds it. Unlock it in the firmware's setup, or "
            "set it there by hand"
        )


def find_power_limits(sys_root: Path, net: SafetyNet) -> list[Setting]:
    """Return the power limits of all packages."""
    found: dict[str, list[tuple[Zone, str]]] = {}
    for zone in zones(sys_root):
        if not zone.name.startswith("package-"):
            continue
        for limit, quantity in LIMITS.items():
            prefix = zone.constraint(limit)
            if prefix is not None and (zone.folder / f"{prefix}_power_limit_uw").exists():
                found.setdefault(f"{zone.item}.{quantity}", []).append((zone, prefix))
    return [PowerLimit(sys_root, name, places, net) for name, places in found.items()]
