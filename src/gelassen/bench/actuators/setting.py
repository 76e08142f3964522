"""What all settings of a real machine share: check, note, write, read back, put back."""

import math
import os
import time
from abc import ABC, abstractmethod
from collections.abc import Sequence
from pathlib import Path

from gelassen.bench.actuators.safety import SafetyNet
from gelassen.bench.actuators.undo import Before, write_text
from gelassen.bench.sensors.identity import text_of
from gelassen.core.foundation.errors import BenchError
from gelassen.core.recording.channels import parse_channel

SHOWS_AFTER_S = 2.0  # drivers cache readings for about a second


class Setting(ABC):
    """One setting of the machine, by the name of its channel. Implements `gelassen.bench.Actuator`.

    Attributes
    ----------
    name
        The channel.
    what
        What it is, in words.
    low, high
        Least and greatest value, in the channel's unit.
    tolerance
        How far the machine may round.
    """

    tolerance = 0.0

    def __init__(self, name: str, what: str, low: float, high: float, net: SafetyNet) -> None:
        self.name = name
        self.what = what
        self.low, self.high = low, high
        self._net = net
        self._changed = False
        self._wanted = math.nan

    @abstractmethod
    def read(self) -> float:
        """Return the present setting. Raises OSError or ValueError if it cannot be read."""

    @abstractmethod
    def _before(self) -> Sequence[Before]:
        """Return every file a change may touch, as it is now, in the order of writing."""

    @abstractmethod
    def _write(self, value: float) -> None:
        """Change the setting; OSError if the machine does not take it."""

    def _refused(self, found: float) -> str:
        """Return why the machine shows another value than was set, and what to do."""
        return "the machine accepted the value but did not apply it; its firmware may fix it"

    def set(self, value: float) -> None:
        """Change the setting and read it back.

        Raises
        ------
        BenchError
            The value is out of range, may not be written, or is not followed; what was there
            before is put back.
        """
        unit = parse_channel(self.name).symbol
        if not self.low <= value <= self.high:
            raise BenchError(
                f"{self.name}: {value:g} {unit} asked for; "
                f"{self.low:g} to {self.high:g} {unit} are possible here"
            )
        try:
            before = [] if self._changed else list(self._before())
        except (OSError, ValueError) as error:
            raise BenchError(
                f"{self.name} cannot be read now ({error}); nothing was changed"
            ) from None
        for file in (entry.file() for entry in before):
            if file is not None and not _writable(file):
                raise BenchError(
                    f"{self.name}: only root may write {file}. Run with sudo, or allow it until the "
                    f"next restart: sudo chmod a+w {file}"
                )
        if before:
            self._net.remember(before)
            self._changed = True
        try:
            self._write(value)
            found = self._settled(value)
        except (OSError, ValueError) as error:
            reason = getattr(error, "strerror", None) or error
            self._give_up(f"{self.name}: {value:g} {unit} was refused by the machine ({reason})")
        if not abs(found - value) <= self.tolerance:
            self._give_up(
                f"{self.name}: {value:g} {unit} asked for, {found:g} {unit} set: {self._refused(found)}"
            )
        self._wanted = value

    def _settled(self, value: float) -> float:
        """Read back repeatedly, as drivers may still show the old value."""
        deadline_s = time.monotonic() + SHOWS_AFTER_S
        while True:
            found = self.read()
            if abs(found - value) <= self.tolerance or time.monotonic() > deadline_s:
                return found
            time.sleep(0.1)

    def _give_up(self, message: str) -> None:
        problems = self._net.put_back(self.name)
        self._changed = bool(problems)
        raise BenchError(". ".join([message, *problems]))

    def check(self) -> str:
        """Return a message if the machine changed the setting since, or if nobody guards it."""
        if not self._changed or math.isnan(self._wanted):
            return ""
        if said := self._net.check():
            return said
        try:
            found = self.read()
        except (OSError, ValueError):
            return ""  # a reading that fails is counted elsewhere
        if abs(found - self._wanted) <= self.tolerance:
            return ""
        unit = parse_channel(self.name).symbol
        return f"{self.name}: {self._wanted:g} {unit} was set, {found:g} {unit} is there now"

    def restore(self) -> None:
        """Put back what was there before the first `set`; BenchError says what could not be."""
        if not self._changed:
            return
        problems = self._net.put_back(self.name)
        self._wanted = math.nan
        if problems:
            raise BenchError("; ".join(problems))
        self._changed = False


def number_in(file: Path) -> float:
    """Return the number in a small kernel file; OSError or ValueError if there is none."""
    return float(file.read_text(encoding="ascii", errors="replace"))


def put(file: Path, value: float) -> None:
    """Write a whole number."""
    write_text(file, str(round(value)))


def noted(sys_root: Path, setting: str, file: Path) -> Before:
    """Return a file at a fixed place as it is now."""
    text = text_of(file)
    if text is None:
        raise ValueError(f"{file} is empty or gone")
    return Before(str(sys_root), setting, str(file.relative_to(sys_root)), text)


def _writable(file: Path) -> bool:
    return os.access(file, os.W_OK) if file.exists() else True
