"""Sensors behind the kernel's hwmon class: temperatures, fans, duties, power, voltages, currents.

Files, units and meanings: the kernel's Documentation/hwmon/sysfs-interface.
"""

import math
import re
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from gelassen.bench.sensors.energy import EnergyMeter
from gelassen.bench.sensors.identity import HwmonDevice, hwmon_devices, hwmon_finder, text_of
from gelassen.bench.sensors.sensor import PlainFile, Sensor, sensor_of
from gelassen.bench.sensors.sysfile import Home, SysFile
from gelassen.core.recording.channels import slug


@dataclass(frozen=True, slots=True)
class _Kind:
    """One kind of reading: its files, its quantity, and how many of the file's units make one of ours."""

    file: re.Pattern[str]
    prefix: str
    quantity: str
    divisor: float


_KINDS = (
    _Kind(re.compile(r"temp(\d+)_input"), "temp", "temp_c", 1e3),
    _Kind(re.compile(r"fan(\d+)_input"), "fan", "speed_rpm", 1.0),
    _Kind(re.compile(r"pwm(\d+)"), "pwm", "duty_pct", 2.55),
    # The cap before the average, and both before the alarm: a power meter's alarm compares the
    # latest reading of both.
    _Kind(re.compile(r"power(\d+)_cap"), "power", "power_limit_w", 1e6),
    _Kind(re.compile(r"power(\d+)_(?:input|average)"), "power", "power_w", 1e6),
    _Kind(re.compile(r"energy(\d+)_input"), "energy", "power_w", 1.0),
    _Kind(re.compile(r"in(\d+)_input"), "in", "voltage_v", 1e3),
    _Kind(re.compile(r"curr(\d+)_input"), "curr", "current_a", 1e3),
    _Kind(re.compile(r"freq(\d+)_input"), "freq", "clock_mhz", 1e6),
    _Kind(re.compile(r"gpu_busy_percent()"), "busy", "load_pct", 1.0),
    _Kind(re.compile(r"pwm(\d+)_enable"), "pwm", "manual_flag", 1.0),
    _Kind(
        re.compile(r"(?:temp|fan|in|curr|power)(\d+)(?:_\w+)?_alarm"), "alarm", "alarm_flag", 1.0
    ),
)
_ALARM = re.compile(r"(temp|fan|in|curr|power)(\d+)(?:_\w+)?_alarm")
# Drivers of processors and graphics chips, by their names in the kernel.
_PROCESSORS = {"coretemp", "k10temp", "zenpower", "cpu_thermal", "via_cputemp"}
_GRAPHICS = {"amdgpu", "radeon", "nouveau", "i915", "xe"}
_GRAPHICS_ITEMS = {
    "edge": "package", "junction": "hotspot", "mem": "memory",
    "ppt": "package", "sclk": "package", "mclk": "memory", "pkg": "package",
}  # fmt: skip
_DRIVES = {"nvme", "drivetemp"}
# A value that a driver shows without a reading, or that no part survives.
_COLDEST_C, _HOTTEST_C = -60.0, 200.0
# Quantities that are plain numbers in files, and the range of possible readings.
_PLAIN = {
    "temp_c": (_COLDEST_C, _HOTTEST_C),
    "speed_rpm": (-0.5, math.inf),
    "voltage_v": (-math.inf, math.inf),
    "current_a": (-math.inf, math.inf),
    "power_w": (-math.inf, math.inf),
    "clock_mhz": (-math.inf, math.inf),
}
_LIMITS = ("max", "crit", "emergency")


@dataclass(frozen=True, slots=True)
class _Reading:
    """A readable file, before its channel has its final name."""

    device: HwmonDevice
    home: Home
    file: str
    kind: _Kind
    number: int
    part: str
    item: str

    @property
    def channel(self) -> str:
        return f"{self.part}.{self.item}.{self.kind.quantity}"


def find_hwmon(
    sys_root: Path, clock: Callable[[], float] = time.monotonic, *, but: Sequence[Path] = ()
) -> list[Sensor]:
    """Return the sensors of all hwmon devices, named by device and label.

    `but` are folders of devices that other sensors read, such as thermal zones.
    """
    readings = [
        reading
        for device in hwmon_devices(sys_root)
        if device.device not in but
        for reading in _readings(sys_root, device)
    ]
    return [_sensor(reading, clock) for reading in _told_apart(readings)]


def _readings(sys_root: Path, device: HwmonDevice) -> Iterator[_Reading]:
    home = Home(device.folder, hwmon_finder(sys_root, device.key))
    labels = _Labels(device)
    alarms: set[str] = set()
    for prefix in ("", "device/"):  # a few drivers have their files one folder up
        folder = device.folder / prefix
        names = sorted(_names_in(folder), key=_by_number)
        for kind in _KINDS:
            for name in names:
                match = kind.file.fullmatch(name)
                if not match:
                    continue
                number = int(match[1] or 1)
                prefix_of = _ALARM.fullmatch(name)
                what = prefix_of[1] if prefix_of else kind.prefix
                part, item = _name(device, what, number, labels.of(folder, what, number))
                if kind.quantity == "alarm_flag":
                    if f"{what}{number}" in alarms:
                        continue  # all alarm files of one part are one alarm
                    alarms.add(f"{what}{number}")
                yield _Reading(device, home, prefix + name, kind, number, part, item)


def _names_in(folder: Path) -> list[str]:
    return [path.name for path in folder.iterdir()] if folder.is_dir() else []


def _by_number(name: str) -> tuple[str, int]:
    match = re.match(r"([a-z]+)(\d+)", name)
    return (match[1], int(match[2])) if match else (name, 0)


class _Labels:
    """The labels of one device. Equal labels get numbers, so that both keep a name."""

    def __init__(self, device: HwmonDevice) -> None:
        self._said: dict[tuple[Path, str, int], str] = {}
        for folder in (device.folder, device.folder / "device"):
            for path in sorted(folder.glob("*_label")) if folder.is_dir() else ():
                match = re.fullmatch(r"([a-z]+)(\d+)_label", path.name)
                text = text_of(path)
                if match and text:
                    self._said[folder, match[1], int(match[2])] = text
        self._count = Counter((k[0], k[1], slug(v)) for k, v in self._said.items())

    def of(self, folder: Path, prefix: str, number: int) -> str:
        said = self._said.get((folder, prefix, number), "")
        if said and self._count[folder, prefix, slug(said)] > 1:
            return f"{said} {number}"
        return said


def _name(device: HwmonDevice, prefix: str, number: int, label: str) -> tuple[str, str]:
    """Return part and item: by meaning for known drivers, else by device and label."""
    said = slug(label) if label else ""
    driver = slug(device.driver)
    if prefix == "temp" and driver in _PROCESSORS:
        return "cpu", _processor_item(device, said, number)
    if driver in _GRAPHICS and prefix in ("temp", "power", "freq", "energy", "busy"):
        unlabelled = "package" if number == 1 else f"{prefix}{number}"
        return "gpu", _GRAPHICS_ITEMS.get(said, said or unlabelled)
    if driver in _DRIVES and prefix == "temp":
        drive = "_".join(filter(None, (driver, slug(device.address) if device.address else "")))
        return "drive", drive if said in ("", "composite") else f"{drive}_{said}"
    unit = f"{driver}_{slug(device.address)}" if device.address else driver
    part = "fan" if prefix in ("fan", "pwm") else "gpu" if driver in _GRAPHICS else "board"
    return part, f"{unit}_{said or prefix + str(number)}"


def _processor_item(device: HwmonDevice, said: str, number: int) -> str:
    if match := re.fullmatch(r"(?:package|physical)_id_(\d+)", said):
        return "package" if match[1] == "0" else f"package{match[1]}"
    if match := re.fullmatch(r"core_(\d+)", said):
        package = device.address if device.driver == "coretemp" else "0"
        return f"core{match[1]}" if package in ("", "0") else f"package{package}_core{match[1]}"
    if said in ("tctl", ""):
        return "package" if number == 1 else f"temp{number}"
    return {"tdie": "die"}.get(said, said)


def _told_apart(readings: list[_Reading]) -> list[_Reading]:
    """Make equal names different: by device address, then by bus, then by number."""
    for extra in ("address", "bus"):
        count = Counter(reading.channel for reading in readings)
        readings = [_longer(r, extra) if count[r.channel] > 1 else r for r in readings]
    seen: Counter[str] = Counter()
    named = []
    for reading in readings:
        seen[reading.channel] += 1
        nth = seen[reading.channel]
        named.append(reading if nth == 1 else replace(reading, item=f"{reading.item}_{nth}"))
    return named


def _longer(reading: _Reading, extra: str) -> _Reading:
    said = getattr(reading.device, extra)
    if not said or f"_{slug(said)}_" in f"_{reading.item}_":
        return reading
    return replace(reading, item=f"{reading.item}_{slug(said)}")


def _sensor(reading: _Reading, clock: Callable[[], float]) -> Sensor:
    device, kind = reading.device, reading.kind
    folder = device.folder / Path(reading.file).parent
    file = SysFile(reading.file, reading.home)
    label = text_of(folder / f"{kind.prefix}{reading.number}_label")
    read = _reader(reading, folder, file, clock)
    said = _said(reading, label)
    sensor = sensor_of(
        reading.channel,
        f"{said} of {device.driver}" + (f" ({device.device.name})" if device.address else ""),
        str(file.path),
        read,
        device=device.key,
        resolution=1.0 if device.driver == "coretemp" and kind.prefix == "temp" else None,
        limits=_limits(folder, reading) if kind.quantity == "temp_c" else {},
    )
    if kind.quantity in _PLAIN and kind.prefix != "energy" and not _fault_name(reading, folder):
        low, high = _PLAIN[kind.quantity]
        sensor.plain = PlainFile(file, kind.divisor, low, high)
    return sensor


def _said(reading: _Reading, label: str | None) -> str:
    name = Path(reading.file).name
    if reading.kind.prefix == "alarm":
        return f"alarm ({name})"
    if reading.kind.quantity == "manual_flag":
        return f"{name} (1: manual, 0: the board controls it)"
    return label or name.removesuffix("_input")


def _reader(
    reading: _Reading, folder: Path, file: SysFile, clock: Callable[[], float]
) -> Callable[[], float]:
    kind = reading.kind
    if kind.prefix == "alarm":
        return _alarm_reader(reading, folder)
    if kind.prefix == "energy":
        return EnergyMeter(file, None, clock).read
    if kind.quantity == "manual_flag":
        return lambda: 1.0 if file.read() == 1 else 0.0
    divisor = kind.divisor
    fault_name = _fault_name(reading, folder)
    fault = None
    if fault_name:
        fault = SysFile(str(Path(reading.file).parent / fault_name), reading.home)
    if kind.quantity == "duty_pct":
        return lambda: round(file.read() / divisor, 1)
    if kind.quantity not in ("temp_c", "speed_rpm") and fault is None:
        return lambda: file.read() / divisor

    def read() -> float:
        value = file.read() / divisor
        if kind.quantity == "temp_c" and not _COLDEST_C < value < _HOTTEST_C:
            raise ValueError(f"{value:g} °C is a fault value")
        if kind.quantity == "speed_rpm" and value < 0:
            raise ValueError("the chip has no speed")
        if fault is not None and fault.read() == 1:
            raise ValueError("the chip says that this sensor is faulty")
        return value

    return read


def _fault_name(reading: _Reading, folder: Path) -> str:
    """Return the name of the fault file; empty if there is none."""
    name = f"{reading.kind.prefix}{reading.number}_fault"
    return name if (folder / name).exists() else ""


def _alarm_reader(reading: _Reading, folder: Path) -> Callable[[], float]:
    """One alarm from all alarm files of a part: 1 if any is on."""
    match = _ALARM.fullmatch(Path(reading.file).name)
    prefix = f"{match[1]}{match[2]}" if match else ""
    names = [n for n in sorted(_names_in(folder)) if re.fullmatch(rf"{prefix}(_\w+)?_alarm", n)]
    parent = Path(reading.file).parent
    files = [SysFile(str(parent / name), reading.home) for name in names]

    def read() -> float:
        return float(any(file.read() != 0 for file in files))

    return read


def _limits(folder: Path, reading: _Reading) -> dict[str, float]:
    """Return the limits that a chip states for a temperature, without unset ones."""
    limits = {}
    for name in _LIMITS:
        text = text_of(folder / f"temp{reading.number}_{name}")
        try:
            value = float(text or "nan") / 1e3
        except ValueError:
            continue
        if (
            math.isfinite(value) and 20 < value < 127
        ):  # 0 and 127 mean a register that nobody has set
            limits[name] = value
    return limits
