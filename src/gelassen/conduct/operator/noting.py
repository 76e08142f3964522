"""Readings and events that people add to a run, checked and stored at their moment."""

import math
import re
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.core.recording.channels import parse_channel
from gelassen.study.disk.journal import goes_on
from gelassen.study.disk.notes import Note, add_note
from gelassen.study.disk.run_file import RunFile, read_run_file
from gelassen.study.disk.samples import last_time_s
from gelassen.study.disk.writer import RUN_JSON
from gelassen.study.file.durations import seconds

_PAIR = re.compile(r"([A-Za-z0-9_]+(?:\.[A-Za-z0-9_]+)+)\s*=\s*(.*)")
_CLOCK = re.compile(r"(?:(\d+):)?(\d{1,2}):(\d{2}(?:\.\d+)?)")


def add_by_hand(run: Path, entries: Sequence[str], *, at: str | None = None) -> str:
    """Add entries to a run folder and return what was added, in words.

    Parameters
    ----------
    run
        The run's folder.
    entries
        Readings such as ``room.air.temp_c=21.3``, and words.
    at
        When: since the start of the recording (``05:10``, ``310 s``), or a time of day with its
        date. Now, for a run that goes on.

    Raises
    ------
    FileError
        There is no run in this folder.
    InputError
        A reading that cannot be meant, or a moment that is not within the run.
    """
    if not (run / RUN_JSON).exists():
        raise FileError(f"{run} holds no run. A study keeps its runs in runs/")
    file = read_run_file(run / RUN_JSON)
    last_s = last_time_s(run)
    live = goes_on(run)
    if at is None:
        if not live:
            raise InputError(
                f"{run.name} is no longer recorded: say when it was, such as --at 05:10"
            )
        at_s = last_s
    else:
        at_s = moment_s(at, file)
    # A note may come before the next sample.
    if not 0 <= at_s <= last_s + (60 if live else 0):
        raise InputError(
            f"--at {at}: {_clock(at_s)} after the start is not within the run, which lasts {_clock(last_s)}"
        )
    readings: dict[str, float] = {}
    words = []
    for entry in entries:
        pair = _PAIR.fullmatch(entry.strip())
        if pair:
            readings[pair[1]] = _reading(pair[1], pair[2], file)
        else:
            words.append(entry.strip())
    add_note(run, Note(at_s, readings, " ".join(words)))
    said = [f"{name} {value:g} {parse_channel(name).symbol}" for name, value in readings.items()]
    return f"{run.name}, {_clock(at_s)}: " + ", ".join([*said, *words])


def _reading(name: str, text: str, file: RunFile) -> float:
    parse_channel(name)
    if name in file.channels:
        part, item, quantity = name.split(".")
        raise InputError(
            f"{name} is recorded by the run itself; give the reading by hand another name, such as "
            f"{part}.{item}_by_hand.{quantity}"
        )
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise InputError(f'{name}: "{text}" is not a number') from None
    return value


def moment_s(text: str, file: RunFile) -> float:
    """Return a moment of a run in s from its start."""
    if match := _CLOCK.fullmatch(text.strip()):
        return 3600 * int(match[1] or 0) + 60 * int(match[2]) + float(match[3])
    if re.match(r"\d{4}-\d\d-\d\d[T ]", text):
        if file.started is None:
            raise InputError(f"--at {text}: the run does not know when it was started")
        started = datetime.fromisoformat(file.started)
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            raise InputError(f"--at {text} is not a time: write it like 2026-03-02T14:05") from None
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=started.tzinfo)
        return (moment - started).total_seconds()
    try:
        return seconds(text)
    except InputError:
        hint = nearest(text, ["05:10", "310 s", "5 min"])
        raise InputError(
            f'--at "{text}" is not a time: write 05:10 since the start, 310 s, or 2026-03-02T14:05.{hint}'
        ) from None


def _clock(at_s: float) -> str:
    sign, whole = ("-" if at_s < 0 else ""), abs(round(at_s))
    hours, rest = divmod(whole, 3600)
    minutes, left = divmod(rest, 60)
    return f"{sign}{hours}:{minutes:02}:{left:02}" if hours else f"{sign}{minutes:02}:{left:02}"
