"""Rows of analysed runs, kept in the study so that the next comparison is quick.

A row is used again only while the files of its run, what the study says about it, and the code that
made it are the same.
"""

import contextlib
import hashlib
import json
from functools import cache
from pathlib import Path
from typing import Any

from gelassen.system.files import read_text, replace_file

CACHE = ".analysed.json"
_FORMAT = 1
# The packages whose code can change a row.
_FLOORS = ("core", "study", "answers")


def fingerprint(folder: Path, said: Any) -> str:
    """Return a fingerprint that changes when a run, or what the study says about it, changes."""
    files = sorted(
        (path.name, path.stat().st_size, path.stat().st_mtime_ns)
        for path in folder.iterdir()
        if path.is_file()
    )
    return hashlib.sha256(json.dumps([_FORMAT, _code(), files, said]).encode()).hexdigest()


def code_files() -> list[Path]:
    """Return every file whose code can change a row."""
    package = Path(__file__).parents[2]
    return sorted(path for floor in _FLOORS for path in (package / floor).rglob("*.py"))


@cache
def _code() -> str:
    """Return a hash of all code that turns samples into a row."""
    digest = hashlib.sha256()
    for path in code_files():
        digest.update(path.read_bytes())
    return digest.hexdigest()


def kept_rows(study: Path) -> dict[str, tuple[str, dict[str, Any]]]:
    """Return run name to fingerprint and row; empty if there is no cache or it is damaged."""
    try:
        content = json.loads(read_text(study / CACHE))
        return {str(name): (str(mark), dict(row)) for name, (mark, row) in content.items()}
    except (OSError, ValueError, TypeError, AttributeError, RecursionError):
        return {}


def keep_rows(study: Path, rows: dict[str, tuple[str, dict[str, Any]]]) -> None:
    """Keep rows for the next time; where the study cannot be written, nothing is kept."""
    with contextlib.suppress(OSError):
        replace_file(study / CACHE, json.dumps(rows))
