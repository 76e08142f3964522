"""Sensors behind the kernel's hwmon class: temperatures, fans, duties, power, voltages, currents."""

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors.sensor import Sensor, problem_of
from gelassen.bench.sensors.sysfile import SysFile, text_of
from gelassen.core.channels import slug

# File pattern -> (quantity with unit, factor to that unit, offset kind). The kernel's
# Documentation/hwmon/sysfs-interface: m°C, rpm, 0..255, µW, mV, mA.
_KINDS = (
    (re.compile(r"temp(\d+)_input"), "temp", "temp_c", 1e-3),
    (re.compile(r"fan(\d+)_input"), "fan", "speed_rpm", 1.0),
    (re.compile(r"pwm(\d+)"), "pwm", "duty_pct", 100 / 255),
    (re.compile(r"power(\d+)_(?:input|average)"), "power", "power_w", 1e-6),
    (re.compile(r"in(\d+)_input"), "in", "voltage_v", 1e-3),
    (re.compile(r"curr(\d+)_input"), "curr", "current_a", 1e-3),
)
# Drivers of processors and graphics chips, by the names the kernel gives them.
_PROCESSORS = {"coretemp", "k10temp", "zenpower", "cpu_thermal", "via_cputemp"}
_GRAPHICS = {"amdgpu", "radeon", "nouveau", "i915", "xe"}
_DRIVES = {"nvme", "drivetemp"}
# A value that a driver shows when it has none, or that no part survives.
_COLDEST_C, _HOTTEST_C = -60.0, 200.0


@dataclass(frozen=True, slots=True)
class _Device:
    folder: Path
    driver: str
    address: str  # of the device, not the hwmon number: the kernel hands numbers out anew


def find_hwmon(sys_root: Path) -> list[Sensor]:
    """Return the sensors of all hwmon devices, named by device and label."""
    devices = sorted(_devices(sys_root), key=lambda d: (d.driver, d.address))
    twins = Counter(device.driver for device in devices)
    sensors: list[Sensor] = []
    taken: set[str] = set()
    for device in devices:
        for sensor in _sensors(device, alone=twins[device.driver] == 1):
            if sensor.info.name not in taken:
                taken.add(sensor.info.name)
                sensors.append(sensor)
    return sensors


def _devices(sys_root: Path) -> Iterator[_Device]:
    parent = sys_root / "class" / "hwmon"
    for link in parent.iterdir() if parent.is_dir() else ():
        folder = link.resolve()
        device = (folder / "device").resolve()
        driver = text_of(folder / "name") or text_of(folder / "device" / "name") or device.name
        yield _Device(folder, slug(driver), device.name)


def _sensors(device: _Device, *, alone: bool) -> Iterator[Sensor]:
    # A few old drivers keep their readings one folder up.
    for folder in (device.folder, device.folder / "device"):
        names = sorted(path.name for path in folder.iterdir()) if folder.is_dir() else []
        for pattern, kind, quantity, factor in _KINDS:
            for name in names:
                match = pattern.fullmatch(name)
                if match:
                    yield _sensor(
                        device, folder / name, kind, int(match[1]), quantity, factor, alone
                    )


def _sensor(
    device: _Device, path: Path, kind: str, number: int, quantity: str, factor: float, alone: bool
) -> Sensor:
    label = text_of(path.parent / f"{kind}{number}_label")
    part, item = _name(device, kind, number, label, alone)
    file = SysFile(path)

    def read() -> float:
        value = file.read() * factor
        if kind == "temp" and not _COLDEST_C < value < _HOTTEST_C:
            raise ValueError(f"{value:g} °C is a fault value")
        return value

    problem = problem_of(read)
    info = ChannelInfo(
        name=f"{part}.{item}.{quantity}",
        what=f"{label or kind + str(number)} of {device.driver} ({device.address})",
        source=str(path),
        resolution=1.0 if device.driver == "coretemp" and kind == "temp" else None,
        readable=not problem,
        problem=problem,
    )
    return Sensor(info, read)


def _name(
    device: _Device, kind: str, number: int, label: str | None, alone: bool
) -> tuple[str, str]:
    """Return part and item: known drivers by meaning, all others by device and label."""
    said = slug(label) if label else ""
    if kind == "temp":
        if device.driver in _PROCESSORS:
            return "cpu", _processor_item(said, number)
        if device.driver in _GRAPHICS:
            return "gpu", {"junction": "hotspot", "mem": "memory"}.get(said, said or "package")
    if device.driver in _DRIVES and kind == "temp":
        drive = slug(device.address)
        return "drive", drive if said in ("", "composite") else f"{drive}_{said}"
    unit = device.driver if alone else f"{device.driver}_{slug(device.address)}"
    part = {"fan": "fan", "pwm": "fan"}.get(kind, "gpu" if device.driver in _GRAPHICS else "board")
    return part, f"{unit}_{said or kind + str(number)}"


def _processor_item(said: str, number: int) -> str:
    if match := re.fullmatch(r"package_id_(\d+)", said):
        return "package" if match[1] == "0" else f"package{match[1]}"
    if match := re.fullmatch(r"core_(\d+)", said):
        return f"core{match[1]}"
    if said in ("tctl", "tdie", ""):
        return "package" if said != "tdie" else "die"
    return said or f"temp{number}"
