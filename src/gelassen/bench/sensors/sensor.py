"""The interface of every kind of sensor: a description, and a reading."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from gelassen.bench.interface import ChannelInfo
from gelassen.bench.sensors.sysfile import SysFile


class PlainFile(NamedTuple):
    """A file whose number, divided, is the value if it lies within bounds."""

    file: SysFile
    divisor: float
    low: float = -math.inf
    high: float = math.inf


@dataclass(slots=True)
class Sensor:
    """One channel of the machine.

    Attributes
    ----------
    info
        What it is.
    read
        Returns the value; OSError or ValueError if there is none. NaN means "nothing yet", which
        is no failure.
    device
        What it is read from. Sensors of one device wait for each other, those of two never do.
    apart
        Known to be slow, as an instrument is: read by a thread of its own from the beginning.
    if_denied
        What to do if this user may not read it.
    plain
        The same reading in its simplest form, if it has one: most of a recorder's work.
    """

    info: ChannelInfo
    read: Callable[[], float]
    device: str = ""
    apart: bool = False
    if_denied: str = "no permission: run as root, or let your user read the file"
    plain: "PlainFile | None" = None


def sensor_of(
    name: str,
    what: str,
    source: str,
    read: Callable[[], float],
    *,
    device: str,
    resolution: float | None = None,
    limits: Mapping[str, float] | None = None,
) -> Sensor:
    """Return a sensor from its description."""
    info = ChannelInfo(
        name=name, what=what, source=source, resolution=resolution, limits=limits or {}
    )
    return Sensor(info, read, device=device)


def reason_of(error: Exception) -> str:
    """Return why a reading failed, in a few words."""
    if isinstance(error, OSError):
        return f"the kernel answers: {error.strerror}" if error.strerror else str(error)
    return f"not a reading: {error}"
