"""What other installed packages add, found by their entry points; a broken one is named and left out.

Groups: ``gelassen.sensors``, ``gelassen.settings``, ``gelassen.loads``, ``gelassen.readers``. What each
entry must be stands beside the table it joins; docs/extending.md shows one of each.
"""

from dataclasses import dataclass
from functools import cache
from importlib.metadata import entry_points
from typing import Any


@dataclass(frozen=True, slots=True)
class Plugins:
    """What one group of entry points holds."""

    found: dict[str, Any]  # name to what was loaded
    broken: dict[str, str]  # name to why it could not be


@cache
def plugins(group: str) -> Plugins:
    """Load the entry points of a group, such as "gelassen.sensors"."""
    found: dict[str, Any] = {}
    broken: dict[str, str] = {}
    for entry in entry_points(group=group):
        try:
            found[entry.name] = entry.load()
        except Exception as error:  # whatever another package does must not stop a test
            broken[entry.name] = described(error)
    return Plugins(found, broken)


def described(error: Exception) -> str:
    """Return in one line what went wrong."""
    return f"{type(error).__name__}: {error}".split("\n")[0]
