"""A caution: what weakens a run or an answer, in words for people and as a code for programs."""

import re
from collections.abc import Mapping
from string import Formatter
from typing import Any

from gelassen.core.foundation.caution_words import WORDS
from gelassen.core.foundation.counted import counted

Size = float | int | str
# "0.6 to 0.6 K" is said as "0.6 K".
_SAME_ENDS = re.compile(r"(?<![-−+\d.])(\d+(?:\.\d+)?) to \1(?![\d.])")


class Caution(str):
    """The words of a caution, with a code and the sizes that stand in them.

    Attributes
    ----------
    code
        What it is about: the same for all cautions of one kind, whatever their sizes.
    sizes
        The numbers and names in its words, by name.
    about
        What it holds for, if not for the whole answer: a setup, a load, a log.
    """

    code: str
    sizes: dict[str, Size]
    about: str

    def __new__(
        cls, words: str, *, code: str, sizes: Mapping[str, Size] | None = None, about: str = ""
    ) -> "Caution":
        """Make a caution of its words."""
        made = super().__new__(cls, words)
        made.code, made.sizes, made.about = code, dict(sizes or {}), about
        return made

    def __reduce__(self) -> tuple[Any, ...]:
        return _made, (str(self), self.code, self.sizes, self.about)

    def of(self, name: str) -> "Caution":
        """Return the same caution about one setup, load or log."""
        return Caution(f"{name}: {self}", code=self.code, sizes=self.sizes, about=name)

    def to_dict(self) -> dict[str, Any]:
        """Return code, words and sizes as plain values."""
        return {"code": self.code, "words": str(self), "sizes": dict(self.sizes)}


def caution(code: str, **sizes: Size) -> Caution:
    """Return the caution of this code, worded by `caution_words`."""
    words = _SAME_ENDS.sub(r"\1", _Words().format(WORDS[code], **sizes))
    return Caution(words, code=code, sizes=sizes)


class _Words(Formatter):
    """Formats `{count:reading}` as "1 reading" or "3 readings"; all else as usual."""

    def format_field(self, value: Any, format_spec: str) -> Any:
        if len(format_spec) > 1 and format_spec.isalpha():
            return counted(value, format_spec)
        return super().format_field(value, format_spec)


def _made(words: str, code: str, sizes: dict[str, Size], about: str) -> Caution:
    return Caution(words, code=code, sizes=sizes, about=about)
