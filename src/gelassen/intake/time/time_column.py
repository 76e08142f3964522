"""Finds the time column of a log, and its form."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from gelassen.core.foundation.errors import FileError
from gelassen.core.recording.units import factors
from gelassen.intake.meaning.recognise import header_words
from gelassen.intake.meaning.vocabulary import found
from gelassen.intake.text.cells import Decimal, read_value
from gelassen.intake.text.headers import Header
from gelassen.intake.text.stamps import Form, Order, find_form

_TIME = (
    "time", "timestamp", "datetime", "zeit", "uhrzeit", "zeitstempel", "zeitpunkt", "heure",
    "temps", "horodatage",
    "hora", "tiempo", "date", "datum", "fecha", "elapsed", "uptime", "epoch", "unix", "seconds",
    "sekunden", "clock time",
    "t", "ts", "s", "sec", "ms", "duration", "dauer", "duree", "verstrichen", "ecoule",
    "transcurrido", "moment", "jour",
    "tag", "dia", "when",
)  # fmt: skip
_ELAPSED = (
    "elapsed", "duration", "dauer", "laufzeit", "verstrichen", "ecoule", "duree", "transcurrido",
    "uptime", "runtime",
    "relative", "relativ", "since start", "seit start", "duracion",
)  # fmt: skip
_EPOCH = {"s": (6e8, 6e9), "ms": (6e11, 6e12), "µs": (6e14, 6e15), "ns": (6e17, 6e18)}
_EXCEL_DAY_ZERO_S = -2_209_161_600.0  # 1899-12-30, day 0 of spreadsheets


@dataclass(frozen=True, slots=True)
class TimeColumn:
    """The column (or columns) of the time.

    Attributes
    ----------
    columns
        Position of the column, or of date and time of day.
    forms
        Form of each, None for numbers.
    kind
        "stamps", "elapsed" (numbers that count from the start) or "epoch" (from a known moment).
    scale, zero_s
        Numbers become ``value * scale + zero_s`` seconds.
    words
        For people.
    guessed
        What was guessed about it; "" if nothing.
    """

    columns: tuple[int, ...]
    forms: tuple[Form | None, ...]
    kind: Literal["stamps", "elapsed", "epoch"]
    words: str
    scale: float = 1.0
    zero_s: float = 0.0
    guessed: str = ""


def find_time(
    headers: Sequence[Header],
    samples: Sequence[Sequence[str]],
    decimals: Mapping[str, Decimal],
    main: Decimal,
    *,
    named_columns: Sequence[int] = (),
    dates: Order | None = None,
    where: str,
) -> TimeColumn:
    """Find the time of a log.

    Raises
    ------
    FileError
        No column is a time, or one can be read in two ways.
    """
    named = list(named_columns) or [k for k, header in enumerate(headers) if names_time(header)]
    forms: dict[int, Form] = {}
    for k in named if named_columns else range(len(headers)):
        if not named_columns and k not in named and not _looks_stamped(samples[k]):
            continue
        place = f'{where}, column "{headers[k].text}"'
        elapsed = found(_ELAPSED, header_words(headers[k].words))
        form = find_form(samples[k], day_order=dates, elapsed=elapsed, where=place)
        if form is not None:
            forms[k] = form
    stamps = _from_stamps(forms, named)
    if stamps is not None:
        return stamps
    numbers = [k for k in named if k not in forms]
    for k in sorted(numbers, key=lambda k: headers[k].text != "t_s"):
        mark = decimals.get(headers[k].text, main)
        plan = _numeric(k, headers[k], samples[k], mark, is_named=bool(named_columns))
        if plan is not None:
            return plan
    for kinds in (("duration",), ("of day", "duration")):
        group = [k for k in forms if forms[k].kind in kinds]
        if group:
            k = _best(group, named)
            doubt = forms[k].guessed
            guessed = f'"{headers[k].text}" is taken for {doubt}' if doubt else ""
            return TimeColumn((k,), (forms[k],), "stamps", forms[k].words, guessed=guessed)
    raise _no_time([k for k in forms if forms[k].kind == "date"], headers, where)


def _from_stamps(forms: Mapping[int, Form], named: Sequence[int]) -> TimeColumn | None:
    """Return a column of full stamps, or one of dates and one of times of day; None without these."""
    moments = [k for k in forms if forms[k].kind == "moment"]
    if moments:
        k = _best(moments, named)
        return TimeColumn((k,), (forms[k],), "stamps", forms[k].words)
    days = [k for k in forms if forms[k].kind == "date"]
    of_day = [k for k in forms if forms[k].kind in ("of day", "duration")]
    if not days or not of_day:
        return None
    day, hour = days[0], of_day[0]
    clock = forms[hour]
    if clock.kind == "duration":  # beside a date, 00:00:05 is a time of day
        clock = Form("of day", "time of day")
    words = f"{forms[day].words} and {clock.words}, apart"
    return TimeColumn((day, hour), (forms[day], clock), "stamps", words)


def _no_time(days: Sequence[int], headers: Sequence[Header], where: str) -> FileError:
    if days:
        return FileError(
            f'{where}: column "{headers[days[0]].text}" holds dates, but no column the time of day. '
            'Say which one does: --column "HEADER=t_s"'
        )
    more = " …" if len(headers) > 12 else ""
    shown = ", ".join(f'"{header.text}"' for header in headers[:12]) + more
    return FileError(
        f'{where}: no column holds the time (columns: {shown}). Say which one: --column "HEADER=t_s"'
    )


def names_time(header: Header) -> bool:
    """Return whether a header's words name the time."""
    text = header_words(header.words)
    if header.text.strip() == "t_s":
        return True
    if not found(_TIME, text):
        return False
    # "temps" is French for time and English for temperatures; "frame time" is a reading.
    other = found(
        (
            "temperat",
            "temp",
            "cpu",
            "gpu",
            "core",
            "fan",
            "power",
            "clock speed",
            "load",
            "frame",
            "throttl",
        ),
        text,
    )
    return not other or text == "temps"


def _looks_stamped(cells: Sequence[str]) -> bool:
    first = next((cell for cell in cells if cell.strip()), "")
    return (":" in first or "-" in first[1:] or "/" in first or first.count(".") == 2) and any(
        c.isdigit() for c in first
    )


def _best(columns: Sequence[int], named: Sequence[int]) -> int:
    return next((k for k in columns if k in named), columns[0])


def _numeric(
    k: int, header: Header, cells: Sequence[str], decimal: Decimal, *, is_named: bool
) -> TimeColumn | None:
    read = [read_value(cell, decimal) for cell in cells if cell.strip()]
    values = np.array([v.number for v in read if v is not None and v.number == v.number])
    if values.size < max(1, 0.6 * len(read)):
        return None
    middle = float(np.median(values))
    for unit, (low, high) in _EPOCH.items():
        if low <= middle <= high:
            scale = {"s": 1.0, "ms": 1e-3, "µs": 1e-6, "ns": 1e-9}[unit]
            return TimeColumn((k,), (None,), "epoch", f"{unit} since 1970", scale)
    steps = np.diff(values)
    steps = steps[steps > 0]
    step = float(np.median(steps)) if steps.size else 0.0
    text = header_words(header.words)
    unit = header.unit or next(
        (w for w in text.split() if w in ("ms", "msec", "millis", "milliseconds")), ""
    )
    if unit:
        conversion = factors(unit, "s")
        if conversion is None:
            return None
        return TimeColumn((k,), (None,), "elapsed", f"elapsed, in {unit}", conversion.scale)
    if header.text == "t_s" or text in ("s", "sec", "seconds", "sekunden"):
        return TimeColumn((k,), (None,), "elapsed", "elapsed, in s")
    if 20_000 < middle < 80_000 and 0 < step < 0.05 and float(np.ptp(values)) < 400:
        return TimeColumn(
            (k,), (None,), "epoch", "days since 1899-12-30, as spreadsheets count", 86400.0,
            _EXCEL_DAY_ZERO_S,
            guessed=f'"{header.text}" is taken for days since 1899-12-30',
        )  # fmt: skip
    # Nobody logs a computer every 100 s or slower by whole hundreds: such steps are milliseconds.
    if step >= 100 and step % 10 == 0:
        return TimeColumn(
            (k,), (None,), "elapsed", "elapsed, in ms", 1e-3,
            guessed=f'"{header.text}" names no unit: taken as ms from its steps of {step:g}',
        )  # fmt: skip
    guessed = (
        "" if is_named else f'"{header.text}" names no unit: taken as s from its steps of {step:g}'
    )
    return TimeColumn((k,), (None,), "elapsed", "elapsed, in s", guessed=guessed)
