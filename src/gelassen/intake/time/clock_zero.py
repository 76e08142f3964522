"""When a log began, by the wall clock."""

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta, timezone
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.intake.text.stamps import Form, find_form
from gelassen.intake.time.stamp_reading import offset_of, read_stamps

_MOMENT = re.compile(
    r"(?:\d{4}[-/.]\d{1,2}[-/.]\d{1,2}|\d{1,2}[./-]\d{1,2}[./-]\d{4})(?:[ "
    r"T,]+\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?"
    r"(?: ?[AaPp]\.?[Mm]\.?)?)?(?: ?(?:Z|[+-]\d{2}:?\d{2}))?"
)


def from_utc(seconds: float, offset_s: float) -> datetime:
    """Return a moment given in UTC as the clock with this offset showed it."""
    zone = timezone(timedelta(seconds=offset_s))
    return _moment(seconds).astimezone(zone)


def from_local(seconds: float, zone: str | None) -> tuple[datetime, str]:
    """Return a moment given by a local clock, and what had to be assumed.

    Raises
    ------
    InputError
        The zone is not known.
    """
    naive = _moment(seconds).replace(tzinfo=None)
    if zone is not None:
        return naive.replace(tzinfo=_zone(zone)), ""
    aware = naive.astimezone()
    offset = aware.strftime("%z")
    return aware, (
        f"the log states no offset from UTC: its clock is taken as this machine's "
        f"(UTC{offset[:3]}:{offset[3:]}); "
        "say which with --zone"
    )


def _zone(name: str) -> ZoneInfo | timezone:
    match = re.fullmatch(r"(?:UTC)?([+-])(\d{2}):?(\d{2})", name)
    if match:
        size = timedelta(hours=int(match[2]), minutes=int(match[3]))
        return timezone(size if match[1] == "+" else -size)
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise InputError(
            f'"{name}" is not a time zone. Write it like "Europe/Vienna", "UTC" or "+01:00"'
        ) from None


def _moment(seconds: float) -> datetime:
    try:
        return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(seconds=round(seconds, 6))
    except OverflowError:
        raise FileError(f"a time stamp of {seconds:g} s since 1970 is not a date") from None


def from_preamble(
    lines: Sequence[str], of_day_s: float | None, zone: str | None
) -> tuple[datetime | None, str]:
    """Return the start that the lines above a table state, and the words about it.

    Parameters
    ----------
    lines
        Lines above the header.
    of_day_s
        Time of day of the first sample, in s; None for a log that counts from its start.
    """
    for line in lines:
        for match in _MOMENT.finditer(line):
            text = match[0]
            try:
                form = find_form([text])
            except FileError:
                continue  # day or month first: not told, so not used
            if form is None or form.kind not in ("moment", "date"):
                continue
            seconds = float(read_stamps([text], form)[0])
            if seconds != seconds:
                continue
            return _start(text, form, seconds, of_day_s, zone)
    return None, ""


def _start(
    text: str, form: Form, seconds: float, of_day_s: float | None, zone: str | None
) -> tuple[datetime | None, str]:
    if of_day_s is not None:
        seconds = seconds - seconds % 86_400 + of_day_s
    elif form.kind == "date":
        return None, ""  # a day alone does not say when
    offset = offset_of(text)
    if offset is not None and of_day_s is None:
        return from_utc(seconds, offset), f'its start from "{text}" above the table'
    started, assumed = from_local(seconds, zone)
    return started, f'its date from "{text}" above the table' + (f"; {assumed}" if assumed else "")
