"""Writes the recognised columns as a mapping file, to correct once and use for all further logs."""

from pathlib import Path

import tomlkit

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import UNITS, parse_channel
from gelassen.core.recording.units import factors
from gelassen.intake.meaning.columns import IGNORE, MARK, TIME
from gelassen.intake.text.headers import STATE, read_header
from gelassen.intake.understanding import Understanding


def columns_text(understood: Understanding, *, source: str) -> str:
    """Return the mapping as TOML, with comments that say how sure each line is."""
    document = tomlkit.document()
    document.add(tomlkit.comment(f"Which column is which, as worked out from {source!r}."))
    document.add(
        tomlkit.comment(
            "Correct it, then use it for further logs: gelassen import LOG --columns THIS"
        )
    )
    document.add(tomlkit.nl())
    document.add("format", tomlkit.item(1))
    table = tomlkit.table()
    for header in understood.time_headers:
        table.add(header, TIME)
    for column in understood.columns:
        if column.is_mark:
            table.add(column.header, MARK)
        if column.channel is None:
            continue
        value = _target(column.header, column.channel, column.unit)
        remark = f"{column.confidence}{f': {column.why}' if column.why else ''}"
        if column.confidence not in ("sure", "told"):
            value.comment(remark)
        table.add(column.header, value)
    alone = [column for column in understood.columns if column.is_left_alone]
    if alone:
        table.add(tomlkit.comment("Left alone; name a channel to take one:"))
    for column in alone:
        value = tomlkit.item(IGNORE)
        value.comment(column.why)
        table.add(column.header, value)
    document.add("columns", table)
    return tomlkit.dumps(document)


def _target(header: str, channel: str, unit: str) -> "tomlkit.items.Item":
    """Return the channel, and the unit where the header does not say it."""
    own = parse_channel(channel).unit
    said = read_header(header).unit
    if not unit or unit == STATE or said == unit or factors(unit, own) is None:
        return tomlkit.item(channel)
    if not said and unit == UNITS[own][0]:
        return tomlkit.item(channel)
    entry = tomlkit.inline_table()
    entry.update({"channel": channel, "unit": unit})
    return entry


def write_columns(understood: Understanding, path: Path, *, source: str) -> None:
    """Write the mapping; a file that exists is not overwritten.

    Raises
    ------
    FileError
        The file exists, or cannot be written.
    """
    try:
        with path.open("x", encoding="utf-8") as stream:
            stream.write(columns_text(understood, source=source))
    except FileExistsError:
        raise FileError(
            f"{path} exists already; nothing was written. Choose another name"
        ) from None
    except OSError as error:
        raise FileError(f"{path} cannot be written: {error.strerror}") from None
