"""Reads all rows of a log: a long plain log at once, others in pieces, damaged pieces line by line.

The quick way is the reader of pandas. It pads short rows silently. Such a row has a missing cell in the
last column, and where that is not enough to know, the delimiters are counted. A long log is first read
whole. If anything is unusual, it is read in pieces, so that one damaged line slows down its own piece only.
"""

import csv
import io
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from itertools import pairwise
from mmap import mmap
from os import cpu_count
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from gelassen.core.foundation.inputs import Floats
from gelassen.intake.text.cells import MISSING, Decimal, read_value, state
from gelassen.intake.text.layout import Layout

# Why the last line of a log that was cut off is left out.
TORN = "the last line is torn"
_PIECE = 16 << 20
_TAIL = 1 << 16
_STRIDE = 1 << 18
_END, _RETURN, _QUOTE, _NOT_ASCII = 10, 13, 34, 128
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
    """Return text of a log for display: one line, without control characters of a terminal."""
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
    table
        The numbers of all columns below each other, of which `cells` shows parts; None where rows
        were left out, so that columns stand alone.
    """

    cells: dict[int, "Floats | list[str]"]
    texts: dict[int, list[tuple[int, str]]]
    line: np.ndarray
    left_out: dict[str, LeftOut]
    table: "Floats | None" = None


def read_rows(
    data: "bytes | mmap",
    start: int,
    first_line: int,
    layout: Layout,
    columns: Sequence[Column],
    main: Decimal,
    *,
    path: Path | None = None,
    missing: bool = True,
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
    path
        Where a long log lies on the disk as it is in `data`.
    missing
        Whether cells are known to be missing here and there; looking for them takes its time.

    Raises
    ------
    UnicodeDecodeError
        A part of the text is not UTF-8.
    """
    # pandas uses all processors for a whole file only if no line above the table is empty.
    filled = all(line.strip() for line in data[:start].splitlines())
    if path is not None and filled and data[len(data) - 1 :] == b"\n":
        at_once = _at_once(path, first_line, layout, columns, main, missing)
        if at_once is not None:
            return at_once
    cuts = _cuts(data, start)
    spans = list(pairwise(cuts))
    numeric = [k for k, column in enumerate(columns) if column.kind in ("number", "state")]
    with ThreadPoolExecutor(max(cpu_count() or 1, 1)) as pool:
        looks = list(pool.map(lambda span: _look_at(data, *span), spans))
        ends = [look.line_ends for look in looks]
        firsts = np.concatenate([[0], np.cumsum(ends)]).astype(int)
        counts = [*ends[:-1], ends[-1] + (data[len(data) - 1 :] != b"\n")]
        table = np.empty((len(numeric), sum(counts)))

        def one(k: int) -> Rows:
            piece = data[spans[k][0] : spans[k][1]]
            if not looks[k].ascii:
                piece.decode("utf-8")
            line = first_line + int(firsts[k])
            rows = _quick(piece, looks[k], line, layout, columns, main) if looks[k].plain else None
            if rows is None:
                rows = _careful(piece, line, layout, columns, layout.headers)
            if rows.line.size == counts[k]:  # into its place while it is in the cache
                place = table[:, firsts[k] : firsts[k] + counts[k]]
                if rows.table is not None:
                    place[:] = rows.table
                for n, column in enumerate(numeric):
                    if rows.table is None:
                        place[n] = rows.cells[column]
                    rows.cells[column] = place[n]
                rows.table = None
            return rows

        pieces = list(pool.map(one, range(len(spans))))
    whole = all(rows.line.size == count for rows, count in zip(pieces, counts, strict=True))
    joined = _joined(pieces, columns, whole=whole)
    if whole:
        joined.table = table
        joined.cells.update({column: table[n] for n, column in enumerate(numeric)})
    return joined


class _Look(NamedTuple):
    """What is known of a piece before it is read: whether the quick way may try it."""

    line_ends: int
    ascii: bool
    plain: bool


def _look_at(data: "bytes | mmap", start: int, end: int) -> _Look:
    """Examine a piece in blocks that fit the processor's cache."""
    characters = np.frombuffer(data, dtype=np.uint8)
    ends, is_ascii, plain, returns = 0, True, data[end - 1 : end] == b"\n", False
    for k in range(start, end, _STRIDE):
        part = characters[k : min(k + _STRIDE, end)]
        ends += int(np.count_nonzero(part == _END))
        is_ascii = is_ascii and bool(part.max() < _NOT_ASCII)
        plain = plain and bool(part.min() > 0) and not (part == _QUOTE).any()
        returns = returns or bool((part == _RETURN).any())
    if returns and plain:
        piece = data[start:end]
        plain = piece.count(b"\r") == piece.count(b"\r\n")
    return _Look(ends, is_ascii, plain)


def _cuts(data: "bytes | mmap", start: int) -> list[int]:
    cuts = [start]
    while len(data) - cuts[-1] > 1.5 * _PIECE:
        end = data.find(b"\n", cuts[-1] + _PIECE)
        if end < 0:
            break
        cuts.append(end + 1)
    # Summary lines and a torn line are at the end. They should slow down a small piece only.
    if len(data) - cuts[-1] > 4 * _TAIL:
        end = data.find(b"\n", len(data) - _TAIL)
        if end > 0:
            cuts.append(end + 1)
    return [*dict.fromkeys(cuts), len(data)]


def _joined(pieces: list[Rows], columns: Sequence[Column], *, whole: bool) -> Rows:
    """Join pieces. With `whole`, the numbers are in place already."""
    cells: dict[int, Floats | list[str]] = {}
    for k in list(pieces[0].cells):
        if columns[k].kind == "stamp":
            cells[k] = [text for piece in pieces for text in piece.cells.pop(k)]
        elif not whole:
            cells[k] = np.concatenate([piece.cells.pop(k) for piece in pieces])
    texts: dict[int, list[tuple[int, str]]] = {}
    left_out: dict[str, LeftOut] = {}
    before = 0
    for piece in pieces:
        for k, found in piece.texts.items():
            texts.setdefault(k, []).extend((row + before, text) for row, text in found)
        for reason, some in piece.left_out.items():
            total = left_out.setdefault(reason, LeftOut())
            total.count += some.count
            total.lines = (total.lines + some.lines)[:_SHOWN]
            total.example = total.example or some.example
        before += piece.line.size
    return Rows(cells, texts, np.concatenate([piece.line for piece in pieces]), left_out)


def _at_once(
    path: Path,
    first_line: int,
    layout: Layout,
    columns: Sequence[Column],
    main: Decimal,
    missing: bool,
) -> Rows | None:
    """Read a long log directly from disk; None if a line or a cell is unusual.

    All columns are read, since pandas uses all processors only then.
    """
    numbers = [k for k, c in enumerate(columns) if c.kind == "number" and c.decimal == main]
    texts = [k for k, c in enumerate(columns) if c.kind != "skip" and k not in set(numbers)]
    try:
        frame = pd.read_csv(
            path, sep=layout.delimiter, header=None, names=range(layout.width), decimal=main,
            skiprows=first_line - 1, quoting=csv.QUOTE_NONE, skip_blank_lines=False,
            na_filter=missing, na_values=_NULLS if missing else None,
        )  # fmt: skip
    except (ValueError, pd.errors.ParserError, OverflowError):
        return None
    kinds = [dtype.kind for dtype in frame.dtypes]
    last = frame[layout.width - 1]
    if (
        any(kinds[k] not in "iuf" for k in numbers)
        or any(kinds[k] in "iufb" for k in texts)  # digits that may not be read as one number
        or not isinstance(frame.index, pd.RangeIndex)
        or last.isna().any()  # a short row is padded silently
        or (kinds[-1] not in "iufb" and last.eq("").any())
    ):
        return None
    rows = Rows({}, {}, np.arange(first_line, first_line + len(frame)), {})
    if all(kinds[k] == "f" for k in numbers):
        rows.table = _owned(frame[numbers].to_numpy()).T
        rows.cells.update({k: rows.table[n] for n, k in enumerate(numbers)})
    else:
        rows.cells.update({k: _owned(frame[k].to_numpy()) for k in numbers})
    for k in texts:
        _take(rows, k, columns[k], frame[k].astype(object).where(frame[k].notna(), "").tolist())
    return rows


def _owned(values: NDArray[Any]) -> Floats:
    """Return the numbers of a frame as a writable floating-point array.

    Whole numbers are converted in place, since both kinds take eight bytes.
    """
    values.flags.writeable = True
    if values.dtype.kind == "f":
        return values
    numbers = values.view(np.float64)
    np.copyto(numbers, values, casting="unsafe")
    return numbers


def _quick(
    piece: bytes,
    look: _Look,
    first_line: int,
    layout: Layout,
    columns: Sequence[Column],
    main: Decimal,
) -> Rows | None:
    """Read a piece in which every line is a row; None if it has anything unusual."""
    numbers = [k for k, c in enumerate(columns) if c.kind == "number" and c.decimal == main]
    texts = [k for k, c in enumerate(columns) if c.kind != "skip" and k not in set(numbers)]
    wanted = sorted([*numbers, *texts])
    read = partial(
        pd.read_csv, sep=layout.delimiter, header=None, names=range(layout.width), decimal=main,
        usecols=None if len(wanted) == layout.width else wanted,
        dtype=dict.fromkeys(texts, str) or None, quoting=csv.QUOTE_NONE, skip_blank_lines=False,
        low_memory=False, encoding_errors="replace",
    )  # fmt: skip
    try:
        frame = read(io.BytesIO(piece), na_filter=False)
        kinds = {k: dtype.kind for k, dtype in zip(wanted, frame.dtypes, strict=True)}
        full = all(kinds[k] in "iuf" for k in numbers)
        if not full or layout.width - 1 not in numbers:
            if piece.count(layout.delimiter.encode()) != look.line_ends * (layout.width - 1):
                return None
            if not full:
                frame = read(io.BytesIO(piece), na_values=_NULLS)
    except (ValueError, pd.errors.ParserError, OverflowError):
        return None
    if len(frame) != look.line_ends or not isinstance(frame.index, pd.RangeIndex):
        return None
    rows = Rows({}, {}, np.arange(first_line, first_line + len(frame)), {})
    if full and set(kinds.values()) == {"f"}:
        rows.table = frame.to_numpy().T
        rows.cells.update({k: rows.table[n] for n, k in enumerate(wanted)})
        return rows
    for k in wanted:
        column = frame[k]
        if columns[k].kind != "stamp" and column.dtype.kind in "iuf":
            rows.cells[k] = column.to_numpy(dtype=float)
        else:
            cells = column.astype(object).where(column.notna(), "").map(str).tolist()
            _take(rows, k, columns[k], cells)
    return rows


def _careful(
    piece: bytes, first_line: int, layout: Layout, columns: Sequence[Column], header: Sequence[str]
) -> Rows:
    """Read a piece line by line. Lines that are not rows are left out and counted."""
    left_out: dict[str, LeftOut] = {}
    cells: list[list[str]] = []
    lines: list[int] = []
    text = piece.decode("utf-8", "replace")
    raw = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    ends_whole = text.endswith(("\n", "\r"))
    last = None if ends_whole else len(raw) - (1 if raw and not raw[-1] else 0) - 1
    folded_header = [h.strip() for h in header]
    for number, row in _rows_of(text, raw, layout):
        line = first_line + number
        if not row or not any(cell.strip() for cell in row):
            if len(row) > 1:
                left_out.setdefault("empty rows", LeftOut()).add(line, "")
            continue
        reason = _no_row(row, layout, folded_header, cells, is_last=number == last)
        if reason:
            left_out.setdefault(reason, LeftOut()).add(line, layout.delimiter.join(row))
        else:
            cells.append(row)
            lines.append(line)
    width = layout.width
    rows = Rows({}, {}, np.array(lines, dtype=int), left_out)
    by_column = (
        list(zip(*([c + [""] * (width - len(c)) for c in cells]), strict=True))
        if cells
        else [()] * width
    )
    for k, column in enumerate(columns):
        if column.kind != "skip":
            _take(rows, k, column, list(by_column[k]))
    return rows


def _rows_of(text: str, raw: list[str], layout: Layout) -> list[tuple[int, list[str]]]:
    """Return number and cells of each row, by the standard reader where cells are quoted."""
    if '"' not in text or raw[-1].count('"') % 2:
        return _from_lines(raw, layout.delimiter)
    plain = text.replace("\x00", "").replace("\r\n", "\n").replace("\r", "\n")
    return _from_reader(
        csv.reader(io.StringIO(plain), delimiter=layout.delimiter, skipinitialspace=True)
    )


def _no_row(
    row: list[str], layout: Layout, header: list[str], before: list[list[str]], *, is_last: bool
) -> str:
    """Return why a line is not a row of the table; empty if it is one."""
    width = layout.width
    if len(row) == width or (layout.trailing and len(row) == width - 1):
        if [cell.strip().removeprefix("#").strip() for cell in row[: len(header)]] == header:
            return "the header again"
        return TORN if is_last and before and _is_torn(row, before) else ""
    if is_last:
        return TORN
    return "rows with too few cells" if len(row) < width else "rows with too many cells"


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
    """Return whether the last cell of an unfinished last line was cut: all above it are longer alike."""
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
    """Turn the cells of one column into numbers, and remember texts among them."""
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
