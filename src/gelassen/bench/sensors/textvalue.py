"""A value in the output of a program or the answer of an instrument."""

import re

from gelassen.system.matching import LONGEST_LINE, Matcher

# Instruments write a decimal point, and commas between values. Programs write either.
NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
SPOKEN_NUMBER = r"[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)(?:[eE][-+]?\d+)?"


_matcher = Matcher()  # one process for the expressions of all channels


def value_in(text: str, pattern: re.Pattern[str]) -> float:
    """Return the number a pattern finds in a text; ValueError if there is none, or not in time."""
    text = text[-LONGEST_LINE:]
    if pattern.pattern in (NUMBER, SPOKEN_NUMBER):  # ours take no longer on longer lines
        match = pattern.search(text)
        found = None if match is None else match[0]
    else:
        found = _matcher.find(pattern.pattern, text)
    if found is None:
        raise ValueError(f"no value in {text.strip()[:60]!r}")
    return float(found.replace(",", "."))
