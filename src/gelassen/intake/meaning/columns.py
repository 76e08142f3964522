"""Which column of a log is which channel, from a mapping or from our own channel names.

A mapping gives, for a header or a pattern of headers, the channel and the conversion of its values::

    [columns]
    "time" = "t_s"
    "pkg temp" = "cpu.package.temp_c"
    "core{n} temp" = "cpu.core{n}.temp_c"
    "intake F" = { channel = "room.air.temp_c", offset = -32, scale = 0.5555555556 }

Values become ``(value + offset) * scale``. ``{n}`` stands for the same number on both sides.
``"t_s"`` is the time, ``"mark"`` a column of words that say what ran, ``"ignore"`` leaves a column alone.
"""

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.channels import is_channel
from gelassen.core.recording.units import conversion

TIME = "t_s"
IGNORE = "ignore"
MARK = "mark"  # words that say what ran
_SHOWN = 12


@dataclass(frozen=True, slots=True)
class Target:
    """The channel a column becomes: ``(value + offset) * scale``."""

    channel: str
    offset: float = 0.0
    scale: float = 1.0
    unit: str = ""

    @property
    def conversion(self) -> str:
        """The conversion of the values, in words."""
        if self.offset == 0 and self.scale == 1:
            return "as it is"
        return f"(value {self.offset:+g}) × {self.scale:g}"


ColumnMap = Mapping[str, str | Mapping[str, Any] | Target]


def read_column_file(path: Path) -> dict[str, Target]:
    """Read a mapping from a TOML file."""
    try:
        content = tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        raise FileError(f"{path}: there is no such file") from None
    except RecursionError:
        raise FileError(f"{path}: its tables or lists are nested too deeply") from None
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise FileError(f"{path}: {error}") from None
    columns = content.get("columns")
    if not isinstance(columns, dict) or set(content) - {"columns", "format"}:
        raise FileError(f'{path}: one section [columns] is needed, with lines "header" = "channel"')
    return as_targets(columns, where=f"{path.name}, columns")


def as_targets(columns: ColumnMap, *, where: str = "columns") -> dict[str, Target]:
    """Check a mapping and return it in its full form."""
    targets = {}
    for header, value in columns.items():
        key = f'{where}."{header}"'
        if isinstance(value, Target):
            target = value
        elif isinstance(value, str):
            target = Target(value)
        elif isinstance(value, Mapping):
            allowed = ("channel", "unit", "offset", "scale")
            for name in value:
                if name not in allowed:
                    raise InputError(
                        f'{key}: unknown key "{name}" (allowed: {", ".join(allowed)}).'
                        + nearest(str(name), allowed)
                    )
            if not isinstance(value.get("channel"), str):
                raise InputError(f"{key}: the key channel is missing")
            try:
                offset, scale = float(value.get("offset", 0.0)), float(value.get("scale", 1.0))
            except (TypeError, ValueError, OverflowError):
                raise InputError(f"{key}: offset and scale must be numbers") from None
            target = Target(value["channel"], offset, scale, str(value.get("unit", "")))
        else:
            raise InputError(f"{key}: a channel name is needed, found {value!r:.40}")
        if target.channel not in (TIME, IGNORE, MARK):
            try:
                conversion(target.unit, target.channel.replace("{n}", "0"))
            except InputError as error:
                raise InputError(f"{key}: {error}") from None
        targets[str(header)] = target
    return targets


def assign(
    headers: list[str], targets: Mapping[str, Target], *, strict: bool = True
) -> tuple[dict[str, Target], list[str]]:
    """Return the target of each header that has one, and the entries that no header has.

    Headers that are channel names already need no entry. With `strict`, an unused entry is an error.
    """
    assigned: dict[str, Target] = {}
    absent: list[str] = []
    for key, target in targets.items():
        pattern = re.compile(re.escape(key).replace(r"\{n\}", r"(\d+)"))
        matched = False
        for header in headers:
            match = pattern.fullmatch(header)
            if match:
                matched = True
                number = match[1] if match.groups() else ""
                assigned[header] = replace(target, channel=target.channel.replace("{n}", number))
        if not matched and strict:
            raise InputError(
                f'the log has no column "{key}" (it has: {", ".join(headers[:_SHOWN])}'
                + (" …)." if len(headers) > _SHOWN else ").")
                + nearest(key, headers)
            )
        if not matched:
            absent.append(key)
    for header in headers:
        if header not in assigned and is_channel(header):
            assigned[header] = Target(header)
    if (
        TIME in headers
        and TIME not in assigned
        and not any(t.channel == TIME for t in assigned.values())
    ):
        assigned[TIME] = Target(TIME)
    doubles = [t.channel for t in assigned.values() if t.channel not in (TIME, IGNORE, MARK)]
    twice = sorted({name for name in doubles if doubles.count(name) > 1})
    if twice:
        raise InputError(f"two columns become the same channel: {', '.join(twice)}. Map only one")
    return assigned, absent
