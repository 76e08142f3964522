"""Channel names: `<part>.<item>.<quantity>_<unit>`, the column names of every file and table."""

import re
from dataclasses import dataclass

from gelassen.core.foundation.errors import InputError

# Unit suffix -> (symbol for people, what it measures). The suffix ends every channel name.
UNITS: dict[str, tuple[str, str]] = {
    "c": ("°C", "temperature"),
    "mhz": ("MHz", "clock"),
    "w": ("W", "power"),
    "v": ("V", "voltage"),
    "a": ("A", "current"),
    "rpm": ("rpm", "speed"),
    "pct": ("%", "share"),
    "lpm": ("L/min", "flow"),
    "dba": ("dB(A)", "noise level"),
    "per_s": ("1/s", "rate"),
    "count": ("", "count"),
    "ms": ("ms", "duration"),
    "s": ("s", "duration"),
    "j": ("J", "energy"),
    "flag": ("", "state, 1 or 0"),
}

_NAME = re.compile(r"[a-z0-9]+(?:_[a-z0-9]+)*(?:\.[a-z0-9]+(?:_[a-z0-9]+)*){2}")


@dataclass(frozen=True, slots=True)
class ChannelName:
    """The three parts of a channel name, and its unit."""

    part: str
    item: str
    quantity: str
    unit: str

    def __str__(self) -> str:
        return f"{self.part}.{self.item}.{self.quantity}_{self.unit}"

    @property
    def symbol(self) -> str:
        """The unit as people write it."""
        return UNITS[self.unit][0]


def parse_channel(name: str) -> ChannelName:
    """Take a channel name apart.

    Raises
    ------
    InputError
        The name has not exactly three parts, other letters than lower case ASCII, or no known unit.
    """
    if not _NAME.fullmatch(name):
        raise InputError(
            f'"{name}" is not a channel name: three parts in lower case joined by dots are needed, '
            "such as cpu.package.temp_c"
        )
    part, item, last = name.split(".")
    # "rate_per_s" ends in "_s" as well: the longest unit that fits is the right one.
    for unit in sorted(UNITS, key=len, reverse=True):
        if last.endswith("_" + unit):
            return ChannelName(part, item, last[: -len(unit) - 1], unit)
    raise InputError(
        f'"{name}" does not end in a known unit: allowed are ' + ", ".join("_" + u for u in UNITS)
    )


def is_channel(name: str) -> bool:
    """Return whether this is a channel name."""
    try:
        parse_channel(name)
    except InputError:
        return False
    return True


def slug(text: str) -> str:
    """Turn any label into a part of a channel name: lower case ASCII letters, digits, `_`."""
    return re.sub(r"[^a-z0-9]+", "_", text.lower()).strip("_") or "unnamed"
