"""Clocks, thermal events and load of the processor, from sysfs and procfs."""

import re
from pathlib import Path

from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors.sensor import Sensor, problem_of
from gelassen.bench.sensors.sysfile import SysFile, text_of


def _processors(sys_root: Path) -> list[Path]:
    parent = sys_root / "devices" / "system" / "cpu"
    found = [p for p in parent.glob("cpu[0-9]*") if p.is_dir()] if parent.is_dir() else []
    return sorted(found, key=lambda p: int(p.name[3:]))


def _cores(sys_root: Path) -> list[tuple[str, Path]]:
    """Return one folder a core: of threads that share a core, the first stands for it."""
    cores: dict[str, Path] = {}
    for folder in _processors(sys_root):
        core = text_of(folder / "topology" / "core_id") or folder.name[3:]
        package = text_of(folder / "topology" / "physical_package_id") or "0"
        item = f"core{core}" if package in ("0", "-1") else f"package{package}_core{core}"
        cores.setdefault(item, folder)
    return list(cores.items())


def find_clocks(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return the clock of each core, from cpufreq or else from /proc/cpuinfo."""
    sensors = []
    for item, folder in _cores(sys_root):
        path = folder / "cpufreq" / "scaling_cur_freq"
        if path.exists():
            file = SysFile(path)
            sensors.append(_scaled(f"cpu.{item}.clock_mhz", f"clock of {folder.name}", file, 1e-3))
    if sensors or proc_root is None:
        return sensors
    path = proc_root / "cpuinfo"
    count = len(_clock_lines(path))
    for number in range(count):

        def read(number: int = number) -> float:
            return _clock_lines(path)[number]

        info = ChannelInfo(
            name=f"cpu.core{number}.clock_mhz",
            what=f"clock of cpu{number}, as /proc/cpuinfo states it (on virtual machines fixed)",
            source=str(path),
        )
        sensors.append(Sensor(info, read))
    return sensors


def _clock_lines(path: Path) -> list[float]:
    text = text_of(path) or ""
    return [float(value) for value in re.findall(r"^cpu MHz\s*:\s*([0-9.]+)", text, re.MULTILINE)]


def _scaled(name: str, what: str, file: SysFile, factor: float) -> Sensor:
    def read() -> float:
        return file.read() * factor

    problem = problem_of(read)
    info = ChannelInfo(
        name=name,
        what=what,
        source=str(file.path),
        resolution=1.0 if name.endswith("_count") else None,
        readable=not problem,
        problem=problem,
    )
    return Sensor(info, read)


def find_throttle_counters(sys_root: Path) -> list[Sensor]:
    """Return the counts of thermal events, of each core and of the package."""
    sensors = []
    for item, folder in _cores(sys_root):
        path = folder / "thermal_throttle" / "core_throttle_count"
        if path.exists():
            name = f"cpu.{item}.throttle_count"
            sensors.append(_scaled(name, f"thermal events of {folder.name}", SysFile(path), 1.0))
    for _, folder in _cores(sys_root)[:1]:
        path = folder / "thermal_throttle" / "package_throttle_count"
        if path.exists():
            name = "cpu.package.throttle_count"
            sensors.append(_scaled(name, "thermal events of the package", SysFile(path), 1.0))
    return sensors


def find_load(proc_root: Path | None) -> list[Sensor]:
    """Return the load over all cores, from /proc/stat."""
    if proc_root is None or not (proc_root / "stat").exists():
        return []
    meter = _LoadMeter(proc_root / "stat")
    info = ChannelInfo(
        name="cpu.all.load_pct", what="load over all cores", source=str(proc_root / "stat")
    )
    return [Sensor(info, meter.read)]


class _LoadMeter:
    """Share of time not idle since the last reading."""

    def __init__(self, path: Path) -> None:
        self._file = SysFile(path)
        self._last = self._times()

    def _times(self) -> tuple[float, float]:
        fields = [float(field) for field in self._file.read_text().split("\n", 1)[0].split()[1:9]]
        return sum(fields), fields[3] + fields[4]  # idle and waiting for disks

    def read(self) -> float:
        total, idle = self._times()
        passed, rested = total - self._last[0], idle - self._last[1]
        if passed <= 0:
            return float("nan")  # read twice within one tick
        self._last = (total, idle)
        return min(max(100 * (1 - rested / passed), 0.0), 100.0)
