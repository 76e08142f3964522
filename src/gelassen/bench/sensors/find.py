"""Finds every sensor a tree offers."""

from pathlib import Path

from gelassen.bench.sensors.cpu import find_clocks, find_throttle_counters
from gelassen.bench.sensors.hwmon import find_hwmon
from gelassen.bench.sensors.powercap import find_powercap
from gelassen.bench.sensors.sensor import Sensor
from gelassen.bench.sensors.stat import find_load
from gelassen.bench.sensors.thermal import find_thermal_zones, zone_folders


def find_sensors(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return every sensor this tree offers, each channel name once."""
    # A zone also appears as a hwmon device; it is read once, as the zone.
    chips = find_hwmon(sys_root, but=zone_folders(sys_root))
    known = any(sensor.info.name == "cpu.package.temp_c" for sensor in chips)
    found = [
        *chips,
        *find_thermal_zones(sys_root, processor_known=known),
        *find_clocks(sys_root, proc_root),
        *find_powercap(sys_root),
        *find_throttle_counters(sys_root),
        *find_load(sys_root, proc_root),
    ]
    unique: dict[str, Sensor] = {}
    for sensor in found:
        unique.setdefault(sensor.info.name, sensor)
    return list(unique.values())
