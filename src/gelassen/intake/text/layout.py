"""The layout of the table in a log: delimiter, first row, header, row of units."""

import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import FileError
from gelassen.intake.text.cells import is_missing, read_value, state
from gelassen.intake.text.headers import is_unit
from gelassen.intake.text.stamps import find_form

DELIMITERS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
_HEAD_LINES = 400
_LONGEST_LINE = 1 << 20


@dataclass(frozen=True, slots=True)
class Layout:
    """The place of the table in the text. Lines count from 0.

    Attributes
    ----------
    headers
        One for each column, as in the file.
    units
        What the row of units says; "" where there is none.
    groups
        What a row above the headers says, carried to the right; "" where there is none.
    data_line
        First line of numbers.
    preamble
        Lines before the header.
    header_line
        None if the file has no header.
    width
        Cells of a row.
    trailing
        Whether rows end in one delimiter more than they have cells.
    """

    delimiter: str
    headers: tuple[str, ...]
    units: tuple[str, ...]
    groups: tuple[str, ...]
    data_line: int
    preamble: tuple[str, ...]
    header_line: int | None
    width: int
    trailing: bool


def split_line(line: str, delimiter: str) -> list[str]:
    """Return the cells of one line."""
    if '"' not in line:
        return line.split(delimiter)
    try:
        rows = list(csv.reader([line], delimiter=delimiter, skipinitialspace=True))
    except csv.Error:
        return line.split(delimiter)
    return rows[0] if rows else [""]


def find_layout(lines: Sequence[str], name: str, *, delimiter: str | None = None) -> Layout:
    """Find the table in the first lines of a log.

    Parameters
    ----------
    lines
        The first lines, without their ends.
    delimiter
        The delimiter, where the user says it.

    Raises
    ------
    FileError
        There is no table, or only its header.
    """
    lines = [line[:_LONGEST_LINE] for line in lines[:_HEAD_LINES]]
    spoken = re.fullmatch(r'"?sep=(.)"?\s*', lines[0]) if lines else None
    if delimiter is None and spoken and spoken[1] in DELIMITERS:
        delimiter = spoken[1]
    candidates = [delimiter] if delimiter else list(DELIMITERS)
    tries = []
    for delimiter in candidates:
        rows = [split_line(line, delimiter) for line in lines]
        found = _table(rows)
        if found is not None:
            line, _ = _header(rows, found[0], found[1])
            fits = line is not None and abs(len(rows[line]) - found[1]) <= 1 and len(rows[line]) > 1
            tries.append(((fits, found[2], found[1]), delimiter, rows, found))
    if not tries:
        raise _no_table(lines, name, candidates)
    _, delimiter, rows, (data_line, width, _) = max(tries, key=lambda t: t[0])
    header_line, units_line = _header(rows, data_line, width)
    first = rows[data_line]
    trailing = False
    if header_line is None:
        headers = [f"column {k + 1}" for k in range(width)]
    else:
        headers = [_printable(cell) for cell in rows[header_line]]
        if len(headers) == width + 1 and not headers[-1]:
            headers = headers[:-1]
        if len(headers) == width - 1 and not first[-1].strip():
            trailing = True
        elif len(headers) != width:
            raise _wrong_width(name, header_line, len(headers), data_line, width, delimiter)
        if (
            headers
            and headers[-1] == ""
            and all(
                not row[-1].strip() for row in rows[data_line : data_line + 50] if len(row) == width
            )
        ):
            headers, trailing = headers[:-1], True
        headers[0] = headers[0].removeprefix("#").strip() or headers[0]
    units = [cell.strip() for cell in rows[units_line]] if units_line is not None else []
    units = [_bare_unit(unit) for unit in units] + [""] * (len(headers) - len(units))
    top = header_line if header_line is not None else data_line
    return Layout(
        delimiter=delimiter,
        headers=tuple(headers),
        units=tuple(units[: len(headers)]),
        groups=_groups(rows, top, len(headers)),
        data_line=data_line,
        preamble=tuple(lines[:top]),
        header_line=header_line,
        width=width,
        trailing=trailing,
    )


def _printable(cell: str) -> str:
    """Return a header without control characters of a terminal."""
    return "".join(c if c.isprintable() or c == "\u00a0" else " " for c in cell).strip()


def _table(rows: Sequence[Sequence[str]]) -> tuple[int, int, float] | None:
    """Return the first data row, its width, and the share of the following rows that look like data."""
    kinds = _Kinds(rows)
    for start in range(len(rows)):
        if len(rows[start]) < 2 or not kinds[start]:
            continue
        after = [
            k
            for k in range(start, min(start + 60, len(rows)))
            if any(cell.strip() for cell in rows[k])
        ]
        widths = Counter(len(rows[k]) for k in after if kinds[k])
        width, count = widths.most_common(1)[0]
        if len(rows[start]) != width:
            continue
        if count >= 0.5 * len(after) or count >= 20:
            return start, width, round(count / len(after), 2)
    return None


class _Kinds(dict[int, bool]):
    """Whether each row is data, found on demand."""

    def __init__(self, rows: Sequence[Sequence[str]]) -> None:
        self._rows = rows

    def __missing__(self, k: int) -> bool:
        self[k] = _is_data(self._rows[k])
        return self[k]


def _is_data(row: Sequence[str]) -> bool:
    """Return whether a row holds values and not words."""
    values, texts, numbers = 0, 0, 0
    for cell in row[:60]:
        text = cell.strip()
        if is_missing(text):
            continue
        if read_value(text, ".") or read_value(text, ","):
            values, numbers = values + 1, numbers + 1
        elif state(text) is not None:
            values += 1
        elif (
            text[:1].isdigit()
            and any(c in text for c in ":-/.")
            and find_form([text], day_order="dmy")
        ) or (
            len(text) > 5 and any(c.isdigit() for c in text) and find_form([text], day_order="dmy")
        ):
            values, numbers = values + 1, numbers + 1
        else:
            texts += 1
    return numbers > 0 and values >= texts


def _header(
    rows: Sequence[Sequence[str]], data_line: int, width: int
) -> tuple[int | None, int | None]:
    """Return the lines of the header and of the units above the first data row."""
    units_line: int | None = None
    for k in range(data_line - 1, max(data_line - 12, -1), -1):
        row = rows[k]
        filled = [cell.strip() for cell in row if cell.strip()]
        if not filled:
            continue
        if (len(row) < 2 and width > 2) or all(set(cell) <= set("-=:_+ ") for cell in filled):
            continue  # a line of a preamble, or a rule
        if units_line is None and _are_units(filled):
            units_line = k
            continue
        if abs(len(row) - width) <= 1 or len(row) >= 3:
            return k, units_line
        break
    return None, None


def _are_units(cells: Sequence[str]) -> bool:
    known = sum(1 for cell in cells if is_unit(_bare_unit(cell)))
    return known >= 0.6 * len(cells)


def _bare_unit(cell: str) -> str:
    match = re.fullmatch(r"[\[(](.*)[\])]", cell.strip())
    return (match[1] if match else cell).strip()


def _groups(rows: Sequence[Sequence[str]], header_line: int, count: int) -> tuple[str, ...]:
    """Return the group names in a row above the header, carried to the right."""
    none = ("",) * count
    if header_line < 1:
        return none
    above = [cell.strip() for cell in rows[header_line - 1][:count]]
    filled = [cell for cell in above if cell]
    if len(rows[header_line - 1]) not in (count, count + 1) or not filled or _is_data(above):
        return none
    carried, last = [], ""
    for cell in above:
        last = cell or last
        carried.append(last)
    return tuple(carried)


def _no_table(lines: Sequence[str], name: str, candidates: Sequence[str]) -> FileError:
    words = ", ".join(DELIMITERS.get(c, repr(c)) for c in candidates)
    rows = {d: [split_line(line, d) for line in lines if line.strip()] for d in candidates}
    for d, cells in rows.items():
        if cells and len(cells[0]) > 1 and not any(_is_data(row) for row in cells):
            if len(cells) == 1:
                return FileError(
                    f"{name} has a header but no rows ({len(cells[0])} columns, delimited by "
                    f"{DELIMITERS.get(d, d)})"
                )
            return FileError(
                f"{name} has {counted(len(cells), 'line')}, none with numbers: is it a log?"
            )
    first = next((k for k, line in enumerate(lines) if line.strip()), 0)
    text = lines[first].strip()[:40] if lines else ""
    return FileError(
        f"{name}, line {first + 1}: no delimiter found that makes a table of it (tried: "
        f"{words}); the line begins {text!r}. "
        "Say which it is: --delimiter, or export the log as CSV"
    )


def _wrong_width(
    name: str, header_line: int, headers: int, data_line: int, width: int, delimiter: str
) -> FileError:
    hint = ""
    if delimiter == "," and headers < width <= 2 * headers:
        hint = ". A comma seems to be delimiter and decimal mark at once: export with another delimiter"
    return FileError(
        f"{name}: the header in line {header_line + 1} has {headers} cells, the rows from line "
        f"{data_line + 1} on have {width}{hint}"
    )
