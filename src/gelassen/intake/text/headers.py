"""Splits a header into the name of the column and its unit."""

import re
from typing import NamedTuple

from gelassen.core.recording.units import kinds_of

_STATES = re.compile(r"(?i)(yes|ja|oui|s[ií]|on|ein|true|1)\s*/\s*(no|nein|non|off|aus|false|0)")
STATE = "state"
_BRACKET = re.compile(r"\s*[\[({<]\s*([^\[\](){}<>]*(?:\([a-zA-Z]\))?[^\[\](){}<>]*)\s*[\])}>]")
# Letters that are a unit only after a separator.
_ALONE = frozenset(["c", "f", "k", "v", "a", "w", "s", "%", "h", "min", "mins"])
# Units that say by themselves what a column holds: "MHz" is a clock.
_SAYS_ALL = frozenset(["mhz", "w", "rpm", "c", "v", "a", "dba"])
# What may stand before such a letter, where no word says what is measured: "Supply V", "CPU W". An A or C
# after a regulator or a fan is rather its name.
_SUPPLIES = r"supply|psu|input|output|rail|usb|battery|dc|wall|socket|mains"
_CHIPS = r"cpu|gpu|soc|chip|package|pkg"
_PLACES = {
    "C": rf"(?i)\b({_CHIPS}|room|ambient|coolant|water)$",
    "A": rf"(?i)\b({_SUPPLIES})$",
    "V": rf"(?i)\b({_SUPPLIES}|{_CHIPS}|core)( \d+)?$",
    "W": rf"(?i)\b({_SUPPLIES}|{_CHIPS}|board)$",
}


class Header(NamedTuple):
    """The words of a header, and its unit ("" if it has none)."""

    text: str
    words: str
    unit: str


def read_header(text: str) -> Header:
    """Split a header. The unit is in brackets, after a slash or comma, or at the end."""
    clean = " ".join(text.replace("Â°", "°").split())
    for match in reversed(list(_BRACKET.finditer(clean))):
        inside = match[1].strip()
        if _STATES.fullmatch(inside):
            return Header(text, _without(clean, match), STATE)
        if is_unit(inside):
            return Header(text, _without(clean, match), inside)
    for at in [k for k, c in enumerate(clean) if c in "/,"]:
        before, after = clean[:at].strip(), clean[at + 1 :].strip()
        if before and is_unit(after):
            return Header(text, before, after)
    two = re.fullmatch(r"(.*\S)\s+(\S+\s\S+)", clean)  # "deg C"
    if two and is_unit(two[2]):
        return Header(text, two[1], two[2])
    last = re.fullmatch(r"(.*\S)\s+(?:in\s+)?(\S+)", clean)
    if (
        last
        and is_unit(last[2])
        and (last[2].lower() not in _ALONE or last[2] == "%" or " in " in clean)
    ):
        return Header(text, last[1].removesuffix(" in"), last[2])
    rate = re.fullmatch(r"(.*[^_\s])_per_(s|sec|min)", clean)
    if rate:
        return Header(text, rate[1], f"1/{rate[2].removesuffix('ec')}")
    ending = re.fullmatch(r"(.*[^_\s])_([A-Za-z°%]+)", clean)
    if ending and ending[2] not in ("min", "h") and is_unit(ending[2]):
        return Header(text, ending[1], ending[2])
    # A single letter may be the name of anything; watts alone are written so.
    if set(kinds_of(clean)) & _SAYS_ALL and (len(clean) > 1 or clean == "W"):
        return Header(text, clean, clean)
    letter = re.fullmatch(r"(.*\S)\s+([CFKVAWs])", clean)
    if letter and _fits(letter[1], letter[2]):
        return Header(text, letter[1], letter[2])
    if clean.endswith(("°C", "°F", "%")) and len(clean) > 2:
        unit = "%" if clean.endswith("%") else clean[-2:]
        return Header(text, clean.removesuffix(unit).strip(), unit)
    return Header(text, clean, "")


def is_unit(text: str) -> bool:
    """Return whether a text is a known unit."""
    return bool(text) and bool(kinds_of(text))


def _without(clean: str, match: re.Match[str]) -> str:
    return " ".join((clean[: match.start()] + " " + clean[match.end() :]).split())


def _fits(words: str, letter: str) -> bool:
    """Return whether a single letter at the end can be a unit of what the words name."""
    stems = {
        "CFK": r"(?i)temp|probe|sensor", "V": r"(?i)volt|spannung|tension", "A": r"(?i)curr|strom|courant",
        "W": r"(?i)power|leistung|puissance|potencia|verbrauch|consum|consomm",
        "s": r"(?i)time|zeit|elapsed|temps",
    }  # fmt: skip
    if letter in _PLACES and re.search(_PLACES[letter], words):
        return True
    return any(letter in letters and re.search(stem, words) for letters, stem in stems.items())
