"""The table of sensor sources, which give the channels of this machine.

A new kind of sensor is a function in a file of this folder, and a line in `SOURCES`. Another package adds
one with an entry point in the group "gelassen.sensors".
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from gelassen._plugins import described, plugins
from gelassen.bench.sensors.cpu import find_clocks, find_throttle_counters
from gelassen.bench.sensors.hwmon import find_hwmon
from gelassen.bench.sensors.powercap import find_powercap
from gelassen.bench.sensors.sensor import Sensor
from gelassen.bench.sensors.stat import find_load
from gelassen.bench.sensors.thermal import find_thermal_zones, zone_folders


@dataclass(frozen=True, slots=True)
class Roots:
    """The places of a machine's public files: /sys, /proc (None where only a captured /sys is given)."""

    sys: Path
    proc: Path | None


# Takes the roots, and the channel names that earlier sources have; returns one sensor a channel.
SensorSource = Callable[[Roots, frozenset[str]], Iterable[Sensor]]


def _chips(roots: Roots, taken: frozenset[str]) -> Iterable[Sensor]:
    # A zone also appears as a hwmon device; it is read once, as the zone.
    return find_hwmon(roots.sys, but=zone_folders(roots.sys))


def _zones(roots: Roots, taken: frozenset[str]) -> Iterable[Sensor]:
    return find_thermal_zones(roots.sys, processor_known="cpu.package.temp_c" in taken)


# In this order: a channel that two sources offer is read from the first.
SOURCES: dict[str, SensorSource] = {
    "hwmon": _chips,
    "thermal zones": _zones,
    "clocks": lambda roots, taken: find_clocks(roots.sys, roots.proc),
    "powercap": lambda roots, taken: find_powercap(roots.sys),
    "throttle counters": lambda roots, taken: find_throttle_counters(roots.sys),
    "load": lambda roots, taken: find_load(roots.sys, roots.proc),
}


def find_sensors(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return every sensor this tree offers, each channel name once."""
    found, _ = _asked(SOURCES, Roots(sys_root, proc_root), {})
    return list(found.values())


def find_added_sensors(
    sys_root: Path, proc_root: Path | None, known: Iterable[Sensor]
) -> tuple[list[Sensor], list[tuple[str, str]]]:
    """Return the sensors that other packages add, and which of these packages failed and why."""
    added = plugins("gelassen.sensors")
    before = {sensor.info.name: sensor for sensor in known}
    found, failed = _asked(added.found, Roots(sys_root, proc_root), before)
    new = [sensor for name, sensor in found.items() if name not in before]
    return new, [(f"sensors of {name}", why) for name, why in {**added.broken, **failed}.items()]


def _asked(
    sources: dict[str, SensorSource], roots: Roots, before: dict[str, Sensor]
) -> tuple[dict[str, Sensor], dict[str, str]]:
    found = dict(before)
    failed: dict[str, str] = {}
    for name, source in sources.items():
        try:
            for sensor in source(roots, frozenset(found)):
                found.setdefault(sensor.info.name, sensor)
        except Exception as error:
            if source in SOURCES.values():
                raise
            failed[name] = described(error)
    return found, failed
