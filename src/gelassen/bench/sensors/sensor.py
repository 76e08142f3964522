"""What every kind of sensor gives the bench: a description, and a reading."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from gelassen.bench.interface import ChannelInfo


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
    """

    info: ChannelInfo
    read: Callable[[], float]
    device: str = ""
    apart: bool = False


def reason_of(error: Exception) -> str:
    """Return why a reading failed, in a few words."""
    if isinstance(error, PermissionError):
        return "no permission: run as root, or let your user read the file"
    if isinstance(error, OSError):
        return f"the kernel answers: {error.strerror or error}"
    return f"not a reading: {error}"


def sensor_of(
    name: str,
    what: str,
    source: str,
    read: Callable[[], float],
    *,
    device: str,
    resolution: float | None = None,
    limits: Mapping[str, float] | None = None,
    if_denied: str = "",
) -> Sensor:
    """Try a reading once, and return the sensor with what came of it.

    A sensor that fails is kept: it may answer later. One that this user may not read is not;
    `if_denied` then says what to do.
    """
    problem, readable = "", True
    try:
        read()
    except (OSError, ValueError) as error:
        problem, readable = reason_of(error), not isinstance(error, PermissionError)
        if not readable and if_denied:
            problem = if_denied
    info = ChannelInfo(
        name=name,
        what=what,
        source=source,
        resolution=resolution,
        readable=readable,
        problem=problem,
        limits=limits or {},
    )
    return Sensor(info, read, device=device)
