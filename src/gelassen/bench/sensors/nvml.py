"""Graphics cards through the vendor's management library NVML, if its Python module is installed.

The extra "nvml" brings the module; the library itself comes with the driver.
"""

import math
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from importlib import import_module
from typing import Any

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.core.recording.channels import slug

# Bits of the reasons for reduced clocks, as the library's header numbers them.
_HEAT = 0x20 | 0x40  # software and hardware thermal slowdown
_POWER = 0x04 | 0x80  # power cap, power brake
_HARDWARE = 0x08  # slowdown by hardware, for heat or power
_TARGETS = {1: "package", 2: "memory", 4: "supply", 8: "board"}
_FIELD_MEMORY_TEMP = 82


def find_nvml(taken: Sequence[str] = ()) -> list[Sensor]:
    """Return the sensors of all graphics cards the library knows; none where it is not there.

    `taken` are channel names that other sensors have.
    """
    try:
        nvml: Any = import_module("pynvml")
        nvml.nvmlInit()
        count = int(nvml.nvmlDeviceGetCount())
        handles = [nvml.nvmlDeviceGetHandleByIndex(k) for k in range(count)]
    except Exception:
        # No module, no library, no driver, no card: the library has an exception of its own for each.
        return []
    alone = count == 1 and not any(name.startswith("gpu.") for name in taken)
    return [s for handle in handles for s in _card(nvml, handle, alone)]


def _card(nvml: Any, handle: Any, alone: bool) -> Iterator[Sensor]:
    place = _text(nvml.nvmlDeviceGetPciInfo(handle).busId).lower()
    title = _text(_or_none(lambda: nvml.nvmlDeviceGetName(handle)) or "graphics card")
    end = "" if alone else "_" + slug(place.split(":", 1)[1] if place.count(":") > 1 else place)

    def sensor(item: str, quantity: str, what: str, read: Callable[[], Any]) -> Iterator[Sensor]:
        name = f"{'fan' if item.startswith('gpu') else 'gpu'}.{item}{end}.{quantity}"
        safe = _wrapped(read)
        if _or_none(safe) is not None:  # a feature that a card lacks is not a failure
            yield sensor_of(
                name, f"{what} of {title} ({place})", "NVML", safe, device=f"nvml {place}"
            )

    yield from sensor(
        "package", "temp_c", "temperature", lambda: nvml.nvmlDeviceGetTemperature(handle, 0)
    )
    for number, item in _TARGETS.items():
        if number != 1:
            yield from sensor(
                item, "temp_c", f"{item} temperature", partial(_target, nvml, handle, number)
            )
    yield from sensor("hotspot", "temp_c", "hot spot", lambda: _hot_spot(nvml, handle))
    yield from sensor(
        "package", "clock_mhz", "clock", lambda: nvml.nvmlDeviceGetClockInfo(handle, 0)
    )
    yield from sensor(
        "memory", "clock_mhz", "memory clock", lambda: nvml.nvmlDeviceGetClockInfo(handle, 2)
    )
    yield from sensor(
        "package", "power_w", "power", lambda: nvml.nvmlDeviceGetPowerUsage(handle) / 1e3
    )
    yield from sensor(
        "package", "power_limit_w", "power limit",
        lambda: nvml.nvmlDeviceGetEnforcedPowerLimit(handle) / 1e3,
    )  # fmt: skip
    yield from sensor(
        "package", "load_pct", "load", lambda: nvml.nvmlDeviceGetUtilizationRates(handle).gpu
    )
    fans = _or_none(lambda: nvml.nvmlDeviceGetNumFans(handle))
    for k in range(int(fans or 0)):
        yield from sensor(
            f"gpu_fan{k + 1}", "duty_pct", f"duty of fan {k + 1}",
            partial(nvml.nvmlDeviceGetFanSpeed_v2, handle, k),
        )  # fmt: skip
    if not fans:
        yield from sensor(
            "gpu_fan1", "duty_pct", "duty of its fan", lambda: nvml.nvmlDeviceGetFanSpeed(handle)
        )
    for quantity, bits, what in (
        ("held_by_heat_flag", _HEAT, "clock reduced by heat"),
        ("held_by_power_flag", _POWER, "clock reduced by power"),
        ("held_by_hardware_flag", _HARDWARE, "clock reduced by hardware"),
    ):
        yield from sensor("package", quantity, what, partial(_reduced, nvml, handle, bits))


def _reduced(nvml: Any, handle: Any, bits: int) -> float:
    return float(bool(_reasons(nvml, handle) & bits))


def _reasons(nvml: Any, handle: Any) -> int:
    """Return the reasons for reduced clocks; the call was renamed in newer libraries."""
    for name in (
        "nvmlDeviceGetCurrentClocksEventReasons",
        "nvmlDeviceGetCurrentClocksThrottleReasons",
    ):
        if hasattr(nvml, name):
            return int(getattr(nvml, name)(handle))
    raise ValueError("not offered")


def _target(nvml: Any, handle: Any, number: int) -> float:
    """Return the temperature of a part of the card, where the driver offers it."""
    if number == 2:
        field = _or_none(lambda: nvml.nvmlDeviceGetFieldValues(handle, [_FIELD_MEMORY_TEMP])[0])
        value = field.value.uiVal if field is not None and field.nvmlReturn == 0 else 0
        if value:
            return float(value)
    settings = nvml.nvmlDeviceGetThermalSettings(handle, 15)
    for k in range(int(settings.count)):
        if int(settings.sensor[k].target) == number:
            return float(settings.sensor[k].currentTemp)
    raise ValueError("not offered")


def _hot_spot(nvml: Any, handle: Any) -> float:
    """Return the hottest place of the chip, where library and driver offer it."""
    if not hasattr(nvml, "nvmlDeviceGetHotSpotTemperature"):
        raise ValueError("not offered")
    return float(nvml.nvmlDeviceGetHotSpotTemperature(handle))


def _wrapped(read: Callable[[], Any]) -> Callable[[], float]:
    """Turn the library's exceptions into the kinds that every sensor raises."""

    def safe() -> float:
        try:
            value = float(read())
        except Exception as error:
            raise ValueError(f"the library answers: {error}") from None
        if not math.isfinite(value):
            raise ValueError("no value")
        return value

    return safe


def _or_none(read: Callable[[], Any]) -> Any:
    try:
        return read()
    except Exception:  # a feature that the card lacks
        return None


def _text(value: Any) -> str:
    return value.decode() if isinstance(value, bytes) else str(value)
