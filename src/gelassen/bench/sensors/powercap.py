"""Power of package, cores and memory, from the kernel's powercap energy counters, and its limits."""

import re
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from gelassen.bench.sensors.energy import EnergyMeter
from gelassen.bench.sensors.identity import text_of
from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.sysfile import Home, SysFile
from gelassen.core.recording.channels import slug

_PARTS = {"core": "cpu.cores", "uncore": "cpu.uncore", "dram": "memory.dram", "psys": "board.psys"}
# The kernel's names of the limits of a zone, and how a channel calls them.
LIMITS = {"long_term": "power_limit_w", "short_term": "short_power_limit_w"}


@dataclass(frozen=True, slots=True)
class Zone:
    """A powercap zone: its folder, the name it gives itself, and the channel it stands for."""

    folder: Path
    name: str
    item: str

    def constraint(self, limit: str) -> str | None:
        """Return the file prefix of a limit, such as "constraint_0"; None if it has none."""
        for path in sorted(self.folder.glob("constraint_*_name")):
            if text_of(path) == limit:
                return path.name.removesuffix("_name")
        return None


def zones(sys_root: Path) -> Iterator[Zone]:
    """Yield every zone; two trees may hold one package under one name."""
    parent = sys_root / "class" / "powercap"
    for folder in sorted(parent.glob("*:*")) if parent.is_dir() else ():
        name = text_of(folder / "name")
        if name is not None:
            yield Zone(folder, name, _item(name, folder.name.split(":")[1]))


def _item(name: str, package: str) -> str:
    if match := re.fullmatch(r"package-(\d+)", name):
        return "cpu.package" if match[1] == "0" else f"cpu.package{match[1]}"
    base = _PARTS.get(name, f"board.{slug(name)}")
    return base if package == "0" else f"{base}{package}"


def find_powercap(sys_root: Path, clock: Callable[[], float] = time.monotonic) -> list[Sensor]:
    """Return power and limits of every zone; a zone that two trees share is counted once."""
    sensors: dict[str, Sensor] = {}
    for zone in zones(sys_root):
        for sensor in _sensors(sys_root, zone, clock):
            sensors.setdefault(sensor.info.name, sensor)
    return list(sensors.values())


def _sensors(sys_root: Path, zone: Zone, clock: Callable[[], float]) -> Iterator[Sensor]:
    def find() -> Path | None:
        return next((z.folder for z in zones(sys_root) if z.item == zone.item), None)

    home = Home(zone.folder, find)
    if (zone.folder / "energy_uj").exists():
        range_uj = text_of(zone.folder / "max_energy_range_uj")
        file = SysFile("energy_uj", home)
        meter = EnergyMeter(file, float(range_uj) if range_uj else None, clock)
        what = f"power of {zone.name}, from its energy counter"
        yield _sensor(f"{zone.item}.power_w", what, file, meter.read)
    for limit, quantity in LIMITS.items():
        prefix = zone.constraint(limit)
        text = text_of(zone.folder / f"{prefix}_power_limit_uw") if prefix else None
        if prefix is None or text in (None, "0"):  # 0: the zone has the file, but no such limit
            continue
        file = SysFile(f"{prefix}_power_limit_uw", home)

        def read(file: SysFile = file) -> float:
            return file.read() / 1e6

        what = f"power limit of {zone.name}, {limit.replace('_', ' ')}"
        yield _sensor(f"{zone.item}.{quantity}", what, file, read)


def _sensor(channel: str, what: str, file: SysFile, read: Callable[[], float]) -> Sensor:
    sensor = sensor_of(channel, what, str(file.path), read, device="powercap")
    sensor.if_denied = f"only root may read it: run as root, or: sudo chmod a+r {file.path}"
    return sensor
