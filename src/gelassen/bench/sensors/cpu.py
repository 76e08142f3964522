"""Clocks and thermal events of the processor, from sysfs; the clocks from procfs where need be."""

import math
import re
from collections.abc import Iterator
from pathlib import Path

from gelassen.bench.sensors.identity import text_of
from gelassen.bench.sensors.sensor import PlainFile, Sensor, sensor_of
from gelassen.bench.sensors.sysfile import SysFile

_DEVICE = "processor"


def processors(sys_root: Path) -> list[Path]:
    """Return the folders of all logical processors, in order."""
    parent = sys_root / "devices" / "system" / "cpu"
    found = [p for p in parent.glob("cpu[0-9]*") if p.is_dir()] if parent.is_dir() else []
    return sorted(found, key=lambda p: int(p.name[3:]))


def cores(sys_root: Path) -> dict[str, list[Path]]:
    """Return the logical processors of each core, by the core's name in channels."""
    found: dict[str, list[Path]] = {}
    for folder in processors(sys_root):
        core = text_of(folder / "topology" / "core_id") or folder.name[3:]
        package = package_of(folder)
        item = f"core{core}" if package == "0" else f"package{package}_core{core}"
        found.setdefault(item, []).append(folder)
    return found


def package_of(processor: Path) -> str:
    """Return the number of the package a logical processor is in, as text."""
    package = text_of(processor / "topology" / "physical_package_id") or "0"
    return "0" if package == "-1" else package


def find_clocks(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return the clock of each core, from cpufreq or else from /proc/cpuinfo."""
    sensors: list[Sensor] = []
    for item, (folder, *_) in cores(sys_root).items():
        if (folder / "cpufreq" / "scaling_cur_freq").exists():
            file = SysFile("cpufreq/scaling_cur_freq", folder)
            what = f"clock of {folder.name}"
            sensors.append(_scaled(f"cpu.{item}.clock_mhz", what, file, 1e3))
    if not sensors and proc_root is not None:
        sensors = list(_stated_clocks(proc_root / "cpuinfo"))
    return sensors


def _stated_clocks(path: Path) -> Iterator[Sensor]:
    file = SysFile(path.name, path.parent)
    clocks: list[float] = []

    def refresh() -> None:
        clocks.clear()
        found = re.findall(r"^cpu MHz\s*:\s*([0-9.]+)", file.read_text(), re.MULTILINE)
        clocks.extend(map(float, found))

    if not path.exists():
        return
    refresh()
    for number in range(len(clocks)):

        def read(number: int = number) -> float:
            if number == 0:
                refresh()  # one reading of the file serves all cores
            return clocks[number] if number < len(clocks) else math.nan

        what = f"clock of cpu{number}, from /proc/cpuinfo (on virtual machines fixed)"
        yield sensor_of(f"cpu.core{number}.clock_mhz", what, str(path), read, device=_DEVICE)


def find_throttle_counters(sys_root: Path) -> list[Sensor]:
    """Return count and time of thermal events, of each core and each package."""
    sensors: list[Sensor] = []
    packages: set[str] = set()
    for item, (folder, *_) in cores(sys_root).items():
        sensors += _throttling(f"cpu.{item}", f"of {folder.name}", folder, "core")
        package = package_of(folder)
        if package not in packages:
            packages.add(package)
            name = "cpu.package" if package == "0" else f"cpu.package{package}"
            sensors += _throttling(name, "of the package", folder, "package")
    return sensors


def _throttling(name: str, whose: str, processor: Path, scope: str) -> Iterator[Sensor]:
    for end, quantity, what in (
        ("throttle_count", "throttle_count", "thermal events"),
        ("throttle_total_time_ms", "throttled_ms", "time held back by heat, in all,"),
    ):
        file = SysFile(f"thermal_throttle/{scope}_{end}", processor)
        if file.path.exists():
            yield _scaled(f"{name}.{quantity}", f"{what} {whose}", file, 1.0)


def _scaled(name: str, what: str, file: SysFile, divisor: float) -> Sensor:
    def read() -> float:
        return file.read() / divisor

    step = 1.0 if divisor == 1.0 else None
    sensor = sensor_of(name, what, str(file.path), read, device=_DEVICE, resolution=step)
    sensor.plain = PlainFile(file, divisor)
    return sensor
