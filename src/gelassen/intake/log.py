"""Reads a log into a recording: Gelassen's own runs, or a text table that another program wrote."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pandas as pd

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.recording import Origin, Recording
from gelassen.intake.meaning.columns import TIME, as_targets, read_column_file
from gelassen.intake.table import understand_table
from gelassen.intake.understanding import ColumnWords, Told, Understanding
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.disk.writer import RUN_JSON


def read_log(
    path: str | Path,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    told: Told | None = None,
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
    told : Told, optional
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
    return understand_log(path, columns=columns, told=told).recording


def understand_log(
    path: str | Path,
    *,
    columns: Mapping[str, Any] | str | Path | None = None,
    told: Told | None = None,
) -> Understanding:
    """Read a log and say how it was understood; see `read_log`."""
    path = Path(path)
    if path.is_dir():
        return _own(read_run(path))
    if not path.is_file():
        raise FileError(f"{path}: there is no such file")
    if path.name in (SAMPLES_CSV, SAMPLES_PARQUET) and (path.parent / RUN_JSON).exists():
        return _own(read_run(path.parent))
    if path.suffix == ".parquet":
        return _own(_parquet(path))
    from_file = isinstance(columns, (str, Path))
    targets = read_column_file(Path(columns)) if from_file else as_targets(columns or {})  # type: ignore[arg-type]
    return understand_table(path, targets, told or Told(), strict=not from_file)


def _own(recording: Recording) -> Understanding:
    words = tuple(
        ColumnWords(origin.header, channel, origin.conversion, "", "sure")
        for channel, origin in recording.channels.items()
    )
    return Understanding(recording, words, {"form": "a run of Gelassen"})


def _parquet(path: Path) -> Recording:
    """Read samples of ours that left their run folder."""
    try:
        frame = pd.read_parquet(path)
    except (OSError, ValueError) as error:
        raise FileError(f"{path} cannot be read as Parquet: {error}") from None
    if frame.index.name != TIME and TIME in frame.columns:
        frame = frame.set_index(TIME)
    if frame.index.name != TIME:
        raise FileError(f'{path} has no column "{TIME}": these are no samples of Gelassen')
    for name in frame.columns:
        parse_channel(str(name))
    return Recording(
        frame=frame.astype(float),
        channels={str(name): Origin(str(name)) for name in frame.columns},
        name=path.stem,
        outcome="imported",
    )
