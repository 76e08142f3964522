"""The integer load: compression of one fixed text, with many unpredictable branches."""

import random
import zlib

_BYTES = 96 << 10  # a round of a few milliseconds


class IntegerKernel:
    """One round compresses the text at the highest level, and compares it byte by byte with the first."""

    def __init__(self) -> None:
        dice = random.Random(5)  # noqa: S311  a load, not a secret
        words = [bytes(dice.choices(range(97, 123), k=dice.randint(2, 9))) for _ in range(600)]
        text = b" ".join(dice.choices(words, k=_BYTES // 4))
        self._text = text[:_BYTES]
        self._expected = zlib.compress(self._text, 9)

    def round(self) -> bool:
        """Work one round; return whether the result was right."""
        return zlib.compress(self._text, 9) == self._expected
