"""Power of package, cores and memory, from the kernel's powercap energy counters."""

import re
import time
from collections.abc import Callable
from pathlib import Path

from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors.sensor import Sensor
from gelassen.bench.sensors.sysfile import SysFile, text_of
from gelassen.core.channels import slug

_PARTS = {"core": "cpu.cores", "uncore": "cpu.uncore", "dram": "memory.dram", "psys": "board.psys"}


def find_powercap(sys_root: Path, clock: Callable[[], float] = time.monotonic) -> list[Sensor]:
    """Return the power of every energy zone; a zone that two trees share is counted once."""
    parent = sys_root / "class" / "powercap"
    zones = sorted(parent.glob("*:*")) if parent.is_dir() else []
    sensors: dict[str, Sensor] = {}
    for zone in zones:
        file = zone / "energy_uj"
        name = text_of(zone / "name")
        if name is None or not file.exists():
            continue
        package = zone.name.split(":")[1]
        channel = _channel(name, package)
        if channel not in sensors:
            sensors[channel] = _sensor(channel, name, zone, clock)
    return list(sensors.values())


def _channel(name: str, package: str) -> str:
    if match := re.fullmatch(r"package-(\d+)", name):
        return "cpu.package.power_w" if match[1] == "0" else f"cpu.package{match[1]}.power_w"
    base = _PARTS.get(name, f"board.{slug(name)}")
    return f"{base}.power_w" if package == "0" else f"{base}{package}.power_w"


def _sensor(channel: str, name: str, zone: Path, clock: Callable[[], float]) -> Sensor:
    file = SysFile(zone / "energy_uj")
    problem = ""
    try:
        file.read()
    except PermissionError:
        problem = f"only root may read energy: run as root, or: sudo chmod a+r {file.path}"
    except (OSError, ValueError) as error:
        problem = f"the kernel answers: {error}"
    range_uj = text_of(zone / "max_energy_range_uj")
    meter = _EnergyMeter(file, float(range_uj) if range_uj else None, clock)
    info = ChannelInfo(
        name=channel,
        what=f"power of {name}, from its energy counter",
        source=str(file.path),
        readable=not problem,
        problem=problem,
    )
    return Sensor(info, meter.read)


class _EnergyMeter:
    """Mean power since the last reading."""

    def __init__(self, file: SysFile, range_uj: float | None, clock: Callable[[], float]) -> None:
        self._file, self._range_uj, self._clock = file, range_uj, clock
        self._last: tuple[float, float] | None = None

    def read(self) -> float:
        energy, now = self._file.read(), self._clock()
        last, self._last = self._last, (energy, now)
        if last is None or now <= last[1]:
            return float("nan")  # power needs two readings
        used = energy - last[0]
        if used < 0:
            if self._range_uj is None:
                return float("nan")
            used += self._range_uj
        return used * 1e-6 / (now - last[1])
