"""A value in the output of a program or the answer of an instrument."""

import re

# Instruments write a decimal point, and commas between values. Programs write either.
NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
SPOKEN_NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)(?:[eE][-+]?\d+)?"


def value_in(text: str, pattern: re.Pattern[str]) -> float:
    """Return the number a pattern finds in a text; ValueError if there is none."""
    match = pattern.search(text)
    if match is None:
        raise ValueError(f"no value in {text.strip()[:60]!r}")
    found = match[1] if pattern.groups else match[0]
    return float(found.replace(",", "."))
