"""Reads a log into a recording: Gelassen's own runs, or a log that another program wrote."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from gelassen.core.recording.recording import Recording
from gelassen.intake.readers import read_with
from gelassen.intake.understanding import LogOptions, Understanding


def read_log(
    path: str | Path,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    options: LogOptions | None = None,
) -> Recording:
    """Read a log.

    Parameters
    ----------
    path : path
        A run folder of Gelassen, its samples (CSV or Parquet), or a text table: one line a sample, in
        any usual encoding, with any usual delimiter, decimal mark and form of time.
    columns : mapping or path, optional
        Header (or pattern with ``{n}``) to channel name, or to a mapping with channel, unit, offset
        and scale; ``"t_s"`` is the time, ``"ignore"`` leaves a column alone. Or the path of a TOML
        file that says so. Other columns are recognised by their headers, units and values.
    options : LogOptions, optional
        What else is known about the log: encoding, delimiter, decimal mark, order of dates, zone, part,
        where the load is, and whether another log of the same run holds the temperatures (`beside`).

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
    return understand_log(path, columns=columns, options=options).recording


def understand_log(
    path: str | Path,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    options: LogOptions | None = None,
) -> Understanding:
    """Read a log and return how it was understood; see `read_log`."""
    return read_with(Path(path), columns, options or LogOptions())
