"""Tables with one line a reading ("time, sensor, value"), as databases give out."""

import csv
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.errors import FileError
from gelassen.intake.through_text import Table, frame_as_text, read_text_of
from gelassen.intake.understanding import LogOptions, Understanding

# Headers of the columns with the sensor's name, its reading and its unit.
_NAMES = (
    "channel",
    "sensor",
    "metric",
    "name",
    "variable",
    "field",
    "measurement",
    "parameter",
    "signal",
)
_VALUES = ("value", "reading", "val", "wert", "valeur", "valor")
_UNITS = ("unit", "units", "einheit")
_DATES = ("date", "datum", "day", "fecha", "jour")  # beside a time of day
_HEAD_BYTES = 1 << 16
_LEAST_LINES = 4
_SPARSE = (
    1.5  # times as many moments as the sensor with most readings has: each has moments of its own
)


@dataclass(frozen=True, slots=True)
class _Columns:
    delimiter: str
    time: str
    name: str
    value: str
    unit: str | None
    date: str | None
    others: tuple[str, ...]


class LongTable:
    """A text table with one line a reading."""

    def __init__(self, table: Table) -> None:
        self._table = table

    def sniff(self, path: Path) -> bool:
        """Take text whose header names a sensor and a value, and in which the same sensors come again."""
        return path.is_file() and _columns_of(path) is not None

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read it as a table with a column a sensor."""
        found = _columns_of(path)
        if found is None:
            raise FileError(f"{path} is no table with one line a reading")
        try:
            table = pd.read_csv(
                path, sep=found.delimiter, dtype=str, encoding=options.encoding or "utf-8-sig",
                skip_blank_lines=True, on_bad_lines="skip",
            )  # fmt: skip
        except (UnicodeDecodeError, LookupError, ValueError) as error:
            raise FileError(f"{path} cannot be read as text: {error}. Say --encoding") from None
        wide, used = _wide(table, found)
        read = read_text_of(
            self._table, path, frame_as_text(wide), "one line a reading", columns, options
        )
        lost = _lines(path) - 1 - used
        if lost <= 0:
            return read
        said = caution("readings_left_out", count=lost, file=path.name)
        recording = replace(read.recording, cautions=(*read.recording.cautions, said))
        return replace(read, recording=recording)


def _lines(path: Path) -> int:
    """Return how many lines of a text file are not empty."""
    with path.open("rb") as stream:
        return sum(1 for line in stream if line.strip())


def _columns_of(path: Path) -> _Columns | None:
    """Return what the columns of a long table hold; None if it is none."""
    with path.open("rb") as stream:
        head = stream.read(_HEAD_BYTES).decode("utf-8-sig", errors="replace")
    lines = [line for line in head.split("\n")[:-1] if line.strip()]
    if len(lines) <= _LEAST_LINES:
        return None
    delimiter = max(",;\t|", key=lines[0].count)
    try:
        header, *rows = csv.reader(lines[:400], delimiter=delimiter)
    except csv.Error:
        return None
    plain = [name.strip().strip("_").lower() for name in header]
    name, value = _one_of(_NAMES, plain), _one_of(_VALUES, plain)
    if name is None or value is None or len(set(header)) < len(header) or len(header) < 3:
        return None
    rows = [row for row in rows if len(row) == len(header)]
    said = [row[name] for row in rows]
    if len(rows) < _LEAST_LINES or len(set(said)) > len(said) / 2 or any(map(_is_number, said)):
        return None
    unit, date = _one_of(_UNITS, plain), _one_of(_DATES, plain)
    left = [k for k in range(len(header)) if k not in (name, value, unit, date)]
    if not left:  # the date is all of the time
        left, date = [k for k in (date,) if k is not None], None
    # Of the columns that are left, the time changes most.
    time = max(left, key=lambda k: len({row[k] for row in rows}), default=None)
    if time is None or len({row[time] for row in rows}) < 2:
        return None
    return _Columns(
        delimiter, header[time], header[name], header[value],
        None if unit is None else header[unit], None if date is None else header[date],
        tuple(header[k] for k in left if k != time),
    )  # fmt: skip


def _one_of(words: Sequence[str], plain: Sequence[str]) -> int | None:
    return next((plain.index(word) for word in words if word in plain), None)


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _wide(table: pd.DataFrame, found: _Columns) -> tuple[pd.DataFrame, int]:
    """Return the table with a row a moment and a column a sensor, and how many readings are in it."""
    table = table.dropna(subset=[found.time, found.name, found.value]).reset_index(drop=True)
    if found.date is not None:
        table[found.time] = table[found.date].fillna("") + " " + table[found.time]
    named = table[found.name].str.strip()
    for other in found.others:  # what tells sensors of one name apart: the number of a core, say
        if table.assign(name=named).duplicated([found.time, "name"]).any():
            named = named + " " + table[other].fillna("")
    if found.unit is not None:
        units = table[found.unit].fillna("").str.strip()
        named = named.where(units == "", named + " (" + units + ")")
    moments, order = _moments(table[found.time], named)
    long = pd.DataFrame({found.time: moments, "name": named, "value": table[found.value]}).iloc[
        order
    ]
    long = long[long["name"] != ""].drop_duplicates([found.time, "name"])
    wide = long.pivot_table("value", index=found.time, columns="name", aggfunc="first", sort=False)
    wide = wide.reindex(index=pd.unique(long[found.time]), columns=pd.unique(long["name"]))
    return wide, len(long)


def _moments(
    times: "pd.Series[str]", named: "pd.Series[str]"
) -> "tuple[pd.Series[Any], np.ndarray[Any, np.dtype[np.intp]]]":
    """Return the moment of each reading, and the order of time. One round of the sensors is one moment."""
    seconds = pd.to_numeric(times, errors="coerce")
    stamps = seconds.isna().any()
    if stamps:
        parsed = pd.to_datetime(times, errors="coerce", format="ISO8601", utc=True)
        if parsed.isna().any():
            return times, np.arange(len(times))  # in a form that the reader of tables knows
        seconds = (parsed - parsed.min()).dt.total_seconds()
    order = np.argsort(seconds.to_numpy(), kind="stable")
    own = [np.unique(seconds[named == name]) for name in pd.unique(named)]
    longest = max(own, key=len)
    if seconds.nunique() <= _SPARSE * len(longest) or len(longest) < 2:
        return times, order
    step = float(np.median(np.diff(longest)))
    round_ = np.floor((seconds - seconds.min()) / step + 1e-6)
    first = seconds.groupby(round_).transform("min")
    return (parsed.min() + pd.to_timedelta(first, unit="s") if stamps else first), order
