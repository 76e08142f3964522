"""Rows of analysed runs, kept in the study one by one, so that the next comparison is quick.

Each row is a line that is appended as soon as its run is analysed: an analysis that is cut short loses
one run. The last line of a run counts; a torn one is passed over. A row is used again only while the
files of its run, what the study says about it, and the code that made it are the same.
"""

import contextlib
import hashlib
import json
from functools import cache
from pathlib import Path
from typing import Any

from gelassen.system.files import append_line, read_bytes, replace_file

CACHE = ".analysed.jsonl"
_FORMAT = 2
_SPARE = 200  # lines that no longer count, beyond as many as do, before the file is written anew
# The packages whose code can change a row.
_FLOORS = ("core", "study", "answers")
Kept = dict[str, tuple[str, dict[str, Any]]]


def fingerprint(folder: Path, said: Any) -> str:
    """Return a fingerprint that changes when a run, or what the study says about it, changes."""
    files = sorted(
        (path.name, path.stat().st_size, path.stat().st_mtime_ns)
        for path in folder.iterdir()
        if path.is_file()
    )
    return hashlib.sha256(
        json.dumps([_FORMAT, code_fingerprint(), files, said]).encode()
    ).hexdigest()


def code_files() -> list[Path]:
    """Return every file whose code can change a row."""
    package = Path(__file__).parents[2]
    return sorted(path for floor in _FLOORS for path in (package / floor).rglob("*.py"))


@cache
def code_fingerprint() -> str:
    """Return a hash of all code that turns samples into a row."""
    digest = hashlib.sha256()
    for path in code_files():
        digest.update(path.read_bytes())
    return digest.hexdigest()


def kept_rows(study: Path) -> Kept:
    """Return run name to fingerprint and row; empty if there is no cache or it cannot be read."""
    try:
        lines = [line for line in read_bytes(study / CACHE).split(b"\n") if line]
    except OSError:
        return {}
    kept: Kept = {}
    for line in lines:
        with contextlib.suppress(ValueError, TypeError, RecursionError, OverflowError):
            name, mark, row = json.loads(line)
            kept[str(name)] = (str(mark), dict(row))
    if len(lines) > 2 * len(kept) + _SPARE:
        with contextlib.suppress(OSError):
            text = "".join(_line(name, mark, row) + "\n" for name, (mark, row) in kept.items())
            replace_file(study / CACHE, text)
    return kept


def keep_row(study: Path, name: str, mark: str, row: dict[str, Any]) -> None:
    """Keep a row for the next time; where the study cannot be written, it is not kept."""
    with contextlib.suppress(OSError):
        # On a line of its own, also after one that was torn.
        append_line(study / CACHE, "\n" + _line(name, mark, row), synced=False)


def _line(name: str, mark: str, row: dict[str, Any]) -> str:
    return json.dumps([name, mark, row])
