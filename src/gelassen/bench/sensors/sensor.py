"""What every kind of sensor gives the bench: a description, and a reading."""

from collections.abc import Callable
from dataclasses import dataclass

from gelassen.bench.interface import ChannelInfo


@dataclass(slots=True)
class Sensor:
    """One channel of the machine. `read` raises OSError or ValueError if there is no value."""

    info: ChannelInfo
    read: Callable[[], float]


def problem_of(read: Callable[[], float]) -> str:
    """Return why a sensor cannot be read, and what to do; empty if it can."""
    try:
        read()
    except PermissionError:
        return "no permission: run as root, or let your user read the file"
    except OSError as error:
        return f"the kernel answers {error.strerror or error}"
    except ValueError as error:
        return f"not a reading: {error}"
    return ""
