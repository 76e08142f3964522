"""Channels that the tester describes: other names for existing channels, instruments, programs."""

import re
import shlex
from collections.abc import Mapping
from dataclasses import dataclass

from gelassen.bench.sensors.program import program_sensor
from gelassen.bench.sensors.sensor import Sensor
from gelassen.bench.sensors.textvalue import NUMBER, SPOKEN_NUMBER
from gelassen.bench.sensors.visa import Instrument, instrument_sensor
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.units import conversion


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelSpec:
    """Where one channel comes from; its name is the channel's.

    Attributes
    ----------
    origin
        Another channel that it is: the tester knows what that one measures.
    resource, query, backend
        An instrument, what to ask it, and which VISA library speaks to it.
    command
        A program whose last line of output is the value.
    pattern
        Regular expression that finds the value; the first number if not given.
    unit
        What the value is in; the channel's own unit if not given.
    timeout_s
        How long to wait for an answer.
    scale, offset
        ``value * scale + offset`` is what the probe would read if it were true.
    """

    origin: str | None = None
    resource: str | None = None
    query: str = ""
    backend: str = "@py"
    command: tuple[str, ...] = ()
    pattern: str = ""
    unit: str = ""
    timeout_s: float = 2.0
    scale: float = 1.0
    offset: float = 0.0

    @property
    def adjusted(self) -> bool:
        """Whether readings are changed."""
        return (self.scale, self.offset) != (1.0, 0.0)

    @property
    def adjustment(self) -> str:
        """The conversion of readings, in words; empty if there is none."""
        scaled = "" if self.scale == 1 else f" times {self.scale:g}"
        moved = "" if self.offset == 0 else f", {self.offset:+g} added"
        return (scaled + moved).strip(", ")


def split_command(command: str, where: str) -> tuple[str, ...]:
    """Return a command's words as a shell would split them; InputError if a quote is left open."""
    try:
        return tuple(shlex.split(command))
    except ValueError as error:
        raise InputError(f"{where}: {command!r} is not a command ({error})") from None


def described_sensors(specs: Mapping[str, ChannelSpec]) -> list[Sensor]:
    """Return the sensors of instruments and programs among the descriptions.

    Raises
    ------
    InputError
        A unit that cannot become the channel's, or an expression that is none.
    """
    sensors: list[Sensor] = []
    sessions: dict[tuple[str, str], Instrument] = {}
    for name, spec in specs.items():
        convert = conversion(spec.unit, name)
        try:
            pattern = re.compile(spec.pattern or (NUMBER if spec.resource else SPOKEN_NUMBER))
        except re.error as error:
            raise InputError(f'{name}: the pattern "{spec.pattern}" is none: {error}') from None
        if spec.resource is not None:
            key = (spec.resource, spec.backend)
            session = sessions.setdefault(key, Instrument(*key))
            sensors.append(
                instrument_sensor(
                    name, session, spec.query, pattern, convert, timeout_s=spec.timeout_s
                )
            )
        elif spec.command:
            sensors.append(
                program_sensor(name, spec.command, pattern, convert, timeout_s=spec.timeout_s)
            )
    return sensors
