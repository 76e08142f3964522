"""One process at a time makes runs of a study."""

from contextlib import AbstractContextManager
from pathlib import Path

from gelassen.system.locks import holding

LOCK = ".in-use"


def in_use(study: Path) -> AbstractContextManager[None]:
    """Hold a study during a ``with``; InUseError says which process has it."""
    return holding(study / LOCK, f"{study}")
