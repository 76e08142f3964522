"""Reads a log into a recording: Gelassen's own runs, or a log that another program wrote."""

import logging
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import IO, Any, TypeAlias

import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.recording import Recording
from gelassen.intake.readers import read_with
from gelassen.intake.text.cells import Decimal
from gelassen.intake.through_text import as_text, frame_as_text
from gelassen.intake.understanding import LogOptions, Understanding

Source: TypeAlias = str | Path | pd.DataFrame | IO[str] | IO[bytes]
_LOG = logging.getLogger(__name__)


def read_log(
    path: Source,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    options: LogOptions | None = None,
    encoding: str | None = None,
    sep: str | None = None,
    decimal: Decimal | None = None,
) -> Recording:
    """Read a log.

    Parameters
    ----------
    path : path, file object or DataFrame
        A run folder of Gelassen, its samples (CSV or Parquet), or a table with one line a sample: text in
        any usual encoding, with any usual delimiter, decimal mark and form of time; a workbook (xlsx,
        ods; needs the extra ``excel``); JSON lines; Parquet or Feather; any of these packed by gzip,
        bzip2 or xz. An open file is read to its end. Of a DataFrame, an index of times is the time.
    columns : mapping or path, optional
        Header (or pattern with ``{n}``) to channel name, or to a mapping with channel, unit, offset
        and scale; ``"t_s"`` is the time, ``"ignore"`` leaves a column alone. Or the path of a TOML
        file that says so. Other columns are recognised by their headers, units and values.
    options : LogOptions, optional
        What else is known about the log: encoding, delimiter, decimal mark, order of dates, zone, part,
        where the load is, and whether another log of the same run holds the temperatures (`beside`).
    encoding, sep, decimal : str, optional
        As pandas names them; they come before what `options` says.

    Returns
    -------
    Recording
        Guesses, rows left out and columns left alone are named in `cautions`.

    Raises
    ------
    FileError
        The file cannot be read, or can be read in two ways; the message names what settles it.
    InputError
        The mapping is wrong.
    """
    said = {"encoding": encoding, "delimiter": sep, "decimal": decimal}
    told = {name: value for name, value in said.items() if value is not None}
    options = replace(options or LogOptions(), **told)  # type: ignore[arg-type]
    recording = understand_log(path, columns=columns, options=options).recording
    samples, channels = recording.frame.shape
    _LOG.info("read %s: %d samples of %d channels", recording.name, samples, channels)
    return recording


def understand_log(
    path: Source,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    options: LogOptions | None = None,
) -> Understanding:
    """Read a log and return how it was understood; see `read_log`."""
    options = options or LogOptions()
    if isinstance(path, str | Path):
        return read_with(Path(path), columns, options)
    if isinstance(path, pd.DataFrame):
        name, content = "table.csv", frame_as_text(path)
    elif hasattr(path, "read"):
        name = Path(str(getattr(path, "name", "log.csv"))).name
        read = path.read()
        content = read.encode() if isinstance(read, str) else read
    else:
        raise InputError(f"a log is a path, an open file or a DataFrame, not {type(path).__name__}")
    with as_text(name, content) as text:
        return read_with(text, columns, options)
