"""Logs that are no plain text file: unpacked or written out as text, then read like any other table.

The one way through text keeps one understanding of columns, times and units for every format.
"""

import bz2
import gzip
import json
import lzma
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pandas as pd

from gelassen.core.foundation.caution import caution
from gelassen.core.foundation.errors import FileError
from gelassen.intake.understanding import LogOptions, Understanding
from gelassen.system.files import read_bytes

Table = Callable[[Path, Any, LogOptions], Understanding]
# Unpacked. A log of a week at 1 Hz with 100 channels has half of it; more than this is a mistake.
_MOST_BYTES = 4 << 30
_PIECE = 1 << 20
_OPENERS: dict[bytes, Callable[..., Any]] = {
    b"\x1f\x8b": gzip.open,
    b"BZh": bz2.open,
    b"\xfd7zXZ\x00": lzma.open,
}
_JSON = (".json", ".jsonl", ".ndjson")
_BOOKS = (".xlsx", ".xlsm", ".xlsb", ".xls", ".ods")


def frame_as_text(frame: pd.DataFrame) -> bytes:
    """Return a table as CSV; an index that says something becomes its first column."""
    frame = frame.copy(deep=False)
    if isinstance(frame.columns, pd.MultiIndex):
        frame.columns = pd.Index([" ".join(map(str, name)).strip() for name in frame.columns])
    index = frame.index
    says = index.name is not None or not isinstance(index, pd.RangeIndex)
    if isinstance(index, pd.TimedeltaIndex):
        frame.index = pd.Index(index.total_seconds(), name="time (s)")
    elif says:
        stamps = isinstance(index, pd.DatetimeIndex)
        frame.index = index.rename(str(index.name or ("time" if stamps else "time (s)")))
    text: str = frame.to_csv(index=says, lineterminator="\n")
    return text.encode()


@contextmanager
def as_text(name: str, content: bytes) -> Iterator[Path]:
    """Give a text file of this name with this content, for as long as it is read."""
    with TemporaryDirectory(prefix="gelassen-") as folder:
        path = Path(folder) / (Path(name).name or "log.csv")
        path.write_bytes(content)
        yield path


def read_text_of(
    table: Table, path: Path, content: bytes, form: str, columns: Any, options: LogOptions
) -> Understanding:
    """Read a log whose text is `content`; messages name the log itself."""
    with as_text(f"{path.stem}.csv", content) as text:
        try:
            read = table(text, columns, options)
        except FileError as error:
            raise FileError(str(error).replace(str(text), str(path))) from None
    read = replace(read, recording=replace(read.recording, name=path.stem.removesuffix(".csv")))
    return replace(read, facts={"form": form, **read.facts})


class Packed:
    """A log packed by gzip, bzip2 or xz."""

    def __init__(self, reader_of: Callable[[Path], Any]) -> None:
        self._reader_of = reader_of

    def sniff(self, path: Path) -> bool:
        """Take files that begin as these do."""
        return _start(path).startswith(tuple(_OPENERS))

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Unpack it, and read what it holds."""
        start = _start(path)
        unpack = next(opener for mark, opener in _OPENERS.items() if start.startswith(mark))
        name = path.stem if path.suffix in (".gz", ".bz2", ".xz") else path.name
        with TemporaryDirectory(prefix="gelassen-") as folder:
            inside = Path(folder) / name
            try:
                with unpack(path, "rb") as stream, inside.open("wb") as out:
                    while piece := stream.read(_PIECE):
                        out.write(piece)
                        if out.tell() > _MOST_BYTES:
                            raise FileError(
                                f"{path} unpacks to more than {_MOST_BYTES >> 30} GiB: is it a log?"
                            )
            except (OSError, EOFError, lzma.LZMAError) as error:
                raise FileError(
                    f"{path} cannot be unpacked ({error}); was it copied as a whole?"
                ) from None
            try:
                read: Understanding = self._reader_of(inside).read(inside, columns, options)
            except FileError as error:
                raise FileError(str(error).replace(str(inside), str(path))) from None
        return read


class Workbook:
    """A spreadsheet workbook: the sheet with the most cells."""

    def __init__(self, table: Table) -> None:
        self._table = table

    def sniff(self, path: Path) -> bool:
        """Take files with the suffix of a workbook."""
        return path.suffix.lower() in _BOOKS

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read the largest sheet as text."""
        try:
            sheets = pd.read_excel(
                path, sheet_name=None, header=None, dtype=object, engine="calamine"
            )
        except ImportError:
            raise FileError(
                f"{path} is a workbook, which needs one more package: pip install 'gelassen[excel]'. Or "
                "save the table as CSV"
            ) from None
        except Exception as error:  # the reader of workbooks has errors of its own
            raise FileError(f"{path} cannot be read as a workbook: {error}") from None
        name, sheet = max(sheets.items(), key=lambda pair: int(pair[1].notna().sum().sum()))
        content = sheet.to_csv(index=False, header=False, lineterminator="\n").encode()
        read = read_text_of(self._table, path, content, f'sheet "{name}"', columns, options)
        if len(sheets) == 1:
            return read
        others = ", ".join(f'"{other}"' for other in sheets if other != name)
        said = caution("other_sheets", sheet=str(name), others=others)
        recording = replace(read.recording, cautions=(*read.recording.cautions, said))
        return replace(read, recording=recording)


class JsonLines:
    """One JSON object a line, a list of objects, or columns as Gelassen writes them."""

    def __init__(self, table: Table) -> None:
        self._table = table

    def sniff(self, path: Path) -> bool:
        """Take files with a suffix of JSON, or that begin with an object."""
        return path.suffix.lower() in _JSON or _start(path).lstrip().startswith(b'{"')

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read the objects as rows; a line that is torn is left out with a caution."""
        rows, spoilt = _objects(path)
        frame = pd.json_normalize(rows)
        if frame.empty:
            raise FileError(f"{path} holds no objects with readings")
        content = frame.to_csv(index=False, lineterminator="\n").encode()
        read = read_text_of(self._table, path, content, "JSON", columns, options)
        if not spoilt:
            return read
        said = caution("lines_unreadable", file=path.name, count=len(spoilt), first=spoilt[0])
        recording = replace(read.recording, cautions=(*read.recording.cautions, said))
        return replace(read, recording=recording)


class Columnar:
    """Parquet, Feather or Arrow, written by another program."""

    def __init__(self, table: Table) -> None:
        self._table = table

    def sniff(self, path: Path) -> bool:
        """Take files that begin as these do."""
        return _start(path).startswith((b"PAR1", b"ARROW1"))

    def read(self, path: Path, columns: Any, options: LogOptions) -> Understanding:
        """Read its columns as text."""
        parquet = _start(path).startswith(b"PAR1")
        try:
            frame = pd.read_parquet(path) if parquet else pd.read_feather(path)
        except Exception as error:  # the library has many kinds of errors
            raise FileError(
                f"{path} cannot be read as {'Parquet' if parquet else 'Feather'}: {error}"
            ) from None
        form = "Parquet" if parquet else "Feather"
        return read_text_of(self._table, path, frame_as_text(frame), form, columns, options)


def _start(path: Path) -> bytes:
    if not path.is_file():
        return b""
    with path.open("rb") as stream:
        return stream.read(16)


def _objects(path: Path) -> tuple[list[Any], list[int]]:
    """Return the objects in a file of JSON, and the lines that hold none."""
    try:
        text = read_bytes(path).decode("utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise FileError(f"{path} cannot be read as JSON in UTF-8: {error}") from None
    try:
        whole = json.loads(text)
    except (ValueError, RecursionError):
        whole = None
    if isinstance(whole, dict) and isinstance(whole.get("columns"), dict):
        table = pd.DataFrame({name: pd.Series(cells) for name, cells in whole["columns"].items()})
        return table.to_dict("records"), []
    if isinstance(whole, list):
        return [one for one in whole if isinstance(one, dict)], []
    found: list[Any] = []
    spoilt: list[int] = []
    for number, line in enumerate(text.split("\n"), start=1):
        if not line.strip():
            continue
        try:
            one = json.loads(line)
            if not isinstance(one, dict):
                raise ValueError
            found.append(one)
        except (ValueError, RecursionError):
            spoilt.append(number)
    return found, spoilt
