"""A few hundred rows from all over a log. The meaning of the columns is decided on them."""

from collections.abc import Sequence
from mmap import mmap

import numpy as np

from gelassen.intake.meaning.unit_guess import Spread
from gelassen.intake.text.cells import Decimal, is_missing, read_value, state
from gelassen.intake.text.layout import Layout, split_line

_ROWS, _PLACES = 120, 4
_FEWEST, _CELLS = 25, 60_000
_STRETCH = 1 << 18


def sample_columns(data: "bytes | mmap", start: int, layout: Layout) -> list[list[str]]:
    """Return sampled cells of each column, in order: from the start, the end and between."""
    rows: list[list[str]] = []
    wanted = {layout.width, layout.width - 1} if layout.trailing else {layout.width}
    places = _places(start, len(data))
    # Fewer rows of a wide table, since each column is examined cell by cell.
    most = max(_FEWEST, min(_ROWS, _CELLS // (3 * len(places) * layout.width)))
    length = _STRETCH if len(places) > 1 else len(data)
    for place in places:
        stretch = data[place : place + length].decode("utf-8", "replace")
        lines = stretch.replace("\r\n", "\n").replace("\r", "\n").split("\n")
        # In the middle, the first line is cut; the last always may be.
        whole = lines[1 if place > start else 0 : -1 if place + length < len(data) else None]
        cells = [split_line(line, layout.delimiter) for line in _some(whole, most) if line.strip()]
        rows += [row for row in cells if len(row) in wanted]
    return [[row[k] if k < len(row) else "" for row in rows] for k in range(len(layout.headers))]


def _some(lines: list[str], most: int) -> list[str]:
    """Return lines of the start, the middle and the end, in runs so that steps of time remain."""
    if len(lines) <= 3 * most:
        return lines
    middle = len(lines) // 2
    return lines[:most] + lines[middle : middle + most] + lines[-most:]


def _places(start: int, size: int) -> list[int]:
    if size - start <= _PLACES * _STRETCH:
        return [start]
    return [int(x) for x in np.linspace(start, size - _STRETCH, _PLACES)]


def spread_of(cells: Sequence[str], decimal: Decimal) -> Spread | None:
    """Return the spread of a sampled column; None if it does not hold numbers or states."""
    distinct = dict.fromkeys(cells)
    known_missing = {cell for cell in distinct if is_missing(cell)}
    present = [cell for cell in cells if cell not in known_missing]
    if not present:
        return None
    plain = _plain_numbers(present, decimal)
    if plain is not None:
        return _spread(plain)
    states = [state(cell) for cell in present]
    if sum(s is not None for s in states) >= 0.9 * len(present):
        known = [s for s in states if s is not None]
        return Spread(min(known), float(np.median(known)), max(known), states=True)
    values = [v.number for v in (read_value(cell, decimal) for cell in present) if v is not None]
    numbers = np.array([v for v in values if v == v])
    if numbers.size < max(1.0, 0.6 * len(present)):
        return None
    return _spread(numbers)


def _plain_numbers(cells: list[str], decimal: Decimal) -> np.ndarray | None:
    """Return the numbers quickly if all cells are plain numbers; else None."""
    joined = "".join(cells)
    if not joined.isascii() or "_" in joined or (decimal == "," and "." in joined):
        return None
    try:
        numbers = np.array([float(c.replace(",", ".") if decimal == "," else c) for c in cells])
    except ValueError:
        return None
    return numbers if np.isfinite(numbers).all() else None


def _spread(numbers: np.ndarray) -> Spread:
    low, middle, high = np.percentile(numbers, [1, 50, 99])
    two = bool(np.isin(numbers, (0.0, 1.0)).all())
    return Spread(float(low), float(middle), float(high), states=two)


def unit_behind(cells: Sequence[str], decimal: Decimal) -> str:
    """Return the unit that stands behind the numbers of a column; "" if there is none."""
    if not any(c.isalpha() or c in "°%" for c in "".join([*cells[:5], *cells[-5:]])):
        return ""
    values = [read_value(cell, decimal) for cell in cells]
    units = [v.unit for v in values if v is not None and v.number == v.number]
    known = [unit for unit in units if unit]
    return max(set(known), key=known.count) if len(known) > 0.5 * max(len(units), 1) else ""
