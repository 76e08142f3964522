"""One file of the kernel as it was before a setting was changed, and how it is put back.

This module has few imports, as the guardian loads it.
"""

import contextlib
import os
import re
import time
from dataclasses import dataclass
from pathlib import Path

from gelassen.bench.sensors.identity import hwmon_finder, text_of

_SHOWS_AFTER_S = 2.0  # drivers show cached readings for about a second
# The files that settings write, and the range of whole numbers in each. Nothing else is ever put back: a
# note that somebody else wrote must not be able to change other files.
_KINDS: dict[str, tuple[int, int]] = {
    r"pwm\d+": (0, 255),
    r"pwm\d+_enable": (0, 255),  # drivers number their modes as they like
    r"constraint_\d+_power_limit_uw": (0, 10**10),
    r"enabled|online|no_turbo|boost": (0, 1),
    r"scaling_max_freq": (0, 10**8),  # kHz
}


@dataclass(frozen=True, slots=True)
class Before:
    """One file as it was.

    Attributes
    ----------
    setting
        The channel it belongs to.
    path
        The file, below `sys_root`; below the device's folder if `device` is given.
    text
        What stood in it.
    device
        Key of the hwmon device, which may have another number by then.
    if_not
        What to write into which file of the same folder if it cannot be put back: a fan that cannot
        go back to its own control runs at full speed.
    """

    sys_root: str
    setting: str
    path: str
    text: str
    device: str = ""
    if_not: tuple[str, str] | None = None

    def check(self) -> None:
        """Raise ValueError if this is no file of the kernel that a setting writes, or no value of it."""
        try:
            self._check()
        except OSError as error:  # a path that is too long, say
            raise ValueError(f"{self.sys_root} cannot be looked into: {error.strerror}") from None

    def _check(self) -> None:
        root = Path(self.sys_root)
        if not root.is_absolute() or not any(
            (root / part).is_dir() for part in ("class", "devices")
        ):
            raise ValueError(f"{self.sys_root} is no tree of the kernel")
        inside = Path(self.path)
        if inside.is_absolute() or ".." in inside.parts:
            raise ValueError(f"{self.path} leads out of {root}")
        places = [(inside.name, self.text), *([self.if_not] if self.if_not else [])]
        for name, text in places:
            if not _allowed(name, text):
                raise ValueError(f'"{text}" in {name} is nothing that a setting writes')
        file = self.file()
        if file is not None and not file.resolve().is_relative_to(root.resolve()):
            raise ValueError(f"{file} leads out of {root}")

    def file(self) -> Path | None:
        """Return where the file is now; None if its device is gone."""
        if not self.device:
            return Path(self.sys_root) / self.path
        folder = hwmon_finder(Path(self.sys_root), self.device)()
        return folder / self.path if folder else None

    def put_back(self) -> str:
        """Write the value from before; return what went wrong, if anything did."""
        file = self.file()
        if file is None:
            return f"{self.setting}: the device of {self.path} is gone; {self.text} was set there"
        if text_of(file) == self.text:
            return ""
        try:
            write_text(file, self.text)
        except OSError as error:
            problem = (
                f"{self.setting}: {file} cannot be put back to {self.text} "
                f"({error.strerror or error})"
            )
            if self.if_not is not None:
                with contextlib.suppress(OSError):
                    write_text(file.parent / self.if_not[0], self.if_not[1])
                    problem += f"; {self.if_not[0]} is set to {self.if_not[1]} instead"
            return problem
        deadline_s = time.monotonic() + _SHOWS_AFTER_S
        while (found := text_of(file)) != self.text:
            if time.monotonic() > deadline_s:
                return f"{self.setting}: {file} was put back to {self.text} and shows {found}"
            time.sleep(0.05)
        return ""

    def same_place(self, other: "Before") -> bool:
        """Whether both entries are about one file."""
        mine, its = (
            (self.sys_root, self.device, self.path),
            (other.sys_root, other.device, other.path),
        )
        return mine == its


def _allowed(name: str, text: str) -> bool:
    for kind, (low, high) in _KINDS.items():
        if re.fullmatch(kind, name):
            return text.isascii() and text.isdigit() and low <= int(text[:20]) <= high
    from gelassen._plugins import plugins  # only here, so that the guardian starts quickly

    sources = plugins("gelassen.settings").found.values()
    added = [kind for source in sources for kind in getattr(source, "undo_files", ())]
    return len(text) <= 64 and any(re.fullmatch(kind, name) for kind in added)


def write_text(file: Path, text: str) -> None:
    """Write a small kernel file in one go."""
    # Truncate first: a kernel file ignores it, but a plain file would keep the rest.
    descriptor = os.open(file, os.O_WRONLY | os.O_TRUNC | os.O_CLOEXEC)
    try:
        os.write(descriptor, text.encode())
    finally:
        os.close(descriptor)
