"""The line of a key in a TOML file, for messages. The standard parser does not give it."""

import re
from collections.abc import Sequence

_HEADER = re.compile(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(?:#.*)?$")
_KEY = re.compile(
    r"""\s*((?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*'))*)\s*="""
)
_PART = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


def _parts(dotted: str) -> list[str]:
    return [part.strip("\"'") for part in _PART.findall(dotted)]


def line_of(text: str, loc: Sequence[str]) -> int:
    """Return the line of the key, or of the nearest section around it; 1 if there is none."""
    wanted = list(loc)
    best_line, best_depth = 1, 0
    section: list[str] = []
    for number, line in enumerate(text.splitlines(), start=1):
        header = _HEADER.match(line)
        key = _KEY.match(line)
        if header:
            section = _parts(header[1])
            here = section
        elif key:
            here = section + _parts(key[1])
        else:
            continue
        depth = 0
        while depth < min(len(here), len(wanted)) and here[depth] == wanted[depth]:
            depth += 1
        if depth > best_depth and depth == len(here):
            best_line, best_depth = number, depth
    return best_line
