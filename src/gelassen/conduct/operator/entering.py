"""Runs without a log: what the tester read off a screen, checked and stored as runs of a study."""

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise
from pathlib import Path

from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.study.disk.run_file import ATTEMPTS, ReadByHand, RunFile, versions
from gelassen.study.disk.writer import RUN_JSON, new_run_folder, write_json
from gelassen.study.file.durations import seconds
from gelassen.study.file.new_study import ensure_setup
from gelassen.study.file.reader import read_study_file
from gelassen.study.file.study_file import STUDY_FILE

# What may be entered: the key of a reading, what it is, its unit, other headers in a table.
FIELDS: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "highest_c": (
        "highest temperature under load",
        "°C",
        ("highest", "hottest", "max", "maximum", "peak", "tmax"),
    ),
    "mean_c": ("mean temperature under load", "°C", ("mean", "average", "avg")),
    "end_c": ("temperature at the end of the load", "°C", ("end", "last", "steady")),
    "rest_c": ("temperature at rest", "°C", ("rest", "idle", "min", "minimum", "lowest")),
    "room_c": ("room temperature", "°C", ("room", "ambient")),
    "room_se": ("standard error of the room", "K", ("room error",)),
    "power_w": ("power", "W", ("power", "watts")),
    "clock_mhz": ("clock", "MHz", ("clock", "frequency")),
    "fan_rpm": ("fan speed", "rpm", ("fan", "fan speed")),
    "score": ("score", "", ("score", "points", "frames", "fps")),
    "noise_dba": ("noise", "dB(A)", ("noise",)),
    "minutes": ("length of the load", "min", ("minutes", "length", "duration", "runtime")),
}
# K: a room stated without its doubt is known as well as one that somebody noted (core/settling, Noted).
STATED_ROOM_SE_K = 0.7
_BESIDE = {"room_c", "room_se", "minutes"}  # readings that tell nothing by themselves
_TEMPERATURES = ("highest_c", "mean_c", "end_c", "rest_c", "room_c")
# °C beyond which a reading is more likely °F: no chip of today is run that hot, or rests that hot.
_TOO_HOT_C = {"room_c": 45.0, "rest_c": 75.0}
_TOO_HOT_USUALLY_C = 112.0
_NUMBER = re.compile(r"([-+]?\d+(?:[.,]\d+)?)\s*(°?\s*[FfCcKk]|[A-Za-z%()]*)\s*")


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One run as it is entered.

    Its setup, its readings by the names in `FIELDS`, when it was, levels that differ from the setup's,
    the program that ran, and how an attempt ended (`study/disk/run_file.py`, ATTEMPTS). `setup_levels` are
    those of the setup itself, where they say which it is. `details` is factor to level to what else is
    known of it, such as its price.
    """

    setup: str
    readings: Mapping[str, float] = field(default_factory=dict)
    note: str = ""
    started: datetime | None = None
    mount: str | None = None
    levels: Mapping[str, str | float] = field(default_factory=dict)
    ending: str = ""
    load: str | None = None
    setup_levels: Mapping[str, str | float] = field(default_factory=dict)
    details: Mapping[str, Mapping[str, Mapping[str, str | float]]] = field(default_factory=dict)


def parse_reading(name: str, text: str, *, sure: bool = False) -> float:
    """Return a reading as it is typed: ``78.5``, ``78,5``, ``172 °F``, ``20 min``.

    Parameters
    ----------
    name
        One of `FIELDS`.
    text
        What was typed.
    sure
        Whether a temperature that looks like °F is meant in °C.

    Raises
    ------
    InputError
        It is no number, or it cannot be meant.
    """
    what, unit, _ = FIELDS[name]
    if name == "minutes" and re.search(r"[a-z]", text.lower()):
        return seconds(text) / 60
    match = _NUMBER.fullmatch(text.strip())
    if match is None:
        raise InputError(f'{what}: "{text}" is no number. Write it like 78.5')
    value, said = float(match[1].replace(",", ".")), match[2].replace(" ", "").lstrip("°").upper()
    if name not in _TEMPERATURES:
        if not math.isfinite(value) or value < 0:
            raise InputError(f"{what}: {value:g} {unit} cannot be".rstrip())
        return value
    if said == "F":
        value = (value - 32) / 1.8
    elif said == "K":
        value -= 273.15
    elif not said and not sure and value > _TOO_HOT_C.get(name, _TOO_HOT_USUALLY_C):
        raise InputError(
            f"{what}: is {value:g} in °F? That would be {(value - 32) / 1.8:.1f} °C. Write {value:g}F, or "
            f"{value:g}C if it is meant so"
        )
    if not -50 < value < 200:
        raise InputError(f"{what}: {value:.1f} °C cannot be")
    return value


def parse_room(text: str) -> tuple[float, float]:
    """Return a room and its standard error from ``23``, ``22.5 ± 0.3`` or ``22.5+-0.3``, °C and K.

    Raises
    ------
    InputError
        One of them is no number, or cannot be.
    """
    room, _, error = text.replace("±", "+-").partition("+-")
    if not error.strip():
        return parse_reading("room_c", room), STATED_ROOM_SE_K
    error_k = parse_reading("room_se", error)
    if not 0 < error_k <= 20:
        raise InputError(f'"{text}": a standard error between 0 and 20 K is needed')
    return parse_reading("room_c", room), error_k


def check_readings(readings: Mapping[str, float], where: str = "") -> None:
    """Refuse readings that contradict each other, or that tell nothing.

    Raises
    ------
    InputError
        Saying which.
    """
    at = f"{where}: " if where else ""
    if not any(name in readings for name in FIELDS if name not in _BESIDE):
        raise InputError(f"{at}nothing was read: give a temperature, a score, a power or a clock")
    order = [name for name in ("rest_c", "mean_c", "highest_c") if name in readings]
    for low, high in pairwise(order):
        if readings[low] > readings[high]:
            raise InputError(
                f"{at}the {FIELDS[low][0]} ({readings[low]:g} °C) is above the {FIELDS[high][0]} "
                f"({readings[high]:g} °C)"
            )
    if "end_c" in readings and readings["end_c"] > readings.get("highest_c", math.inf):
        raise InputError(f"{at}the {FIELDS['end_c'][0]} is above the {FIELDS['highest_c'][0]}")
    if readings.get("minutes") == 0:
        raise InputError(f"{at}a load of no length warms nothing")


def check_entry(entry: Entry) -> None:
    """Refuse a run that says nothing, or contradicts itself."""
    if entry.ending and entry.ending not in ATTEMPTS:
        raise InputError(
            f'"{entry.ending}" is no way an attempt ends ({", ".join(ATTEMPTS)}).'
            + nearest(entry.ending, ATTEMPTS)
        )
    if not (entry.ending and set(entry.readings) <= _BESIDE):
        check_readings(entry.readings, entry.setup)


def enter_run(
    study: Path, entry: Entry, *, new_setup: bool = False, limit_c: float | None = None
) -> Path:
    """Store one run and return its folder.

    Raises
    ------
    FileError, InputError
        The study cannot be written, does not know the setup, or readings contradict each other.
    """
    check_entry(entry)
    ensure_setup(
        study, entry.setup, limit_c=limit_c, new_setup=new_setup, levels=entry.setup_levels,
        details=entry.details,
    )  # fmt: skip
    content = read_study_file(study / STUDY_FILE)
    run = RunFile(
        outcome="entered",
        started=None if entry.started is None else entry.started.isoformat(),
        setup=entry.setup,
        levels={**content.setups.get(entry.setup, {}), **entry.levels},
        limit_c=content.machine.limit_c,
        made_up=content.made_up,
        mount=entry.mount,
        load=entry.load,
        by_hand=ReadByHand(**dict(entry.readings), note=entry.note, ending=entry.ending),
        versions=versions(),
    )
    try:
        folder = new_run_folder(study / "runs", entry.setup)
        write_json(folder / RUN_JSON, run.model_dump(mode="json"))
    except OSError as error:
        raise FileError(f"{study}: the run cannot be stored ({error.strerror or error})") from None
    return folder


def parse_level(text: str) -> str | float:
    """Return a level of a factor: a number if it is one."""
    try:
        return float(text.replace(",", "."))
    except ValueError:
        return text


def parse_moment(text: str) -> datetime:
    """Return a moment; one without an offset is in this machine's zone."""
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        raise InputError(f'"{text}" is no moment: write it like 2026-03-02T14:05') from None
    return found if found.tzinfo is not None else found.astimezone()
