"""The table of settings that this machine offers. They are always put back.

A new setting, such as those of a USB fan controller, is a function in a file of this folder, and a line in
`SOURCES`. Another package adds one with an entry point in the group "gelassen.settings".
"""

from collections.abc import Callable, Iterable
from pathlib import Path

from gelassen._plugins import described, plugins
from gelassen.bench.actuators.clock import find_clock_settings
from gelassen.bench.actuators.cores import find_active_processors
from gelassen.bench.actuators.fan import find_fans
from gelassen.bench.actuators.power_limit import find_power_limits
from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.setting import Setting

# Takes the root (/sys) and the net that puts settings back after a crash; returns one setting a channel.
SettingSource = Callable[[Path, SafetyNet], Iterable[Setting]]

SOURCES: dict[str, SettingSource] = {
    "power limits": find_power_limits,
    "fans": find_fans,
    "clocks": find_clock_settings,
    "processors": find_active_processors,
}


def find_actuators(sys_root: Path) -> dict[str, Setting]:
    """Return what can be set below this root, by channel name."""
    net = SafetyNet()
    found = [setting for source in SOURCES.values() for setting in source(sys_root, net)]
    return {setting.name: setting for setting in found}


def find_added_actuators(sys_root: Path) -> tuple[dict[str, Setting], list[tuple[str, str]]]:
    """Return the settings that other packages add, and which of these packages failed and why."""
    added, net = plugins("gelassen.settings"), SafetyNet()
    found: dict[str, Setting] = {}
    failed = dict(added.broken)
    for name, source in added.found.items():
        try:
            found |= {setting.name: setting for setting in source(sys_root, net)}
        except Exception as error:
            failed[name] = described(error)
    return found, [(f"settings of {name}", why) for name, why in failed.items()]
