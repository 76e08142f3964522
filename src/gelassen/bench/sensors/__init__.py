"""Sensors of the machine, through the kernel's public files. Their root is always an argument."""

from pathlib import Path

from gelassen.bench.sensors.cpu import find_clocks, find_load, find_throttle_counters
from gelassen.bench.sensors.hwmon import find_hwmon
from gelassen.bench.sensors.powercap import find_powercap
from gelassen.bench.sensors.sensor import Sensor
from gelassen.bench.sensors.thermal import find_thermal_zones

__all__ = ["Sensor", "find_sensors"]


def find_sensors(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return every sensor this tree offers, each channel name once."""
    found = [
        *find_hwmon(sys_root),
        *find_thermal_zones(sys_root),
        *find_clocks(sys_root, proc_root),
        *find_powercap(sys_root),
        *find_throttle_counters(sys_root),
        *find_load(proc_root),
    ]
    unique: dict[str, Sensor] = {}
    for sensor in found:
        unique.setdefault(sensor.info.name, sensor)
    return list(unique.values())
