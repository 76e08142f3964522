"""Finds every setting a tree offers."""

from pathlib import Path

from gelassen.bench.actuators.clock import find_clock_settings
from gelassen.bench.actuators.cores import find_active_processors
from gelassen.bench.actuators.fan import find_fans
from gelassen.bench.actuators.powerlimit import find_power_limits
from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import Setting


def find_actuators(sys_root: Path) -> dict[str, Setting]:
    """Return what can be set below this root, by channel name."""
    net = SafetyNet()
    found = [
        *find_power_limits(sys_root, net),
        *find_fans(sys_root, net),
        *find_clock_settings(sys_root, net),
        *find_active_processors(sys_root, net),
    ]
    return {setting.name: setting for setting in found}
