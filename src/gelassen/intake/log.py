"""Reads a log into a recording: Gelassen's own runs, or a plain CSV with a mapping."""

import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.channels import parse_channel
from gelassen.core.errors import FileError, InputError
from gelassen.core.recording import Origin, Recording
from gelassen.intake.columns import TIME, Target, as_targets, assign, read_column_file
from gelassen.study.archive import read_run
from gelassen.study.samples import SAMPLES_CSV, SAMPLES_PARQUET
from gelassen.study.writer import RUN_JSON

_DELIMITERS = ",;\t|"
_SHOWN = 12


def read_log(
    path: str | Path, *, columns: Mapping[str, Any] | str | Path | None = None
) -> Recording:
    """Read a log.

    Parameters
    ----------
    path : path
        A run folder of Gelassen, its samples (CSV or Parquet), or a plain text table with one
        header line, one line a sample and elapsed seconds in one column.
    columns : mapping or path, optional
        Header (or pattern with ``{n}``) to channel name, or to a mapping with channel, offset and
        scale; ``"t_s"`` is the time. Or the path of a TOML file that says so. Columns whose header
        already is a channel name need no entry.

    Returns
    -------
    Recording
        Columns that were not mapped are left out and named in `cautions`.

    Raises
    ------
    FileError
        The file cannot be read, has no time, no channel, or its times run backwards.
    InputError
        The mapping is wrong.
    """
    path = Path(path)
    if path.is_dir():
        return read_run(path)
    if not path.is_file():
        raise FileError(f"{path}: there is no such file")
    if path.name in (SAMPLES_CSV, SAMPLES_PARQUET) and (path.parent / RUN_JSON).exists():
        return read_run(path.parent)
    if path.suffix == ".parquet":
        return _parquet(path)
    targets = (
        read_column_file(Path(columns))
        if isinstance(columns, (str, Path))
        else as_targets(columns or {})
    )
    return _table(path, targets)


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


def _table(path: Path, targets: Mapping[str, Target]) -> Recording:
    text, cautions = _frame_of_text(path)
    assigned = assign([str(name) for name in text.columns], targets)
    times = [header for header, target in assigned.items() if target.channel == TIME]
    if not times:
        raise FileError(
            f"{path}: no column holds the time (columns: {', '.join(text.columns[:_SHOWN])}). "
            'Say which one holds elapsed seconds: --column "HEADER=t_s"'
        )
    if len(assigned) == 1:
        raise FileError(
            f"{path}: no column is known to be a channel (columns: {', '.join(text.columns[:_SHOWN])}). "
            'Say which is which: --column "HEADER=cpu.package.temp_c"'
        )
    frame = pd.DataFrame()
    origins: dict[str, Origin] = {}
    for header, target in assigned.items():
        values = _numbers(text[header], header, cautions)
        frame[target.channel] = (values + target.offset) * target.scale
        if target.channel != TIME:
            origins[target.channel] = Origin(header, target.conversion)
    unknown = frame[TIME].isna()
    if unknown.any():
        cautions.append(f"{int(unknown.sum())} rows without a time are left out")
        frame = frame[~unknown]
    if frame.empty:
        raise FileError(f"{path}: no row has a time in column {times[0]!r}")
    back = np.flatnonzero(np.diff(frame[TIME].to_numpy()) < 0)
    if back.size:
        line = int(frame.index[back[0] + 1]) + 2
        raise FileError(
            f"{path}, line {line}: time runs backwards "
            f"({frame[TIME].iloc[back[0]]:g} s, then {frame[TIME].iloc[back[0] + 1]:g} s). "
            "Cut the log there and import the parts one by one"
        )
    left_alone = [str(name) for name in text.columns if name not in assigned]
    if left_alone:
        shown = ", ".join(left_alone[:_SHOWN]) + (" …" if len(left_alone) > _SHOWN else "")
        cautions.append(f"columns left alone, since no channel was named for them: {shown}")
    first_s = float(frame[TIME].iloc[0])
    if abs(first_s) > 60:  # a clock that did not start with the log
        frame[TIME] -= first_s
        cautions.append(f"times count from the first sample, which stood at {first_s:g} s")
    return Recording(
        frame=frame.set_index(TIME).astype(float),
        channels=origins,
        cautions=tuple(cautions),
        name=path.stem,
        outcome="imported",
    )


def _frame_of_text(path: Path) -> tuple[pd.DataFrame, list[str]]:
    """Return the cells as text: what is a number is decided column by column."""
    cautions: list[str] = []
    try:
        data = path.read_bytes()
    except OSError as error:
        raise FileError(f"{path} cannot be read: {error.strerror}") from None
    if b"\x00" in data[:4096]:
        raise FileError(f"{path} is no text: export the log as CSV in UTF-8")
    if not data.strip():
        raise FileError(f"{path} is empty")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise FileError(f"{path}, line {line}: not UTF-8. Save the log as UTF-8 first") from None
    lines = text.splitlines()
    delimiter = max(_DELIMITERS, key=lines[0].count)
    if lines[0].count(delimiter) == 0:
        raise FileError(f"{path}, line 1: no delimiter found; comma, semicolon, tab or | are known")
    width = len(lines[0].split(delimiter))
    if not text.endswith("\n") and len(lines) > 1 and len(lines[-1].split(delimiter)) != width:
        cautions.append(f"line {len(lines)}, the last, is torn: left out")
        lines = lines[:-1]
    wrong = [
        k for k, line in enumerate(lines[1:], start=2) if line and line.count(delimiter) >= width
    ]
    if wrong and '"' not in text:
        cautions.append(
            f"{len(wrong)} rows with too many cells are left out, the first is line {wrong[0]}"
        )
    try:
        from io import StringIO

        frame = pd.read_csv(
            StringIO("\n".join(lines)),
            sep=delimiter,
            dtype=str,
            on_bad_lines="skip",
            skipinitialspace=True,
            keep_default_na=False,
            index_col=False,
            skip_blank_lines=False,
        )
    except (pd.errors.ParserError, pd.errors.EmptyDataError, ValueError) as error:
        raise FileError(f"{path} is no table: {error}") from None
    if frame.empty:
        raise FileError(f"{path} has a header but no rows")
    frame.columns = [str(name).strip() for name in frame.columns]
    return frame, cautions


def _numbers(cells: pd.Series, header: str, cautions: list[str]) -> pd.Series:
    """Return a column as numbers; a decimal comma is taken for one where no cell has a point."""
    text = cells.fillna("").str.strip()
    if text.str.contains(",").any() and not text.str.contains(".", regex=False).any():
        text = text.str.replace(",", ".", regex=False)
    numbers = pd.to_numeric(text, errors="coerce")
    lost = numbers.isna() & ~text.str.lower().isin(["", "nan", "n/a", "na", "-", "null"])
    if lost.all() and len(lost):
        raise InputError(f'column "{header}" holds no numbers (first cell: {text.iloc[0]!r:.40})')
    if lost.any():
        example = re.sub(r"\s+", " ", str(text[lost].iloc[0]))[:20]
        cautions.append(
            f'{int(lost.sum())} cells of "{header}" are no numbers (such as "{example}")'
        )
    return numbers.astype(float)
