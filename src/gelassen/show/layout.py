"""Plain text laid out: prose in lines, columns side by side, as wide as the terminal allows."""

import textwrap
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar

from rich.cells import cell_len, chop_cells

_WIDTH: ContextVar[int | None] = ContextVar("width", default=None)
_LEAST_NAME = 16  # cells: names are broken, but not into pieces narrower than this
_PROSE = 100  # cells: longer lines of prose are hard to read
_GAP, _INDENT = "  ", "  "
_BAR_CELLS = 10
_EIGHTHS = " ▏▎▍▌▋▊▉█"
_MARKS = "*~"  # what numbers are marked with

Column = list[str]  # its header first


@contextmanager
def fitted_to(width: int | None) -> Iterator[None]:
    """Let texts that are made meanwhile be no wider than this many cells; any width if None."""
    before = _WIDTH.set(width)
    try:
        yield
    finally:
        _WIDTH.reset(before)


def wrapped(text: str) -> str:
    """Return prose in lines that are no longer than the terminal."""
    width = min(_WIDTH.get() or _PROSE, _PROSE)
    return "\n".join(textwrap.wrap(text, width, break_long_words=False))


def bars(values: Sequence[float]) -> list[str]:
    """Return a bar for each value, from zero to the largest; none if a value is below zero.

    A value that is not a number has no bar.
    """
    known = [value for value in values if value == value]
    if not known or min(known) < 0 or not 0 < max(known) < float("inf"):
        return ["" for _ in values]
    return [_bar(value / max(known)) if value == value else "" for value in values]


def _bar(share: float) -> str:
    whole, eighths = divmod(round(share * _BAR_CELLS * 8), 8)
    return ("█" * whole + _EIGHTHS[eighths]).rstrip()


def laid_out(columns: Sequence[Column], left: Collection[int]) -> str:
    """Return columns side by side, these to the left and the others to the right.

    Where they are wider than the terminal, bars (columns without a header) are left out and the names of
    the first column are broken. Where that does not suffice, the table is continued below itself, with
    the names again.
    """
    aligned = [
        column if k in left or not column[0] else _marks_aside(column)
        for k, column in enumerate(columns)
    ]
    sides = [k in left or not column[0] for k, column in enumerate(columns)]
    table = list(zip(aligned, sides, strict=True))
    width = _WIDTH.get()
    if width is None or _width(aligned) <= width:
        return _drawn(table)
    plain = [one for one in table if one[0][0]]
    names, others = plain[0], plain[1:]
    room = width - _width([column for column, _ in others]) - len(_GAP)
    if room >= min(_LEAST_NAME, _width([names[0]])):
        return _drawn(plain, room)
    room = max(_LEAST_NAME, width // 3)
    least = min(room, _width([names[0]]))
    parts: list[list[tuple[Column, bool]]] = [[]]
    for one in table[1:]:
        so_far = [column for column, _ in (*parts[-1], one)]
        if parts[-1] and least + len(_GAP) + _width(so_far) > width:
            parts.append([])
        parts[-1].append(one)
    return "\n\n".join(_drawn([names, *part], room) for part in parts)


def _width(columns: Sequence[Column]) -> int:
    """Return the cells that these columns take side by side."""
    return sum(max(map(cell_len, column)) for column in columns) + len(_GAP) * (len(columns) - 1)


def _marks_aside(column: Column) -> Column:
    """Return numbers with room for each other's marks, so that their decimal points are in line."""
    marks = [len(cell) - len(cell.rstrip(_MARKS)) for cell in column[1:]]
    spaces = [" " * (max(marks) - own) for own in marks]
    return [column[0], *map(str.__add__, column[1:], spaces)]


def _drawn(table: Sequence[tuple[Column, bool]], room: int | None = None) -> str:
    """Return the table; names of the first column are broken to fit the room."""
    rows = [list(row) for row in zip(*(column for column, _ in table), strict=True)]
    broken = [_broken(row[0], room) for row in rows]
    sizes = [max(map(cell_len, column)) for column, _ in table]
    sizes[0] = max(cell_len(piece) for pieces in broken for piece in pieces)
    lines = []
    for pieces, row in zip(broken, rows, strict=True):
        first = [pieces[0], *row[1:]]
        more = [[piece] + [""] * (len(row) - 1) for piece in pieces[1:]]
        for cells in (first, *more):
            padded = [
                _padded(cell, size, to_left)
                for cell, size, (_, to_left) in zip(cells, sizes, table, strict=True)
            ]
            lines.append(_GAP.join(padded).rstrip())
        if len(lines) == len(broken[0]):
            lines.append(_GAP.join("-" * size for size in sizes))
    return "\n".join(lines)


def _broken(name: str, room: int | None) -> list[str]:
    """Return a name in pieces that fit; the later ones are indented."""
    if room is None or cell_len(name) <= room:
        return [name]
    pieces: list[str] = []
    for word in name.split(" "):
        whole, *rest = chop_cells(word, room - len(_INDENT)) or [""]
        if pieces and cell_len(f"{pieces[-1]} {whole}") <= room:
            pieces[-1] += f" {whole}"
        else:
            pieces.append(_INDENT * bool(pieces) + whole)
        pieces += [_INDENT + part for part in rest]
    return pieces


def _padded(cell: str, size: int, to_left: bool) -> str:
    space = " " * (size - cell_len(cell))
    return cell + space if to_left else space + cell
