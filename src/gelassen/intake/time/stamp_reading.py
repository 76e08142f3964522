"""Turns stamps into seconds, together for all stamps of one form.

Since 1970-01-01 where a stamp has a date (by its own clock, or in UTC where it states an offset), since
midnight where it is a time of day, since its own zero where it is a duration.

Stamps have one form if they differ in digits only. The meaning of the digits is found once for each form,
by the pattern, and used for all.
"""

import math
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import date

import numpy as np
from numpy.typing import NDArray

from gelassen.core.foundation.inputs import Floats
from gelassen.intake.text.cells import folded
from gelassen.intake.text.stamps import DURATION, OF_DAY, STAMP, Form, Order, clean

_MONTHS = {
    name: k
    for k, names in enumerate(
        (
            "jan january januar janvier janv enero ene", "feb february februar fevrier fevr fev febrero",
            "mar march marz maerz mrz mars marzo", "apr april avril avr abril abr", "may mai mayo",
            "jun june juni juin junio", "jul july juli juillet juil julio",
            "aug august aout agosto ago", "sep sept september septembre septiembre set",
            "oct october oktober okt octobre octubre", "nov november novembre noviembre",
            "dec december dezember dez decembre diciembre dic",
        ),
        start=1,
    )
    for name in names.split()
}  # fmt: skip
_ZONES = {
    "z": 0,
    "utc": 0,
    "gmt": 0,
    "cet": 3600,
    "cest": 7200,
    "mez": 3600,
    "mesz": 7200,
    "wet": 0,
    "bst": 3600,
}

_EPOCH = date(1970, 1, 1).toordinal()
_LONGEST = 80  # with quotes and spaces around it
_FEW = 8  # forms of a stamp, as its numbers gain a digit
_ZERO, _NINE = ord("0"), ord("9")
_FIRST_YEAR, _YEARS = 1900, 200  # of dates written without separators

Characters = NDArray[np.uint8] | NDArray[np.uint32]


def read_stamps(cells: Sequence[str], form: Form) -> Floats:
    """Return seconds for each cell; NaN where a cell is not a stamp of this form."""
    seconds = np.full(len(cells), np.nan)
    for rows, characters, example in _alike([cell[:_LONGEST] for cell in cells]):
        text = clean(example)
        pattern = {"duration": DURATION, "of day": OF_DAY}.get(form.kind, STAMP)
        match = pattern.fullmatch(text)
        if match is None:
            continue
        if text in example:
            stamps = Alike(match, characters[example.index(text) :])
            seconds[rows] = _seconds(stamps, form)
            continue
        for row in rows:  # spaces inside were taken out, so that places differ
            text = clean(cells[row])
            match = pattern.fullmatch(text)
            if match is not None:
                seconds[row] = _seconds(Alike(match, _characters([text])), form)[0]
    return seconds


def offset_of(cell: str) -> float | None:
    """Return the offset from UTC that a stamp states, in s; None if it states none."""
    match = STAMP.fullmatch(clean(cell))
    if match is None or not match["zone"]:
        return None
    return _offset(match["zone"])


class Alike:
    """Stamps of one form: the match of one of them, and the characters of all."""

    def __init__(self, match: re.Match[str], characters: Characters) -> None:
        self.match, self.characters = match, characters

    def has(self, name: str) -> bool:
        """Return whether the stamps have this part."""
        return self.match.groupdict().get(name) is not None

    def number(self, name: str, start: int = 0, length: int | None = None) -> Floats:
        """Return the number in a part of each stamp; zeros without that part."""
        if not self.has(name):
            return np.zeros(self.characters.shape[1])
        begin, end = self.match.span(name)
        begin += start
        end = end if length is None else begin + length
        total = np.zeros(self.characters.shape[1])
        for place in self.characters[begin:end]:
            total *= 10
            total += place - float(_ZERO)
        return total

    def of_text(self, name: str, value: Callable[[str], float]) -> Floats:
        """Return the result of a function for the text of a part in each stamp."""
        begin, end = self.match.span(name)
        part = self.characters[begin:end]
        if (part == part[:, :1]).all():
            return np.full(part.shape[1], value(self.match[name]))
        texts = ["".join(map(chr, column)) for column in part.T.tolist()]
        known = {text: value(text) for text in set(texts)}
        return np.array([known[text] for text in texts])


def _characters(texts: Sequence[str]) -> Characters:
    """Return the characters of texts, one row for each place, so that a place is contiguous in memory."""
    try:
        places: Characters = np.array(texts, dtype="S").view(np.uint8)
    except UnicodeEncodeError:
        places = np.array(texts, dtype="U").view(np.uint32)
    in_rows: Characters = places.reshape(len(texts), -1)
    return in_rows.T.copy()


def _alike(cells: Sequence[str]) -> Iterator[tuple[NDArray[np.intp], Characters, str]]:
    """Yield the rows of cells that differ in digits only, their characters, and one of them."""
    if not any(cells):
        return
    characters = _characters(cells)
    shape = np.where((characters >= _ZERO) & (characters <= _NINE), _ZERO, characters)
    left = np.arange(len(cells))
    for _ in range(_FEW):
        if not left.size:
            return
        same = (shape == shape[:, :1]).all(axis=0)
        whole = bool(same.all())
        rows = left[same]
        yield rows, characters if whole else characters[:, same], cells[rows[0]]
        if whole:
            return
        left, shape, characters = left[~same], shape[:, ~same], characters[:, ~same]
    groups: dict[bytes, list[int]] = {}
    for k, one in enumerate(shape.T):
        groups.setdefault(one.tobytes(), []).append(k)
    for some in groups.values():
        yield left[some], characters[:, some], cells[left[some[0]]]


def _seconds(stamps: Alike, form: Form) -> Floats:
    if form.kind == "duration":
        return _duration(stamps)
    day = _day(stamps, form.order) if form.kind != "of day" else 0.0
    zone = stamps.of_text("zone", _offset) if stamps.has("zone") else 0.0
    return day + _of_day(stamps) - zone


def _duration(stamps: Alike) -> Floats:
    total = stamps.number("days") * 86_400 + stamps.number("hours") * 3_600
    total += stamps.number("minutes") * 60 + stamps.number("seconds", length=2)
    digits = len(stamps.match["seconds"]) - 3
    if digits > 0:
        total += stamps.number("seconds", start=3) / 10**digits
    return -total if stamps.match["sign"] == "-" else total


def _of_day(stamps: Alike) -> Floats:
    if stamps.has("tight"):
        hour, minute, second = (stamps.number("tight", k, 2) for k in (0, 2, 4))
    else:
        hour, minute, second = (stamps.number(name) for name in ("h", "min", "s"))
    right = (hour <= 24) & (minute <= 59) & (second <= 60)
    if stamps.has("half"):
        right &= (hour >= 1) & (hour <= 12)
        hour = hour % 12 + (12 if stamps.match["half"].lower() == "p" else 0)
    total = hour * 3_600 + minute * 60 + second
    if stamps.has("frac"):
        total += stamps.number("frac") / 10 ** len(stamps.match["frac"])
    return np.where(right, total, np.nan)


def _day(stamps: Alike, order: Order) -> Floats:
    """Return the day in s since 1970-01-01; NaN if there is no such day."""
    match = stamps.match
    if match["y1"]:
        year, month, day = (stamps.number(name) for name in ("y1", "m1", "d1"))
    elif match["compact"]:
        year, month, day = (stamps.number("compact", *at) for at in ((0, 4), (4, 2), (6, 2)))
        year = np.where((year >= _FIRST_YEAR) & (year < _FIRST_YEAR + _YEARS), year, 0)
    elif match["a"]:
        a, b, c = (stamps.number(name) for name in ("a", "b", "y2"))
        year, month, day = (
            (c, b, a) if order == "dmy" else (c, a, b) if order == "mdy" else (a, b, c)
        )
    else:
        name = folded(match["mon3"] or match["mon4"])
        day, year = (
            stamps.number(x if match["mon3"] else y) for x, y in (("d3", "d4"), ("y3", "y4"))
        )
        month = np.full(day.size, float(_MONTHS.get(name, 0)))
    if not match["compact"]:
        year = np.where(year < 100, year + 2_000, year)
    days, where = np.unique((year * 100 + month) * 100 + day, return_inverse=True)
    return np.array([_since_1970(int(d)) for d in days])[where]


def _since_1970(day: int) -> float:
    try:
        ordinal = date(day // 10_000, day // 100 % 100, day % 100).toordinal()
    except ValueError:
        return math.nan
    return (ordinal - _EPOCH) * 86_400.0


def _offset(zone: str) -> float:
    text = zone.lower()
    if text in _ZONES:
        return float(_ZONES[text])
    digits = re.fullmatch(r"(?:utc|gmt)?([+-])(\d{2}):?(\d{2})?", text)
    if digits is None:
        return math.nan
    size = int(digits[2]) * 3600 + int(digits[3] or 0) * 60
    return float(size if digits[1] == "+" else -size)
