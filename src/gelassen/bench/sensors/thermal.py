"""Thermal zones: temperatures that firmware watches."""

from collections import Counter
from pathlib import Path

from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors.sensor import Sensor, problem_of
from gelassen.bench.sensors.sysfile import SysFile, text_of
from gelassen.core.channels import slug


def find_thermal_zones(sys_root: Path) -> list[Sensor]:
    """Return one sensor a zone, named by the zone's type."""
    parent = sys_root / "class" / "thermal"
    zones = sorted(parent.glob("thermal_zone*")) if parent.is_dir() else []
    kinds = [text_of(zone / "type") or zone.name for zone in zones]
    twins = Counter(kinds)
    seen: Counter[str] = Counter()
    sensors = []
    for zone, kind in zip(zones, kinds, strict=True):
        seen[kind] += 1
        item = f"zone_{slug(kind)}" + (f"_{seen[kind]}" if twins[kind] > 1 else "")
        file = SysFile(zone / "temp")

        def read(file: SysFile = file) -> float:
            value = file.read() * 1e-3
            if not -60 < value < 200:
                raise ValueError(f"{value:g} °C is a fault value")
            return value

        problem = problem_of(read)
        info = ChannelInfo(
            name=f"board.{item}.temp_c",
            what=f"thermal zone {kind}",
            source=str(zone / "temp"),
            readable=not problem,
            problem=problem,
        )
        sensors.append(Sensor(info, read))
    return sensors
