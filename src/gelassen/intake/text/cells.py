"""The content of one cell: a number in some national form, a state, nothing, or other text."""

import math
import re
import unicodedata
from collections.abc import Iterable
from functools import lru_cache
from typing import Literal, NamedTuple

Decimal = Literal[".", ","]

MISSING = frozenset(
    [
        "", "-", "--", "---", "–", "—", "n/a", "na", "#n/a", "#na", "nan", "-nan", "nan(ind)", "-nan(ind)",
        "null", "(null)", "none", "nil", "void", "missing", "?", "*", ".", "..", "...", "\\n", "<na>",
        "inf", "+inf", "-inf", "infinity", "+infinity", "-infinity", "∞", "-∞", "1.#inf",
        "-1.#inf", "1.#qnan",
        "-1.#ind", "1.#ind", "#value!", "#div/0!", "#num!", "#ref!", "no data", "nodata", "not available",
        "unavailable", "k.a.", "k. a.", "keine", "fehlt", "n.v.", "nv", "s/d", "n.d.", "nd", "s.o.",
    ]
)  # fmt: skip
_TRUE = frozenset(
    [
        "yes",
        "on",
        "true",
        "ja",
        "ein",
        "wahr",
        "an",
        "oui",
        "vrai",
        "si",
        "sí",
        "verdadero",
        "y",
        "active",
    ]
)
_FALSE = frozenset(
    [
        "no",
        "off",
        "false",
        "nein",
        "aus",
        "falsch",
        "non",
        "faux",
        "inactive",
        "n",
        "falso",
        "not active",
    ]
)

# Sign, digits with group separators, exponent, and a unit that must not begin with a digit.
_NUMBER = re.compile(
    r"([+-]?)\s?(\d[\d.,'’ ]*|[.,]\d+)(?:[eE]([+-]?\d{1,4}))?\s*([^\d\s.,'’+\-][^\d]{0,15})?"
)
_SPACES = str.maketrans({"\u00a0": " ", "\u202f": " ", "\u2009": " ", "\u2212": "-", "\t": " "})
_LONGEST = 48


class Value(NamedTuple):
    """A number and the unit behind it."""

    number: float
    unit: str


NOTHING = Value(math.nan, "")


def folded(text: str) -> str:
    """Return text for comparison: lower case, without accents, with single spaces."""
    plain = unicodedata.normalize("NFKD", text.casefold().replace("œ", "oe").replace("æ", "ae"))
    return " ".join("".join(c for c in plain if not unicodedata.combining(c)).split())


def is_missing(cell: str) -> bool:
    """Return whether a cell stands for a missed reading."""
    return cell.strip().casefold() in MISSING


def state(cell: str) -> float | None:
    """Return 1 or 0 for a state such as "On" or "Nein"; None if the text is not a state."""
    word = cell.strip().casefold()
    return 1.0 if word in _TRUE else 0.0 if word in _FALSE else None


@lru_cache(maxsize=1 << 16)
def read_value(cell: str, decimal: Decimal) -> Value | None:
    """Return the number of a cell; NaN if it is missing, None if it is other text."""
    text = cell.strip().strip("'\"").translate(_SPACES).strip()
    if text.casefold() in MISSING:
        return NOTHING
    if len(text) > _LONGEST:
        return None
    match = _NUMBER.fullmatch(text)
    if match is None:
        return None
    sign, digits, exponent, unit = match.groups()
    plain = _ungrouped(digits.strip(), decimal)
    if plain is None:
        return None
    number = float(f"{sign}{plain}e{exponent or 0}")
    return Value(number if math.isfinite(number) else math.nan, (unit or "").strip())


def _ungrouped(digits: str, decimal: Decimal) -> str | None:
    """Return digits with a point and without thousands separators; None if they are not a number."""
    whole, mark, part = digits.partition(decimal)
    if mark and not part.isdecimal() and part != "":
        return None
    groups = re.split(r"[.,'’ ]", whole)
    if len(groups) > 1:
        used = set(re.findall(r"[.,'’ ]", whole))
        if len(used) > 1 or not 1 <= len(groups[0]) <= 3 or any(len(g) != 3 for g in groups[1:]):
            return None
    joined = "".join(groups)
    if not (joined or part) or not (joined + part).isascii():
        return None
    return f"{joined or '0'}.{part or '0'}"


_ONLY_POINT = re.compile(
    r"[+-]?(?:\d*\.(?:\d{1,2}|\d{4,})|0\.\d+|\d{4,}\.\d+|\.\d+|\d{1,3}(?:,\d{3})+\.\d*|\d{1,3}(?:,\d{3}){2,})(?:[eE].*)?"
)
_ONLY_COMMA = re.compile(
    r"[+-]?(?:\d*,(?:\d{1,2}|\d{4,})|0,\d+|\d{4,},\d+|,\d+|\d{1,3}(?:\.\d{3})+,\d*|\d{1,3}(?:\.\d{3}){2,})(?:[eE].*)?"
)
_MARKED = re.compile(r"^[+-]?\d*[.,]\d+$", re.MULTILINE)
_EITHER = re.compile(r"[+-]?[1-9]\d{0,2}([.,])\d{3}")


class Evidence(NamedTuple):
    """How many cells need a decimal point, need a decimal comma, or allow both."""

    point: int
    comma: int
    open_point: int
    open_comma: int
    whole: int


def decimal_evidence(cells: Iterable[str]) -> Evidence:
    """Count the cells of a column by the decimal mark that they need."""
    cells = list(dict.fromkeys(cells))
    joined = "\n".join(cells)
    if "," not in joined or "." not in joined:
        # The usual case, found with one search: at most one mark.
        marked = _MARKED.findall(joined)
        unsure = sum(1 for text in marked if _EITHER.fullmatch(text))
        if marked and unsure < len(marked):
            sure = len(marked) - unsure
            points = "." in joined
            return Evidence(sure, 0, unsure, 0, 0) if points else Evidence(0, sure, 0, unsure, 0)
        if "," not in joined and "." not in joined:
            return Evidence(0, 0, 0, 0, 1)
    counts = [0, 0, 0, 0, 0]
    for cell in cells:
        number = _NUMBER.fullmatch(cell.strip().strip("'\"").translate(_SPACES)[:_LONGEST])
        if number is None:
            continue
        text = number[2].strip() + ("e0" if number[3] else "")
        either = _EITHER.fullmatch(text)
        if either:
            counts[2 if either[1] == "." else 3] += 1
        elif _ONLY_POINT.fullmatch(text):
            counts[0] += 1
        elif _ONLY_COMMA.fullmatch(text):
            counts[1] += 1
        elif text.isdecimal():
            counts[4] += 1
    return Evidence(*counts)
