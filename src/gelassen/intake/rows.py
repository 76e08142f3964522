"""All rows of a log, piece by piece: a quick way for plain pieces, a careful one for the others.

Pieces keep memory small, and one spoilt line costs the quick way of its own piece only. The quick way
is pandas' reader; it pads short rows in silence, so pieces are first checked to have as many
delimiters as they should.
"""

import csv
import io
import warnings
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from itertools import pairwise
from os import cpu_count
from typing import Any

import numpy as np
import pandas as pd

from gelassen.core.inputs import Floats
from gelassen.intake.cells import MISSING, Decimal, read_value, state
from gelassen.intake.layout import Layout

_PIECE = 12 << 20
_TAIL = 1 << 16
_SHOWN = 3
_NULLS = sorted({*MISSING, *(m.upper() for m in MISSING), "NaN", "None", "Null", "Inf"} - {""})


@dataclass(frozen=True, slots=True)
class Column:
    """How one column is to be read.

    Attributes
    ----------
    kind
        "number", "state", "stamp" (kept as text) or "skip".
    decimal
        Its decimal mark.
    convert
        From the unit behind a number to its factor and offset; None if that unit is none of its own.
    """

    kind: str
    decimal: Decimal = "."
    convert: Callable[[str], tuple[float, float] | None] | None = None


def shown(text: str) -> str:
    """Return text of a log as it may be shown: one line, without characters that steer a terminal."""
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())


@dataclass(slots=True)
class LeftOut:
    """Rows that were left out for one reason."""

    lines: list[int] = field(default_factory=list)
    count: int = 0
    example: str = ""

    def add(self, line: int, text: str) -> None:
        """Count one row; the first few are remembered."""
        self.count += 1
        if len(self.lines) < _SHOWN:
            self.lines.append(line)
        if not self.example:
            self.example = shown(text)[:40]


@dataclass(slots=True)
class Rows:
    """What all rows hold.

    Attributes
    ----------
    cells
        Column to its numbers (NaN: missing) or, for stamps, its texts.
    texts
        Column to the rows that hold text where a number should be, with that text.
    line
        Line of each row, counted from 1.
    left_out
        Reason to rows.
    """

    cells: dict[int, "Floats | list[str]"]
    texts: dict[int, list[tuple[int, str]]]
    line: np.ndarray
    left_out: dict[str, LeftOut]


def read_rows(
    data: bytes,
    start: int,
    first_line: int,
    layout: Layout,
    columns: Sequence[Column],
    main: Decimal,
) -> Rows:
    """Read all rows.

    Parameters
    ----------
    data
        The text in UTF-8; rows begin at byte `start`, which is line `first_line` (from 1).
    columns
        One for each header.
    main
        The decimal mark of most columns.
    """
    view = memoryview(data)
    cuts = _cuts(data, start)
    lines = [first_line]
    for a, b in pairwise(cuts[:-1]):
        lines.append(lines[-1] + data.count(b"\n", a, b))

    def one(k: int) -> Rows:
        return _piece(
            bytes(view[cuts[k] : cuts[k + 1]]),
            lines[k],
            layout,
            columns,
            main,
            header=layout.headers,
        )

    if len(cuts) == 2:
        return one(0)
    with ThreadPoolExecutor(min(4, cpu_count() or 1)) as pool:
        pieces = list(pool.map(one, range(len(cuts) - 1)))
    return _joined(pieces, columns)


def _cuts(data: bytes, start: int) -> list[int]:
    cuts = [start]
    while len(data) - cuts[-1] > 1.5 * _PIECE:
        end = data.find(b"\n", cuts[-1] + _PIECE)
        if end < 0:
            break
        cuts.append(end + 1)
    # Summary lines and a torn line stand at the end: they should cost a small piece only.
    if len(data) - cuts[-1] > 4 * _TAIL:
        end = data.find(b"\n", len(data) - _TAIL)
        if end > 0:
            cuts.append(end + 1)
    return [*dict.fromkeys(cuts), len(data)]


def _joined(pieces: list[Rows], columns: Sequence[Column]) -> Rows:
    values: dict[int, Floats | list[str]] = {}
    for k in pieces[0].cells:
        parts = [piece.cells.pop(k) for piece in pieces]
        if columns[k].kind == "stamp":
            values[k] = [text for part in parts for text in part]
        else:
            values[k] = np.concatenate(parts)
    texts: dict[int, list[tuple[int, str]]] = {}
    left_out: dict[str, LeftOut] = {}
    before = 0
    for piece in pieces:
        for k, found in piece.texts.items():
            texts.setdefault(k, []).extend((row + before, text) for row, text in found)
        for reason, some in piece.left_out.items():
            whole = left_out.setdefault(reason, LeftOut())
            whole.count += some.count
            whole.lines = (whole.lines + some.lines)[:_SHOWN]
            whole.example = whole.example or some.example
        before += piece.line.size
    return Rows(values, texts, np.concatenate([piece.line for piece in pieces]), left_out)


def _piece(
    piece: bytes,
    first_line: int,
    layout: Layout,
    columns: Sequence[Column],
    main: Decimal,
    header: Sequence[str],
) -> Rows:
    quick = _quick(piece, first_line, layout, columns, main)
    return quick if quick is not None else _careful(piece, first_line, layout, columns, header)


def _quick(
    piece: bytes, first_line: int, layout: Layout, columns: Sequence[Column], main: Decimal
) -> Rows | None:
    """Read a piece in which every line is a row; None if it has anything unusual."""
    if (
        b'"' in piece
        or b"\r" in piece.replace(b"\r\n", b"\n")
        or b"\n\n" in piece
        or b"\r\n\r\n" in piece
    ):
        return None
    count = piece.count(b"\n") + (not piece.endswith(b"\n"))
    mark = layout.delimiter.encode()
    if count == 0 or piece.count(mark) != count * (layout.width - 1) or not piece.endswith(b"\n"):
        return None
    numbers = [k for k, c in enumerate(columns) if c.kind == "number" and c.decimal == main]
    others = [k for k, c in enumerate(columns) if c.kind != "skip" and k not in set(numbers)]
    types: dict[int, type] = dict.fromkeys(others, str)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # mixed types: looked at below
            frame = pd.read_csv(
                io.BytesIO(piece), sep=layout.delimiter, header=None, names=range(layout.width),
                usecols=sorted([*numbers, *others]), dtype=types, decimal=main, na_values=_NULLS,
                quoting=csv.QUOTE_NONE,
                skipinitialspace=True, encoding_errors="replace",
            )  # fmt: skip
    except (ValueError, pd.errors.ParserError, OverflowError):
        return None
    if len(frame) != count or not isinstance(frame.index, pd.RangeIndex):
        return None
    rows = Rows({}, {}, np.arange(first_line, first_line + count), {})
    for k in sorted([*numbers, *others]):
        column = frame[k]
        if columns[k].kind != "stamp" and column.dtype.kind in "iuf":
            numbers_of = column.to_numpy(dtype=float)
            rows.cells[k] = (
                np.where(np.isfinite(numbers_of), numbers_of, np.nan)
                if column.dtype.kind == "f"
                else numbers_of
            )
        else:
            cells = column.astype(object).where(column.notna(), "").map(str).tolist()
            _take(rows, k, columns[k], cells)
    return rows


def _careful(
    piece: bytes, first_line: int, layout: Layout, columns: Sequence[Column], header: Sequence[str]
) -> Rows:
    """Read a piece line by line; what is no row is left out and counted."""
    left_out: dict[str, LeftOut] = {}
    cells: list[list[str]] = []
    lines: list[int] = []
    text = piece.decode("utf-8", "replace")
    folded_header = [h.strip() for h in header]
    reader = csv.reader(
        io.StringIO(text.replace("\x00", "").replace("\r\n", "\n").replace("\r", "\n")),
        delimiter=layout.delimiter, skipinitialspace=True,
    )  # fmt: skip
    quoted = '"' in text
    raw = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    source = (
        _from_reader(reader)
        if quoted and raw[-1].count('"') % 2 == 0
        else _from_lines(raw, layout.delimiter)
    )
    ends_whole = text.endswith(("\n", "\r"))
    last = len(raw) - (1 if raw and not raw[-1] else 0)
    used_width = layout.width
    for number, row in source:
        line = first_line + number
        if not row or not any(cell.strip() for cell in row):
            if len(row) > 1:
                left_out.setdefault("empty rows", LeftOut()).add(line, "")
            continue
        if len(row) == used_width or (layout.trailing and len(row) == used_width - 1):
            if [
                cell.strip().removeprefix("#").strip() for cell in row[: len(folded_header)]
            ] == folded_header:
                left_out.setdefault("the header again", LeftOut()).add(
                    line, layout.delimiter.join(row)
                )
                continue
            if not ends_whole and number == last - 1 and cells and _is_torn(row, cells):
                left_out.setdefault("the last line is torn", LeftOut()).add(
                    line, layout.delimiter.join(row)
                )
                continue
            cells.append(row)
            lines.append(line)
            continue
        if not ends_whole and number == last - 1:
            reason = "the last line is torn"
        else:
            reason = (
                "rows with too few cells" if len(row) < used_width else "rows with too many cells"
            )
        left_out.setdefault(reason, LeftOut()).add(line, layout.delimiter.join(row))
    rows = Rows({}, {}, np.array(lines, dtype=int), left_out)
    by_column = (
        list(zip(*([c + [""] * (used_width - len(c)) for c in cells]), strict=True))
        if cells
        else [()] * used_width
    )
    for k, column in enumerate(columns):
        if column.kind != "skip":
            _take(rows, k, column, list(by_column[k]))
    return rows


def _from_reader(reader: Any) -> list[tuple[int, list[str]]]:
    """Return line and cells of each row; a row may go over several lines inside quotes."""
    rows: list[tuple[int, list[str]]] = []
    while True:
        before = reader.line_num
        try:
            row = next(reader)
        except StopIteration:
            return rows
        except csv.Error:
            rows.append((before, ["?"]))
            continue
        rows.append((before, row))


def _from_lines(raw: list[str], delimiter: str) -> list[tuple[int, list[str]]]:
    return [(k, line.split(delimiter) if line else []) for k, line in enumerate(raw)]


def _is_torn(row: list[str], before: list[list[str]]) -> bool:
    """Say whether the last cell of an unfinished last line was cut: all above it are longer alike."""
    cell, lengths = (
        row[-1].strip(),
        {len(r[-1].strip().rpartition(".")[2].rpartition(",")[2]) for r in before[-50:] if r},
    )
    marked = all(("." in r[-1]) or ("," in r[-1]) for r in before[-50:])
    if not marked or len(lengths) != 1 or len(before) < 3:
        return cell == "" and all(r[-1].strip() for r in before[-50:])
    tail = cell.rpartition(".")[2].rpartition(",")[2] if "." in cell or "," in cell else ""
    return len(tail) != next(iter(lengths))


def _take(rows: Rows, k: int, column: Column, cells: list[str]) -> None:
    """Turn the cells of one column into numbers; texts among them are remembered."""
    if column.kind == "stamp":
        rows.cells[k] = cells
        return
    known: dict[str, float | None] = {}
    numbers = np.empty(len(cells))
    texts: list[tuple[int, str]] = []
    for row, cell in enumerate(cells):
        if cell in known:
            number = known[cell]
        else:
            number = known[cell] = _number(cell, column)
        if number is None:
            texts.append((row, cell))
            number = np.nan
        numbers[row] = number
    rows.cells[k] = numbers
    if texts:
        rows.texts[k] = texts


def _number(cell: str, column: Column) -> float | None:
    if column.kind == "state":
        word = state(cell)
        if word is not None:
            return word
    value = read_value(cell, column.decimal)
    if value is None:
        return None
    if value.unit and column.convert is not None:
        factors = column.convert(value.unit)
        if factors is None:
            return None
        return value.number * factors[0] + factors[1]
    return None if value.unit else value.number
