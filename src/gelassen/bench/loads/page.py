"""The page of memory that a worker shares with its parent: its work so far.

Each number is one aligned machine word, written and read in one go. (`struct.pack_into` clears its
target first, so a reader could see a zero in the moment of writing.)
"""

import mmap
from pathlib import Path

READY, ROUNDS, ERRORS, LAST_NS = 0, 1, 2, 3  # ready (0 or 1), rounds, wrong results, end of a round
SIZE = 4 * 8


class Page:
    """Four numbers in a file that two processes have mapped, until the last reader lets go of them."""

    def __init__(self, path: Path) -> None:
        with path.open("r+b") as stream:
            self._memory = mmap.mmap(stream.fileno(), SIZE)
        self._words = memoryview(self._memory).cast("q")

    def __getitem__(self, place: int) -> int:
        """Return one number."""
        return self._words[place]

    def __setitem__(self, place: int, value: int) -> None:
        """Set one number."""
        self._words[place] = value

    def rounds(self) -> tuple[int, int]:
        """Return the rounds done and the moment the last one ended, from the same instant."""
        while True:
            before, last_ns, after = self._words[ROUNDS], self._words[LAST_NS], self._words[ROUNDS]
            if before == after:
                return after, last_ns
