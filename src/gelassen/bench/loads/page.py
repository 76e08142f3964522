"""The page of memory a worker shares with its parent: what it has done so far.

Each number is one aligned machine word, written and read in one go. (`struct.pack_into` clears its
target first, so a reader could see a zero in the moment of writing.)
"""

import mmap

READY, ROUNDS, ERRORS = 0, 1, 2  # ready (0 or 1), rounds done, wrong results
SIZE = 3 * 8


class Page:
    """Three counters in a file that two processes have mapped."""

    def __init__(self, descriptor: int) -> None:
        self._memory = mmap.mmap(descriptor, SIZE)
        self._words = memoryview(self._memory).cast("q")

    def __getitem__(self, place: int) -> int:
        """Return one counter."""
        return self._words[place]

    def __setitem__(self, place: int, value: int) -> None:
        """Set one counter."""
        self._words[place] = value

    def close(self) -> None:
        """Let go of the memory."""
        self._words.release()
        self._memory.close()
