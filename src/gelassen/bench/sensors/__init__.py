"""Sensors of the machine, through the kernel's public files. Their root is always an argument."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.bench.sensors.find import find_sensors
    from gelassen.bench.sensors.sensor import Sensor

__all__ = ["Sensor", "find_sensors"]

__getattr__ = loader(__name__, {"find": ("find_sensors",), "sensor": ("Sensor",)})
