"""The forms of time stamps in logs."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from gelassen.core.foundation.errors import FileError

Order = Literal["ymd", "dmy", "mdy"]
ORDERS: tuple[Order, ...] = ("ymd", "dmy", "mdy")

# Digits are 0 to 9 and no others: positions of digits are read as numbers (`stampread`).
_YMD = r"(?P<y1>[0-9]{4})[-/. ](?P<m1>[0-9]{1,2})[-/. ](?P<d1>[0-9]{1,2})|(?P<compact>(?:19|20)[0-9]{6})"
_NUMERIC = r"(?P<a>[0-9]{1,2})(?P<sep>[-/.]) ?(?P<b>[0-9]{1,2})(?P=sep) ?(?P<y2>[0-9]{4}|[0-9]{2})"
_NAMED = (
    r"(?P<d3>[0-9]{1,2})(?:st|nd|rd|th)?\.?[ -](?:de )?(?P<mon3>[^\W\d_]{3,10})\.?,?[ -](?:de "
    r")?(?P<y3>[0-9]{4}|[0-9]{2})"
    r"|(?P<mon4>[^\W\d_]{3,10})\.? (?P<d4>[0-9]{1,2})(?:st|nd|rd|th)?,? (?P<y4>[0-9]{4})"
)
_DATE = rf"(?:[^\W\d_]{{2,10}}\.?,? )?(?:{_YMD}|{_NUMERIC}|{_NAMED})"
_CLOCK = (
    r"(?P<h>[0-9]{1,2})[:h](?P<min>[0-9]{2})(?:[:m](?P<s>[0-9]{2})(?:[.,:](?P<frac>[0-9]{1,9}))?s?)?"
    r"(?: ?(?P<half>[ap])\.? ?m\.?)?"
)
_OFFSET = r"(?: ?(?P<zone>[zZ]|[A-Za-z]{3,4}|(?:UTC|GMT)?[+-][0-9]{2}:?(?:[0-9]{2})?))?"
STAMP = re.compile(
    rf"(?:{_DATE})(?:(?:,? +| ?[tT_] ?|-)(?:{_CLOCK}|(?P<tight>[0-9]{{6}})){_OFFSET})?",
    re.IGNORECASE,
)
OF_DAY = re.compile(_CLOCK + _OFFSET, re.IGNORECASE)
DURATION = re.compile(
    r"(?P<sign>[+-])?(?:(?P<days>[0-9]+)(?: ?d(?:ays?)?,? ?|\.(?=[0-9]{1,2}:)))?"
    r"(?:(?P<hours>[0-9]+):)?(?P<minutes>[0-9]{1,4}):(?P<seconds>[0-9]{2}(?:[.,:][0-9]{1,9})?)"
)
_LONGEST = 64


@dataclass(frozen=True, slots=True)
class Form:
    """The form of the stamps of a log.

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
    text = cell.strip().strip("'\"").replace("\u2212", "-")
    return " ".join(text.split())[:_LONGEST]


def find_form(
    cells: Sequence[str],
    *,
    day_order: Order | None = None,
    elapsed: bool = False,
    where: str = "the log",
) -> Form | None:
    """Return the form of the stamps; None if the cells are not stamps.

    Parameters
    ----------
    cells
        A sample of the cells, in order.
    day_order
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
    matches = [m for m in map(STAMP.fullmatch, texts) if m]
    if len(matches) >= max(1, 0.6 * len(texts)):
        with_clock = sum(1 for m in matches if m["h"] or m["tight"])
        order, how = _order(matches, day_order, where)
        kind: Literal["moment", "date"] = "moment" if with_clock > len(matches) / 2 else "date"
        offset = sum(1 for m in matches if m["zone"]) > len(matches) / 2
        words = f"date and time, {how}" if kind == "moment" else f"date, {how}"
        twelve = any(m["half"] for m in matches)
        words += ", 12-hour clock" if twelve else ""
        return Form(kind, words + (" with offset" if offset else ""), order, offset, twelve)
    durations = sum(1 for text in texts if DURATION.fullmatch(text))
    of_day = [
        m for m in map(OF_DAY.fullmatch, texts) if m and int(m["h"]) < 24 and int(m["min"]) < 60
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


def _order(
    matches: Sequence[re.Match[str]], day_order: Order | None, where: str
) -> tuple[Order, str]:
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
    if day_order is not None:
        return day_order, how[day_order] + " (as told)"
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
