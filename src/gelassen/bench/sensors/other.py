"""Systems other than Linux: whatever psutil offers there."""

import math
from collections.abc import Callable
from functools import partial
from typing import Any

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.core.recording.channels import slug

_SOURCE = "psutil"


def find_other() -> list[Sensor]:
    """Return load and clocks, and temperatures and fans where the system tells them."""
    import psutil

    sensors: list[Sensor] = []
    loads: list[float] = psutil.cpu_percent(percpu=True)

    def all_load() -> float:
        loads[:] = psutil.cpu_percent(percpu=True)  # one reading serves all channels
        return sum(loads) / len(loads)

    sensors.append(_of("cpu.all.load_pct", "load over all cores", all_load))
    for k in range(len(loads)):
        sensors.append(
            _of(f"cpu.core{k}.load_pct", f"load of processor {k}", partial(loads.__getitem__, k))
        )
    frequency: Any = getattr(psutil, "cpu_freq", lambda: None)
    if _tried(frequency) is not None:
        sensors.append(_of("cpu.all.clock_mhz", "clock", lambda: float(frequency().current)))
    for function, part, quantity in (
        ("sensors_temperatures", "board", "temp_c"),
        ("sensors_fans", "fan", "speed_rpm"),
    ):
        ask: Any = getattr(psutil, function, dict)
        for chip, entries in (_tried(ask) or {}).items():
            for k, entry in enumerate(entries):
                item = slug(f"{chip} {entry.label or k + 1}")
                name = f"{part}.{item}.{quantity}"

                def read(ask: Any = ask, chip: str = chip, k: int = k) -> float:
                    found = ask().get(chip, [])
                    return float(found[k].current) if k < len(found) else math.nan

                if all(sensor.info.name != name for sensor in sensors):
                    sensors.append(_of(name, f"{entry.label or chip}", read))
    return sensors


def _of(name: str, what: str, read: Callable[[], float]) -> Sensor:
    return sensor_of(name, what, _SOURCE, read, device="system")


def _tried(ask: Callable[[], Any]) -> Any:
    try:
        return ask()
    except Exception:  # psutil raises many kinds where a system tells nothing
        return None
