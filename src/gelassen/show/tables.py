"""Tables: aligned text for people, and the same numbers as JSON, CSV or Markdown."""

import json
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

import pandas as pd

from gelassen.core.foundation.result import Result, plain

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

    Within `in_markdown`, the same table in Markdown, with the empty line that it needs before it.
    """
    if _IN_MARKDOWN.get():
        return "\n" + markdown(header, rows, left=left)
    widths = [max(len(row[k]) for row in (header, *rows)) for k in range(len(header))]
    lines = []
    for row in (header, ["-" * width for width in widths], *rows):
        cells = [
            cell.ljust(width) if k in left else cell.rjust(width)
            for k, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        lines.append("  ".join(cells).rstrip())
    return "\n".join(lines)


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
