"""A value in a text that a program printed or an instrument answered."""

import re

# Instruments write a point, and commas between values; people and their programs write either.
NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
SPOKEN_NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)(?:[eE][-+]?\d+)?"


def value_in(text: str, pattern: re.Pattern[str]) -> float:
    """Return the number a pattern finds in a text; ValueError if there is none."""
    match = pattern.search(text)
    if match is None:
        raise ValueError(f"no value in {text.strip()[:60]!r}")
    found = match[1] if pattern.groups else match[0]
    return float(found.replace(",", "."))
