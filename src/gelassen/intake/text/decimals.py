"""Whether a log writes 45.3 or 45,3, and whether 1.234 is one or one thousand."""

from collections.abc import Mapping, Sequence

from gelassen.core.foundation.errors import FileError
from gelassen.intake.text.cells import Decimal, Evidence, decimal_evidence, read_value

_LARGE = ("rpm", "mhz")  # quantities of hundreds and thousands: 1.234 rpm would be a standstill
_SMALL = ("c", "v", "a", "pct", "lpm", "dba")  # quantities that never reach a thousand


def decide_decimals(
    columns: Mapping[str, Sequence[str]], quantities: Mapping[str, str], *, name: str
) -> tuple[Decimal, dict[str, Decimal], list[str]]:
    """Return the decimal mark of the log, the marks of columns that differ, and what was guessed.

    Parameters
    ----------
    columns
        Header to a sample of its cells.
    quantities
        Header to the unit its channel would have, where the header says so.

    Raises
    ------
    FileError
        The cells can be read in two ways.
    """
    evidence = {header: decimal_evidence(cells) for header, cells in columns.items()}
    for header, found in evidence.items():
        if found.point and found.comma:
            example = _examples(columns[header])
            raise FileError(
                f'{name}, column "{header}": some cells have a decimal point and some a comma '
                f"({example}). Say which is the decimal mark: --decimal point or --decimal comma"
            )
    points = sum(found.point for found in evidence.values())
    commas = sum(found.comma for found in evidence.values())
    main: Decimal = "," if commas > points else "."
    others: dict[str, Decimal] = {}
    notes: list[str] = []
    settled = points > 0 or commas > 0
    for header, found in evidence.items():
        mark = _of_column(
            header, found, columns[header], quantities.get(header, ""), main, settled, name
        )
        if mark != main:
            others[header] = mark
    if (
        not settled
        and others
        and all(
            others.get(header) == ","
            for header, found in evidence.items()
            if found.open_comma + found.open_point
        )
    ):
        main, others = ",", {}
    if points and commas:
        listed = ", ".join(f'"{header}"' for header in list(others)[:4])
        notes.append(
            f"the decimal mark differs between columns: "
            f"{others and next(iter(others.values()))!r} in {listed}"
        )
    if not settled and main == ",":
        notes.append("guessed: the comma is the decimal mark")
    return main, others, notes


def _of_column(
    header: str,
    found: Evidence,
    cells: Sequence[str],
    quantity: str,
    main: Decimal,
    settled: bool,
    name: str,
) -> Decimal:
    if found.point or found.comma:
        return "," if found.comma else "."
    if settled or not (found.open_point or found.open_comma):
        return main
    # Every number of the log can be read both ways.
    seen: Decimal = "," if found.open_comma else "."
    other: Decimal = "." if seen == "," else ","
    if quantity in _LARGE:
        return other  # 1.234 rpm means 1234
    if quantity in _SMALL:
        return seen
    if found.whole:
        return other if _smoother(cells, other, seen) else seen
    if seen == ".":
        return seen
    raise FileError(
        f'{name}, column "{header}": {_examples(cells)} can be read as thousands or as decimals. '
        "Say which: --decimal point or --decimal comma"
    )


def _smoother(cells: Sequence[str], one: Decimal, other: Decimal) -> bool:
    """Return whether a column varies less, in proportion, when read with the first mark."""
    spans = []
    for mark in (one, other):
        read = [
            v.number for v in (read_value(c, mark) for c in cells) if v and v.number == v.number
        ]
        sizes = [abs(x) for x in read if x]
        spans.append(max(sizes) / min(sizes) if sizes else 1.0)
    return spans[0] < spans[1]


def _examples(cells: Sequence[str]) -> str:
    marked = list(dict.fromkeys(c.strip() for c in cells if "," in c or "." in c))
    return ", ".join(f'"{c[:20]}"' for c in marked[:3])
