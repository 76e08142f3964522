"""Time stamps as logs write them: which form they have, and the moment each stands for.

A stamp becomes seconds: since 1970-01-01 where it has a date (by its own clock, or in UTC where it
states an offset), since midnight where it is a time of day, since its own zero where it is a duration.
"""

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Literal

import numpy as np

from gelassen.core.errors import FileError
from gelassen.core.inputs import Floats
from gelassen.intake.cells import folded

Order = Literal["ymd", "dmy", "mdy"]
ORDERS: tuple[Order, ...] = ("ymd", "dmy", "mdy")

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

_YMD = r"(?P<y1>\d{4})[-/. ](?P<m1>\d{1,2})[-/. ](?P<d1>\d{1,2})|(?P<compact>(?:19|20)\d{6})"
_NUMERIC = r"(?P<a>\d{1,2})(?P<sep>[-/.]) ?(?P<b>\d{1,2})(?P=sep) ?(?P<y2>\d{4}|\d{2})"
_NAMED = (
    r"(?P<d3>\d{1,2})(?:st|nd|rd|th)?\.?[ -](?:de )?(?P<mon3>[^\W\d_]{3,10})\.?,?[ -](?:de "
    r")?(?P<y3>\d{4}|\d{2})"
    r"|(?P<mon4>[^\W\d_]{3,10})\.? (?P<d4>\d{1,2})(?:st|nd|rd|th)?,? (?P<y4>\d{4})"
)
_DATE = rf"(?:[^\W\d_]{{2,10}}\.?,? )?(?:{_YMD}|{_NUMERIC}|{_NAMED})"
_CLOCK = (
    r"(?P<h>\d{1,2})[:h](?P<min>\d{2})(?:[:m](?P<s>\d{2})(?:[.,:](?P<frac>\d{1,9}))?s?)?"
    r"(?: ?(?P<half>[ap])\.? ?m\.?)?"
)
_OFFSET = r"(?: ?(?P<zone>[zZ]|[A-Za-z]{3,4}|(?:UTC|GMT)?[+-]\d{2}:?(?:\d{2})?))?"
_STAMP = re.compile(
    rf"(?:{_DATE})(?:(?:,? +| ?[tT_] ?|-)(?:{_CLOCK}|(?P<tight>\d{{6}})){_OFFSET})?", re.IGNORECASE
)
_OF_DAY = re.compile(_CLOCK + _OFFSET, re.IGNORECASE)
_DURATION = re.compile(
    r"(?P<sign>[+-])?(?:(?P<days>\d+)(?: ?d(?:ays?)?,? ?|\.(?=\d{1,2}:)))?"
    r"(?:(?P<hours>\d+):)?(?P<minutes>\d{1,4}):(?P<seconds>\d{2}(?:[.,:]\d{1,9})?)"
)
_LONGEST = 64


@dataclass(frozen=True, slots=True)
class Form:
    """How the stamps of a log are written.

    Attributes
    ----------
    kind
        "moment" (with a date), "date" (a date alone), "of day" or "duration".
    order
        Order of day, month and year, for dates in digits.
    words
        The form for people.
    has_offset
        Whether each stamp states its offset from UTC.
    twelve_hours
        Whether they are on a 12-hour clock.
    guessed
        What could be meant otherwise; "" if nothing.
    """

    kind: Literal["moment", "date", "of day", "duration"]
    words: str
    order: Order = "ymd"
    has_offset: bool = False
    twelve_hours: bool = False
    guessed: str = ""


def clean(cell: str) -> str:
    """Return a cell without quotes and double spaces."""
    text = (
        cell.strip()
        .strip("'\"")
        .replace("\u202f", " ")
        .replace("\u00a0", " ")
        .replace("\u2212", "-")
    )
    return re.sub(r"\b(\d{1,2})h(\d{2})(?!\d)", r"\1h\2", " ".join(text.split()))[:_LONGEST]


def find_form(
    cells: Sequence[str],
    *,
    told: Order | None = None,
    elapsed: bool = False,
    where: str = "the log",
) -> Form | None:
    """Return the form of stamps, None if the cells are none.

    Parameters
    ----------
    cells
        A sample of the cells, in order.
    told
        The order of day and month, where the user says it.
    elapsed
        Whether the header says that the times count from the start.

    Raises
    ------
    FileError
        Day and month cannot be told apart.
    """
    texts = [clean(cell) for cell in cells]
    texts = [text for text in texts if text]
    if len(texts) == 0:
        return None
    matches = [m for m in map(_STAMP.fullmatch, texts) if m]
    if len(matches) >= max(1, 0.6 * len(texts)):
        with_clock = sum(1 for m in matches if m["h"] or m["tight"])
        order, how = _order(matches, told, where)
        kind: Literal["moment", "date"] = "moment" if with_clock > len(matches) / 2 else "date"
        offset = sum(1 for m in matches if m["zone"]) > len(matches) / 2
        words = f"date and time, {how}" if kind == "moment" else f"date, {how}"
        twelve = any(m["half"] for m in matches)
        words += ", 12-hour clock" if twelve else ""
        return Form(kind, words + (" with offset" if offset else ""), order, offset, twelve)
    durations = sum(1 for text in texts if _DURATION.fullmatch(text))
    of_day = [
        m for m in map(_OF_DAY.fullmatch, texts) if m and int(m["h"]) < 24 and int(m["min"]) < 60
    ]
    if len(of_day) >= max(1, 0.6 * len(texts)) and not elapsed:
        first = of_day[0]
        halves = any(m["half"] for m in of_day)
        # A log that begins at midnight to the minute counts from its start.
        starts_at_zero = not halves and int(first["h"]) == 0 and int(first["min"]) == 0
        short = all(m["s"] is None for m in of_day) and not halves
        if not starts_at_zero and not (short and durations >= len(of_day) and int(first["h"]) == 0):
            return Form(
                "of day",
                "time of day" + (", 12-hour clock" if halves else ""),
                "ymd",
                False,
                halves,
                "hours and minutes, not minutes and seconds" if short else "",
            )
    if durations >= max(1, 0.6 * len(texts)):
        return Form("duration", "elapsed hours, minutes, seconds")
    if elapsed and of_day and len(of_day) >= 0.6 * len(texts):
        return Form("duration", "elapsed hours, minutes, seconds")
    return None


def _order(matches: Sequence[re.Match[str]], told: Order | None, where: str) -> tuple[Order, str]:
    numeric = [m for m in matches if m["a"]]
    if not numeric:
        return "ymd", "day and named month" if matches[0]["mon3"] or matches[0][
            "mon4"
        ] else "year-month-day"
    sep = numeric[0]["sep"]
    how = {
        "dmy": f"day{sep}month{sep}year",
        "mdy": f"month{sep}day{sep}year",
        "ymd": f"year{sep}month{sep}day",
    }
    if told is not None:
        return told, how[told] + " (as told)"
    firsts = {int(m["a"]) for m in numeric}
    seconds = {int(m["b"]) for m in numeric}
    years = {m["y2"] for m in numeric}
    if max(firsts) > 31 or (0 in firsts):
        return "ymd", how["ymd"]
    short_year = all(len(y) == 2 for y in years)
    can_dmy = max(firsts) <= 31 and max(seconds) <= 12
    can_mdy = max(firsts) <= 12 and max(seconds) <= 31
    if can_dmy and can_mdy:
        if sep == ".":  # no country writes the month first with points
            return "dmy", how["dmy"]
        # Within one log the day moves on and the month hardly does.
        if len(firsts) > 1 and len(seconds) == 1:
            return "dmy", how["dmy"] + " (the first number moves on)"
        if len(seconds) > 1 and len(firsts) == 1:
            return "mdy", how["mdy"] + " (the second number moves on)"
        if firsts == seconds and len(firsts) == 1:
            return "dmy", how["dmy"]
        text = numeric[0][0].split(" ")[0]
        raise FileError(
            f'{where}: "{text}" can be day{sep}month or month{sep}day. Say which: --dates dmy '
            f"or --dates mdy"
        )
    if can_dmy or can_mdy:
        order: Order = "dmy" if can_dmy else "mdy"
        if short_year and order == "dmy" and sep != "." and len(seconds) == 1:
            return order, how[order] + " (guessed: a year of two digits)"
        return order, how[order]
    return "ymd", how["ymd"]


def read_stamps(cells: Sequence[str], form: Form) -> Floats:
    """Return seconds for each cell, NaN where a cell is no stamp of this form."""
    if form.kind == "duration":
        return np.array([_duration(clean(cell)) for cell in cells], dtype=float)
    days: dict[tuple[str, ...], float] = {}
    pattern = _OF_DAY if form.kind == "of day" else _STAMP
    seconds = np.full(len(cells), np.nan)
    for k, cell in enumerate(cells):
        match = pattern.fullmatch(clean(cell))
        if match is None:
            continue
        day = 0.0
        if pattern is _STAMP:
            key = match.group(
                "y1", "m1", "d1", "compact", "a", "b", "y2", "d3", "mon3", "y3", "mon4", "d4", "y4"
            )
            known = days.get(key)
            if known is None:
                known = days[key] = _day(match, form.order)
            day = known
            if match["tight"]:
                text = match["tight"]
                seconds[k] = day + int(text[:2]) * 3600 + int(text[2:4]) * 60 + int(text[4:])
                continue
        seconds[k] = day + _of_day(match) - _offset(match["zone"])
    return seconds


def _duration(text: str) -> float:
    match = _DURATION.fullmatch(text)
    if match is None:
        return math.nan
    seconds = match["seconds"].replace(",", ".").replace(":", ".")
    total = (
        int(match["days"] or 0) * 86400.0
        + int(match["hours"] or 0) * 3600
        + int(match["minutes"]) * 60
    )
    return (total + float(seconds)) * (-1 if match["sign"] == "-" else 1)


def _of_day(match: re.Match[str]) -> float:
    if match["h"] is None:
        return 0.0
    hour, minute, second = int(match["h"]), int(match["min"]), int(match["s"] or 0)
    half = (match["half"] or "").lower()
    if half:
        if not 1 <= hour <= 12:
            return math.nan
        hour = hour % 12 + (12 if half == "p" else 0)
    if hour > 24 or minute > 59 or second > 60:
        return math.nan
    return (
        hour * 3600 + minute * 60 + second + (float("0." + match["frac"]) if match["frac"] else 0.0)
    )


def _offset(zone: str | None) -> float:
    if not zone:
        return 0.0
    text = zone.lower()
    if text in _ZONES:
        return float(_ZONES[text])
    digits = re.fullmatch(r"(?:utc|gmt)?([+-])(\d{2}):?(\d{2})?", text)
    if digits is None:
        return math.nan
    size = int(digits[2]) * 3600 + int(digits[3] or 0) * 60
    return float(size if digits[1] == "+" else -size)


def offset_of(cell: str) -> float | None:
    """Return the offset from UTC that a stamp states, in s; None if it states none."""
    match = _STAMP.fullmatch(clean(cell))
    if match is None or not match["zone"]:
        return None
    return _offset(match["zone"])


_EPOCH = date(1970, 1, 1).toordinal()


def _day(match: re.Match[str], order: Order) -> float:
    """Return the day in s since 1970-01-01; NaN if there is no such day."""
    if match["y1"]:
        year, month, day = int(match["y1"]), int(match["m1"]), int(match["d1"])
    elif match["compact"]:
        text = match["compact"]
        year, month, day = int(text[:4]), int(text[4:6]), int(text[6:])
    elif match["a"]:
        a, b, c = int(match["a"]), int(match["b"]), int(match["y2"])
        year, month, day = (
            (c, b, a) if order == "dmy" else (c, a, b) if order == "mdy" else (a, b, c)
        )
    else:
        name = folded(match["mon3"] or match["mon4"])
        month = _MONTHS.get(name, 0)
        day, year = int(match["d3"] or match["d4"]), int(match["y3"] or match["y4"])
    if year < 100:
        year += 2000
    try:
        return (date(year, month, day).toordinal() - _EPOCH) * 86400.0
    except ValueError:
        return math.nan
