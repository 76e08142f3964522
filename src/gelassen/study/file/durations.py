"""Durations as people write them: "20 min", "90 s", "1 h", or a number of seconds."""

import re

from gelassen.core.foundation.errors import InputError

_UNITS = {"s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0}
_PATTERN = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([a-z]*)\s*", re.IGNORECASE)


def seconds(text: str | float) -> float:
    """Return a duration in s."""
    if isinstance(text, (int, float)) and not isinstance(text, bool):
        text = str(text)
    match = _PATTERN.fullmatch(text) if isinstance(text, str) else None
    unit = (match[2].lower() or "s") if match else ""
    if match is None or unit not in _UNITS:
        raise InputError(f'"{text}" is not a duration: write it like "20 min", "90 s" or "1 h"')
    return float(match[1]) * _UNITS[unit]


def words(duration_s: float) -> str:
    """Return a duration for people: "45 s", "12 min", "1 h 30 min"."""
    if duration_s < 120:
        return f"{duration_s:.0f} s"
    minutes = round(duration_s / 60)
    if minutes < 120:
        return f"{minutes} min"
    hours, rest = divmod(minutes, 60)
    return f"{hours} h {rest} min" if rest else f"{hours} h"
