"""The memory load: copies larger than any cache, with little arithmetic."""

import numpy as np

_PIECES, _PIECE = (
    16,
    1 << 18,
)  # 16 pieces of 2 MiB: about 1 ms a round, a lap exceeds the caches


class MemoryKernel:
    """One round copies a piece, and compares the piece that was copied half a lap ago."""

    def __init__(self) -> None:
        rng = np.random.default_rng(5)
        self._source = rng.integers(0, 2**62, size=(_PIECES, _PIECE), dtype=np.int64)
        self._target = self._source.copy()
        self._at = 0

    def round(self) -> bool:
        """Work one round; return whether the result was right."""
        at, other = self._at, (self._at + _PIECES // 2) % _PIECES
        np.copyto(self._target[at], self._source[at])
        self._at = (at + 1) % _PIECES
        return np.array_equal(self._target[other], self._source[other])
