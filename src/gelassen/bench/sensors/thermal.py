"""Thermal zones: temperatures that the firmware watches."""

import re
from collections import Counter
from pathlib import Path

from gelassen.bench.sensors.identity import text_of
from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.sysfile import Home, SysFile
from gelassen.core.recording.channels import slug

# Zones of the processor, used where no driver gives its temperature.
_PROCESSORS = {"x86_pkg_temp", "cpu_thermal", "cpu_thermal_zone", "soc_thermal"}


def zone_folders(sys_root: Path) -> list[Path]:
    """Return the folders of all thermal zones, with links resolved."""
    parent = sys_root / "class" / "thermal"
    found = [path for path in parent.glob("thermal_zone*") if (path / "temp").exists()]
    return sorted((p.resolve() for p in found), key=lambda p: int(re.sub(r"\D", "", p.name) or 0))


def find_thermal_zones(sys_root: Path, *, processor_known: bool = False) -> list[Sensor]:
    """Return one sensor a zone, named by the zone's type; twins by their place in the firmware."""
    folders = zone_folders(sys_root)
    names = _names(folders)
    processors = [name for name in names if name in _PROCESSORS]
    sensors = []
    for folder, name in zip(folders, names, strict=True):

        def find(name: str = name) -> Path | None:
            present = zone_folders(sys_root)
            return dict(zip(_names(present), present, strict=True)).get(name)

        file = SysFile("temp", Home(folder, find))

        def read(file: SysFile = file) -> float:
            value = file.read() / 1e3
            if not -60 < value < 200:
                raise ValueError(f"{value:g} °C is a fault value")
            return value

        is_processor = not processor_known and [name] == processors
        channel = "cpu.package.temp_c" if is_processor else f"board.zone_{name}.temp_c"
        what = f"thermal zone {text_of(folder / 'type') or folder.name}"
        sensors.append(sensor_of(channel, what, str(file.path), read, device=f"zone {name}"))
    return sensors


def _names(folders: list[Path]) -> list[str]:
    kinds = [slug(text_of(folder / "type") or "zone") for folder in folders]
    twins = Counter(kinds)
    names: list[str] = []
    for folder, kind in zip(folders, kinds, strict=True):
        name = kind
        if twins[kind] > 1:
            # The firmware's own path, such as \_TZ_.TZ01, outlasts the number of the zone.
            path = text_of(folder / "device" / "path")
            name = f"{kind}_{slug(path.rsplit('.', 1)[-1])}" if path else kind
        nth = sum(n == name or n.startswith(f"{name}_nr") for n in names) + 1
        names.append(name if nth == 1 else f"{name}_nr{nth}")
    return names
