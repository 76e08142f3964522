"""Load of the processor and of each core, from /proc/stat."""

import math
import re
from pathlib import Path

from gelassen.bench.sensors.cpu import cores
from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.sysfile import SysFile

_DEVICE = "processor load"


def find_load(sys_root: Path, proc_root: Path | None) -> list[Sensor]:
    """Return the load over all cores and of each core; a core's is the mean of its threads."""
    if proc_root is None or not (proc_root / "stat").exists():
        return []
    path = proc_root / "stat"
    meter = _LoadMeter(SysFile("stat", proc_root))
    meter.refresh()
    # One reading of the file serves all channels. The first channel makes it.
    sensors = [
        sensor_of("cpu.all.load_pct", "load over all cores", str(path), meter.all, device=_DEVICE)
    ]
    for item, threads in cores(sys_root).items():
        names = [folder.name for folder in threads]
        if all(name in meter.known for name in names):

            def read(names: list[str] = names) -> float:
                return meter.mean(names)

            what = f"load of {', '.join(names)}"
            sensors.append(sensor_of(f"cpu.{item}.load_pct", what, str(path), read, device=_DEVICE))
    return sensors


class _LoadMeter:
    """Share of time not idle since the last reading."""

    def __init__(self, file: SysFile) -> None:
        self._file = file
        self._last: dict[str, tuple[int, int]] = {}
        self._load_pct: dict[str, float] = {}

    @property
    def known(self) -> set[str]:
        return set(self._last)

    def refresh(self) -> None:
        self._load_pct = {}
        for line in re.findall(r"^cpu.*$", self._file.read_text(), re.MULTILINE):
            name, *fields = line.split()
            times = [int(field) for field in fields[:8]]
            total, idle = sum(times), times[3] + times[4]  # idle and waiting for disks
            last = self._last.get(name)
            if last is not None and total == last[0]:
                continue  # read twice within one tick: the next reading has a value
            self._last[name] = (total, idle)
            if last is not None and total > last[0]:
                share = 1 - (idle - last[1]) / (total - last[0])
                self._load_pct[name] = min(max(100 * share, 0.0), 100.0)

    def all(self) -> float:
        self.refresh()
        return self._load_pct.get("cpu", math.nan)

    def mean(self, names: list[str]) -> float:
        found = [self._load_pct[name] for name in names if name in self._load_pct]
        return sum(found) / len(found) if found else math.nan
