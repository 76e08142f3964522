"""The table of log formats: which reader takes a log.

A new format is a reader in a file of this folder, and a line in `READERS`. Another package adds one with an
entry point in the group "gelassen.readers": an object with the methods of `LogReader`.
"""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

from gelassen._plugins import plugins
from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.recording import Recording
from gelassen.intake.long_table import LongTable
from gelassen.intake.meaning.columns import as_targets, read_column_file
from gelassen.intake.own import OwnParquet, OwnRun
from gelassen.intake.table import understand_table
from gelassen.intake.through_text import Columnar, JsonLines, Packed, Workbook
from gelassen.intake.understanding import LogOptions, Understanding, understood

Columns = Mapping[str, Any] | str | Path | None


class LogReader(Protocol):
    """Reads one format of logs."""

    def sniff(self, path: Path) -> bool:
        """Return whether this is such a log: quickly, by its name or its first bytes."""
        ...

    def read(self, path: Path, columns: Columns, options: LogOptions) -> Understanding | Recording:
        """Read it; raise FileError with a message for people where that fails."""
        ...


class TextTable:
    """Any text table with one line for each sample, in any usual encoding, delimiter and form of time."""

    def sniff(self, path: Path) -> bool:
        """Take every log that no other reader takes."""
        return True

    def read(self, path: Path, columns: Columns, options: LogOptions) -> Understanding:
        """Read the table."""
        if isinstance(columns, str | Path):
            return understand_table(path, read_column_file(Path(columns)), options, strict=False)
        return understand_table(path, as_targets(columns or {}), options, strict=not options.beside)


def _table(path: Path, columns: Columns, options: LogOptions) -> Understanding:
    return TextTable().read(path, columns, options)


# The first reader that takes a log reads it. Readers of other packages come before the last one.
READERS: tuple[LogReader, ...] = (
    OwnRun(),
    OwnParquet(),
    Packed(lambda path: reader_of(path)),
    Workbook(_table),
    Columnar(_table),
    JsonLines(_table),
    LongTable(_table),
    TextTable(),
)


def reader_of(path: Path) -> LogReader:
    """Return the reader of a log.

    Raises
    ------
    FileError
        There is no such file.
    """
    if not path.exists():
        raise FileError(f"{path}: there is no such file")
    *first, last = READERS
    added: Sequence[LogReader] = list(plugins("gelassen.readers").found.values())
    return next((one for one in (*first, *added) if one.sniff(path)), last)


def read_with(path: Path, columns: Columns, options: LogOptions) -> Understanding:
    """Read a log with the reader for its format."""
    reader = reader_of(path)
    read = reader.read(path, columns, options)
    if not isinstance(read, Understanding):
        read = understood(read, form=f"a log that {type(reader).__name__} reads")
    broken = [
        Caution(
            f"the log reader {name} of another package was left out: {why}", code="reader_broken"
        )
        for name, why in plugins("gelassen.readers").broken.items()
    ]
    if not broken:
        return read
    cautions = (*read.recording.cautions, *broken)
    return replace(read, recording=replace(read.recording, cautions=cautions))
