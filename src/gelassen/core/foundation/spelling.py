"""The nearest right spelling, for messages."""

from collections.abc import Iterable
from difflib import get_close_matches


def nearest(found: str, allowed: Iterable[str]) -> str:
    """Return ' Did you mean "..."?' if something allowed looks alike, else nothing."""
    options = list(allowed)
    folded = {option.casefold(): option for option in options}
    close = get_close_matches(found.casefold(), folded, n=1, cutoff=0.55)
    return f' Did you mean "{folded[close[0]]}"?' if close else ""
