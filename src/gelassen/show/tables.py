"""Tables: aligned text for people, and the same numbers as JSON, CSV or Markdown."""

import json
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

import pandas as pd

from gelassen.core.foundation.result import Result, plain
from gelassen.show.layout import bars, laid_out

_IN_MARKDOWN: ContextVar[bool] = ContextVar("in_markdown", default=False)


@contextmanager
def in_markdown(wanted: bool = True) -> Iterator[None]:
    """Let texts that are made meanwhile have their tables in Markdown."""
    before = _IN_MARKDOWN.set(wanted)
    try:
        yield
    finally:
        _IN_MARKDOWN.reset(before)


def aligned(
    header: Sequence[str], rows: Sequence[Sequence[str]], *, left: Collection[int] = (0,)
) -> str:
    """Return a table in plain text; these columns to the left, numbers to the right.

    A column without a header holds bars. Within `in_markdown`, the same table in Markdown without bars,
    with the empty line that it needs before it.
    """
    if _IN_MARKDOWN.get():
        kept = [k for k, name in enumerate(header) if name]
        sides = [place for place, k in enumerate(kept) if k in left]
        rows = [[row[k] for k in kept] for row in rows]
        return "\n" + markdown([header[k] for k in kept], rows, left=sides)
    return laid_out([list(column) for column in zip(header, *rows, strict=True)], left)


def with_bars(
    header: Sequence[str], rows: Sequence[Sequence[str]], values: Sequence[float], after: int = 1
) -> tuple[list[str], list[list[str]]]:
    """Return header and rows with a column of bars, one for each value, behind this column."""
    header = [*header[: after + 1], "", *header[after + 1 :]]
    return header, [
        [*row[: after + 1], bar, *row[after + 1 :]]
        for row, bar in zip(rows, bars(values), strict=True)
    ]


def markdown(
    header: Sequence[str], rows: Sequence[Sequence[str]], *, left: Collection[int] = (0,)
) -> str:
    """Return a table in Markdown; cells stay text, whatever they hold."""

    def line(cells: Sequence[str]) -> str:
        safe = [
            cell.replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;") for cell in cells
        ]
        return "| " + " | ".join(safe) + " |"

    rule = "|" + "|".join(" :--- " if k in left else " ---: " for k in range(len(header))) + "|"
    return "\n".join([line(header), rule, *(line(row) for row in rows)])


def table_in(form: str, header: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    """Return a table as "markdown" or as "csv"."""
    if form == "markdown":
        return markdown(header, rows)
    return as_csv(pd.DataFrame([list(row) for row in rows], columns=list(header)))


def as_json(result: Result) -> str:
    """Return a result as JSON; null stands for a number that cannot be told."""
    return json.dumps(plain(result), indent=2, ensure_ascii=False, allow_nan=False)


def as_csv(frame: pd.DataFrame) -> str:
    """Return a table as CSV. Text that a spreadsheet would run as a formula is quoted as text."""
    safe = frame.copy()
    for name in safe.columns:
        if safe[name].dtype == object or isinstance(safe[name].dtype, pd.StringDtype):
            safe[name] = safe[name].map(_inert)
    return str(safe.to_csv(index=False)).rstrip("\n")


def _inert(value: Any) -> Any:
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@") else value
