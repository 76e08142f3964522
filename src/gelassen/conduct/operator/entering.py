"""Runs without a log: what the tester read off a screen, checked and stored as runs of a study."""

import csv
import math
import re
from collections.abc import Collection, Mapping
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
from gelassen.system.files import read_bytes

# What may be entered: the key of a reading, what it is, its unit, other headers in a table.
FIELDS: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "highest_c": ("highest temperature under load", "°C", ("highest", "max", "maximum", "peak")),
    "mean_c": ("mean temperature under load", "°C", ("mean", "average", "avg")),
    "end_c": ("temperature at the end of the load", "°C", ("end", "last", "steady")),
    "rest_c": ("temperature at rest", "°C", ("rest", "idle", "min", "lowest")),
    "room_c": ("room temperature", "°C", ("room", "ambient")),
    "room_se": ("standard error of the room", "K", ("room error",)),
    "power_w": ("power", "W", ("power",)),
    "clock_mhz": ("clock", "MHz", ("clock",)),
    "fan_rpm": ("fan speed", "rpm", ("fan", "fan speed")),
    "score": ("score", "", ("score", "points", "frames")),
    "noise_dba": ("noise", "dB(A)", ("noise",)),
    "minutes": ("length of the load", "min", ("minutes", "length", "duration")),
}
# K: a room stated without its doubt is known as well as one that somebody noted (core/settling, Noted).
STATED_ROOM_SE_K = 0.7
_BESIDE = {"room_c", "room_se", "minutes"}  # readings that tell nothing by themselves
_LEVEL = "level of "
_TEMPERATURES = ("highest_c", "mean_c", "end_c", "rest_c", "room_c")
# °C beyond which a reading is more likely °F: no chip of today is run that hot, or rests that hot.
_TOO_HOT_C = {"room_c": 45.0, "rest_c": 75.0}
_TOO_HOT_USUALLY_C = 112.0
_DELIMITERS = (",", ";", "\t", "|")
_NUMBER = re.compile(r"([-+]?\d+(?:[.,]\d+)?)\s*(°?\s*[FfCcKk]|[A-Za-z%()]*)\s*")


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """One run as it is entered.

    Its setup, its readings by the names in `FIELDS`, when it was, levels that differ from the setup's,
    the program that ran, and how an attempt ended (`study/disk/run_file.py`, ATTEMPTS).
    """

    setup: str
    readings: Mapping[str, float] = field(default_factory=dict)
    note: str = ""
    started: datetime | None = None
    mount: str | None = None
    levels: Mapping[str, str | float] = field(default_factory=dict)
    ending: str = ""
    load: str | None = None


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
    ensure_setup(study, entry.setup, limit_c=limit_c, new_setup=new_setup)
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


def entries_of_table(path: Path, factors: Collection[str] = ()) -> list[Entry]:
    """Return the runs in a table with one row a run: CSV, or a workbook.

    The columns are named as the options of ``gelassen enter`` are (setup, highest, mean, end, rest, room,
    power, clock, fan, score, noise, minutes, load, note, when, mount), or by the keys of `FIELDS`. A column
    that is named like one of `factors` gives its level in each run.

    Raises
    ------
    FileError
        The file cannot be read, a header is unknown, or a row contradicts itself; the line is named.
    """
    header, rows = _cells(path)
    places = {place: _meaning(path, name, factors) for place, name in enumerate(header) if name}
    if "setup" not in places.values():
        raise FileError(f'{path}: no column is called "setup" (found: {", ".join(header)})')
    entries = []
    for line, row in rows:
        cells = {
            places[k]: text.strip() for k, text in enumerate(row) if k in places and text.strip()
        }
        if not cells:
            continue
        try:
            entries.append(_entry(cells))
        except InputError as error:
            raise FileError(f"{path}, line {line}: {error}. Nothing was stored") from None
    if not entries:
        raise FileError(f"{path} has no rows below its header")
    return entries


def _entry(cells: Mapping[str, str]) -> Entry:
    if "setup" not in cells:
        raise InputError("the setup is missing")
    readings = {name: parse_reading(name, cells[name]) for name in FIELDS if name in cells}
    entry = Entry(
        setup=cells["setup"], readings=readings, note=cells.get("note", ""),
        ending=cells.get("ending", "").lower(),
        started=parse_moment(cells["when"]) if "when" in cells else None, mount=cells.get("mount"),
        load=cells.get("load"),
        levels={
            name.removeprefix(_LEVEL): parse_level(text)
            for name, text in cells.items() if name.startswith(_LEVEL)
        },
    )  # fmt: skip
    check_entry(entry)
    return entry


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


def _meaning(path: Path, header: str, factors: Collection[str]) -> str:
    """Return what a column holds."""
    plain = re.sub(r"[\s_]+", " ", re.sub(r"[\[(].*?[\])]|°\s*[CF]\b", "", header)).strip().lower()
    known = {
        "setup": "setup",
        "ending": "ending",
        "outcome": "ending",
        "note": "note",
        "when": "when",
        "date": "when",
        "mount": "mount",
        "load": "load",
        "program": "load",
        "workload": "load",
    }
    for name, (_, _, others) in FIELDS.items():
        known |= dict.fromkeys((name.replace("_", " "), *others), name)
    known |= {name.replace("_", " ").lower(): f"{_LEVEL}{name}" for name in factors}
    if plain not in known:
        raise FileError(
            f'{path}: "{header}" is no column of a table of runs ({", ".join(known)}).'
            + nearest(plain, known)
        )
    return known[plain]


def _cells(path: Path) -> tuple[list[str], list[tuple[int, list[str]]]]:
    """Return header and rows, each with its line, as texts."""
    if not path.is_file():
        raise FileError(f"{path}: there is no such file")
    if path.suffix.lower() in (".xlsx", ".ods", ".xls"):
        rows = _sheet(path)
    else:
        try:
            text = read_bytes(path).decode("utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            raise FileError(f"{path} cannot be read as a table in UTF-8: {error}") from None
        first = text.split("\n", 1)[0]
        rows = list(csv.reader(text.splitlines(), delimiter=max(_DELIMITERS, key=first.count)))
    if not rows:
        raise FileError(f"{path} is empty")
    return [cell.strip() for cell in rows[0]], list(enumerate(rows[1:], start=2))


def _sheet(path: Path) -> list[list[str]]:
    """Return the cells of the first sheet of a workbook."""
    import pandas as pd

    try:
        table = pd.read_excel(path, header=None, dtype=str, engine="calamine")
    except ImportError:
        raise FileError(
            f"{path} is a workbook: pip install 'gelassen[excel]', or save it as CSV"
        ) from None
    except Exception as error:  # the reader of workbooks has errors of its own
        raise FileError(f"{path} cannot be read as a workbook: {error}") from None
    return [list(map(str, row)) for row in table.fillna("").to_numpy()]
