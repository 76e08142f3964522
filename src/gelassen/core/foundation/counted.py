"""Numbers with a noun: "1 run", "3 runs"."""

from collections.abc import Iterable


def counted(number: float, noun: str, several: str = "") -> str:
    """Return the number and the noun; its plural ends in "s" unless another is given."""
    return f"{number:.0f} {noun if number == 1 else several or noun + 's'}"


def listed(names: Iterable[object]) -> str:
    """Return names in words: "a, b and c". Of five or more, three are named and the rest counted."""
    items = [str(name) for name in names]
    if len(items) > 4:
        items = [*items[:3], f"{len(items) - 3} others"]
    return items[0] if len(items) == 1 else ", ".join(items[:-1]) + " and " + items[-1]
