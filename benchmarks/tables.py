"""Prints the tables of a benchmark, or writes them into the pages of docs/accuracy, where they stand.

A page marks each table with a comment that names it and the command that made it, seeds included.
"""

import argparse
import io
import re
from collections.abc import Callable, Mapping
from contextlib import redirect_stdout
from pathlib import Path

PAGES = Path(__file__).parents[1] / "docs/accuracy"
MARK = r"(<!-- table: {name}, made by: [^\n]*--seeds )(\d+)( -->\n)(.*?)(\n<!-- end of table -->)"


def main(about: str | None, tables: Mapping[str, Callable[[int], None]], *, seeds: int) -> None:
    """Make the tables that are asked for."""
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument("--seeds", type=int, help=f"{seeds}, or what the page says")
    parser.add_argument("--only", nargs="*", choices=tables, help="some tables; all if not given")
    parser.add_argument("--write", action="store_true", help="write them into docs/accuracy")
    asked = parser.parse_args()
    for name in asked.only or tables:
        if asked.write:
            written(name, tables[name], asked.seeds)
        else:
            tables[name](asked.seeds or seeds)


def written(name: str, make: Callable[[int], None], seeds: int | None) -> None:
    """Put a table in the place of the one that stands on its page."""
    mark = re.compile(MARK.format(name=re.escape(name)), re.DOTALL)
    for page in sorted(PAGES.glob("*.md")):
        text = page.read_text(encoding="utf-8")
        found = mark.search(text)
        if found is None:
            continue
        count = seeds or int(found[2])
        printed = io.StringIO()
        with redirect_stdout(printed):
            make(count)
        rows = [line for line in printed.getvalue().splitlines() if line.startswith("|")]
        table = f"{found[1]}{count}{found[3]}" + "\n".join(rows) + found[5]
        page.write_text(text[: found.start()] + table + text[found.end() :], encoding="utf-8")
        print(f"{page}: {name}, {count} seeds")
        return
    raise SystemExit(f"no page of {PAGES} has a table {name}")
