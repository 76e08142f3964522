"""A table with one row a run, as a tester keeps it: which column is what, and the runs in it."""

import csv
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from gelassen.conduct.operator.entering import (
    FIELDS,
    Entry,
    check_entry,
    parse_level,
    parse_moment,
    parse_reading,
)
from gelassen.core.foundation.errors import FileError, InputError
from gelassen.core.foundation.spelling import nearest
from gelassen.system.files import read_bytes

IGNORED, FACTOR, DETAIL = "ignore", "factor", "detail"
_LEVEL, _DETAIL = "level of ", "detail: "
_DELIMITERS = (",", ";", "\t", "|")
_WORDS = {
    "setup": ("setup", "configuration", "config", "variant"),
    "ending": ("ending", "outcome", "result", "status", "stable", "ended"),
    "note": ("note", "notes", "remark", "remarks", "comment", "comments"),
    "when": ("when", "date"),
    "mount": ("mount", "mounting"),
    "load": ("load", "program", "workload"),
}
# Units that say by themselves what a column holds.
_UNITS = {
    "w": "power_w", "watt": "power_w", "watts": "power_w", "rpm": "fan_rpm", "mhz": "clock_mhz",
    "ghz": "clock_mhz", "db": "noise_dba", "dba": "noise_dba", "fps": "score", "min": "minutes",
}  # fmt: skip
# Words that together say how long a load ran.
_LENGTH = {
    "run",
    "time",
    "load",
    "length",
    "duration",
    "of",
    "the",
    "min",
    "minutes",
    "s",
    "sec",
    "h",
}
# Words that tell no two columns of such a table apart.
_FILLER = {
    "cpu", "processor", "package", "pkg", "core", "cores", "temp", "temps", "temperature", "under", "load",
    "the", "of", "in", "at", "level", "total", "c", "f", "t", "air",
}  # fmt: skip
# Parts whose readings are no results of the judged part.
_OTHER_PARTS = {
    "gpu", "graphics", "hotspot", "vrm", "regulator", "ssd", "nvme", "memory", "ram", "board", "chipset",
    "coolant", "water", "psu", "supply",
}  # fmt: skip
# What is known of a cooler, say, and not of a run.
_DETAILS = {"price": "price", "cost": "price", "weight": "weight", "size": "size"}
# What a tester may say of a column.
_MEANINGS = (*_WORDS, *(others[0] for _, _, others in FIELDS.values()), FACTOR, DETAIL, IGNORED)
_MEAN = ("avg", "average", "mean")
# What testers write for the ways in which an attempt ends.
_ENDINGS = {
    "held": ("stable", "passed", "pass", "ok", "yes", "fine"),
    "held back": ("throttled", "throttling", "throttles"),
    "unstable": ("crash", "crashed", "error", "errors", "failed", "fail", "no"),
    "shut down": ("shutdown", "off"),
    "would not start": ("no boot", "no start", "did not start"),
}
_NOTHING = {"-", "–", "—", "n/a", "na", "?", "none"}


def entries_of_table(
    path: Path, factors: Collection[str] = (), columns: Mapping[str, str] | None = None
) -> list[Entry]:
    """Return the runs in a table with one row a run: CSV, or a workbook.

    Parameters
    ----------
    path
        The table. Its headers are the options of ``gelassen enter`` (setup, highest, mean, end, rest, room,
        power, clock, fan, score, noise, minutes, load, note, when, mount), the keys of `FIELDS`, or what
        testers write for them ("Max temp (°C)", "Package W").
    factors
        Factors of the study: a column of such a name gives the level of each run. Without a column of
        setups, columns of words are factors, and the levels of a row name its setup.
    columns
        What headers mean, where they do not say it: an option of ``gelassen enter``, "factor" or "ignore".

    Raises
    ------
    FileError
        The file cannot be read, a header is unknown, or a row contradicts itself; the line is named.
    """
    header, rows = _cells(path)
    places = _places(path, header, rows, factors, columns or {})
    entries = []
    told = _Details(path, [name for name in places.values() if name.startswith(_LEVEL)])
    for line, row in rows:
        cells = {
            places[k]: _with_unit(places[k], text.strip(), header[k])
            for k, text in enumerate(row)
            if k in places and text.strip() and text.strip().lower() not in _NOTHING
        }
        if not cells:
            continue
        try:
            entries.append(_entry(cells))
        except InputError as error:
            raise FileError(f"{path}, line {line}: {error}. Nothing was stored") from None
        told.hear(cells)
    if not entries:
        raise FileError(f"{path} has no rows below its header")
    return [replace(entry, details=told.of_levels()) for entry in entries]


@dataclass(slots=True)
class _Details:
    """What is known of the levels of a factor: prices, say, each the same in all rows of its level."""

    path: Path
    factors: list[str]  # columns, in their order
    _heard: dict[tuple[str, str, str], set[str | float]] = field(default_factory=dict)

    def hear(self, cells: Mapping[str, str]) -> None:
        """Take the details of one row."""
        for name, text in cells.items():
            if name.startswith(_DETAIL):
                what = name.removeprefix(_DETAIL)
                for factor in self.factors:
                    if factor in cells:
                        place = (what, factor.removeprefix(_LEVEL), cells[factor])
                        self._heard.setdefault(place, set()).add(parse_level(text))

    def of_levels(self) -> dict[str, dict[str, dict[str, str | float]]]:
        """Return factor to level to what is known of it: of the first factor that settles it.

        Raises
        ------
        FileError
            No factor does.
        """
        found: dict[str, dict[str, dict[str, str | float]]] = {}
        for what in dict.fromkeys(what for what, _, _ in self._heard):
            told = {place[1:]: said for place, said in self._heard.items() if place[0] == what}
            factor = next(
                (
                    one
                    for one in dict.fromkeys(factor for factor, _ in told)
                    if all(len(said) == 1 for (its, _), said in told.items() if its == one)
                ),
                None,
            )
            if factor is None:
                raise FileError(
                    f"{self.path}: the {what} is not the same in all rows of a level: leave the column out "
                    f'("ignore")'
                )
            for (its, level), said in told.items():
                if its == factor:
                    found.setdefault(factor, {}).setdefault(level, {})[what] = next(iter(said))
        return found


def _entry(cells: Mapping[str, str]) -> Entry:
    said = {
        name.removeprefix(_LEVEL): text for name, text in cells.items() if name.startswith(_LEVEL)
    }
    levels = {name: parse_level(text) for name, text in said.items()}
    setup = cells.get("setup") or ", ".join(said.values())
    if not setup:
        raise InputError("the setup is missing")
    named = "setup" in cells
    entry = Entry(
        setup=setup, levels=levels if named else {}, setup_levels={} if named else levels,
        note=cells.get("note", ""),
        readings={name: parse_reading(name, cells[name]) for name in FIELDS if name in cells},
        ending=_ending(cells.get("ending", "").lower()),
        started=parse_moment(cells["when"]) if "when" in cells else None, mount=cells.get("mount"),
        load=cells.get("load"),
    )  # fmt: skip
    check_entry(entry)
    return entry


def _ending(said: str) -> str:
    """Return how an attempt ended in the study's own words, if it is said in others."""
    return next((ending for ending, words in _ENDINGS.items() if said in words), said)


def _places(
    path: Path,
    header: Sequence[str],
    rows: Sequence[tuple[int, Sequence[str]]],
    factors: Collection[str],
    columns: Mapping[str, str],
) -> dict[int, str]:
    """Return what each column holds, by its place."""
    for name in columns:
        if name not in header:
            raise FileError(
                f'{path}: no column is called "{name}" ({", ".join(header)}).'
                + nearest(name, header)
            )
    known = _known(factors)
    found = {
        place: _stated(path, name, columns[name], known)
        if name in columns
        else _meaning(name, known)
        for place, name in enumerate(header)
        if name
    }
    if "setup" not in found.values():  # then columns of words tell what was on the bench
        for place, meaning in found.items():
            if meaning is None and _is_words([row[place] for _, row in rows if place < len(row)]):
                found[place] = _LEVEL + _factor_name(header[place])
    unknown = [header[place] for place, meaning in found.items() if meaning is None]
    if unknown:
        first = unknown[0]
        raise FileError(
            f'{path}: what is in the column "{first}"? Say it with --column "{first}=MEANING" '
            f"({', '.join(_MEANINGS)}). A factor is what you changed"
        )
    places = {place: name for place, name in found.items() if name is not None and name != IGNORED}
    for place, name in places.items():
        twin = next(one for one, other in places.items() if other == name)
        if twin != place:
            raise FileError(
                f'{path}: "{header[twin]}" and "{header[place]}" both mean {_in_words(name)}. Leave one '
                f'out: --column "{header[place]}={IGNORED}"'
            )
    levels = [name for name in places.values() if name.startswith(_LEVEL)]
    details = [name for name in places.values() if name.startswith(_DETAIL)]
    if details and not levels:
        raise FileError(
            f"{path}: the {details[0].removeprefix(_DETAIL)} belongs to the levels of a factor: call the "
            'column of the setups "cooler", say, or leave the other out with "ignore"'
        )
    if not levels and "setup" not in places.values():
        raise FileError(f'{path}: no column is called "setup" (found: {", ".join(header)})')
    return places


def _known(factors: Collection[str]) -> dict[str, str]:
    """Return headers as they are written in full, and what they mean."""
    known = {word: name for name, words in _WORDS.items() for word in words}
    for name, (_, _, others) in FIELDS.items():
        known |= dict.fromkeys((name.replace("_", " "), *others), name)
    known |= {word: _DETAIL + name for word, name in _DETAILS.items()}
    return known | {name.replace("_", " ").lower(): _LEVEL + name for name in factors}


def _stated(path: Path, header: str, said: str, known: Mapping[str, str]) -> str:
    """Return what a column holds by the tester's word."""
    word = _plain(said)
    if word in (FACTOR, DETAIL):
        return (_LEVEL if word == FACTOR else _DETAIL) + _factor_name(header)
    if word != IGNORED and word not in known:
        raise FileError(
            f'{path}: --column "{header}={said}": "{said}" is none of {", ".join(_MEANINGS)}.'
            + nearest(word, _MEANINGS)
        )
    return IGNORED if word == IGNORED else known[word]


def _meaning(header: str, known: Mapping[str, str]) -> str | None:
    """Return what a column holds by its header; None if it does not say."""
    plain = _plain(header)
    if plain in known:
        return known[plain]
    words = re.findall(r"[a-z]+", plain)
    if _OTHER_PARTS & set(words):
        return None
    if {"run", "time", "length", "duration"} & set(words) and set(words) <= _LENGTH:
        return "minutes"
    told = [word for word in words if word not in _FILLER]
    by_unit = {_UNITS[word]: word for word in (_unit(header), *words) if word in _UNITS}
    if len(by_unit) == 1 and "min" not in by_unit.values():  # "min" is the lowest, too
        ((name, unit),) = by_unit.items()
        allowed = {unit, *_MEAN, *" ".join(FIELDS[name][2]).split()}
        return name if set(told) <= allowed else None
    return known.get(" ".join(told)) or (None if told else _UNITS.get(_unit(header)))


def _plain(header: str) -> str:
    return re.sub(r"[\s_]+", " ", re.sub(r"[\[(].*?[\])]|°\s*[CF]\b", "", header)).strip().lower()


def _unit(header: str) -> str:
    """Return the unit in a header, in small letters: that in brackets, else its last word."""
    text = header.replace("dB(A)", "dBA").replace("dB (A)", "dBA")
    bracketed = re.search(r"[\[(]\s*°?\s*(\w+)\s*[\])]", text)
    last = re.search(r"°?(\w+)\s*$", text)
    found = bracketed or last
    return found[1].lower() if found else ""


def _with_unit(name: str, text: str, header: str) -> str:
    """Return a cell with the unit of its header, where that is not the usual one."""
    unit = _unit(header)
    if name == "clock_mhz" and unit == "ghz":
        return str(1000 * parse_reading(name, text))
    bare = not re.search(r"[A-Za-z]", text)
    if name.endswith("_c") and unit in ("f", "k") and bare:
        return f"{text}{unit.upper()}"
    return f"{text} {unit[0]}" if name == "minutes" and unit in ("s", "sec", "h") and bare else text


def _is_words(cells: Sequence[str]) -> bool:
    """Return whether a column holds words: names of coolers, say, and no readings."""
    said = [cell.strip() for cell in cells if cell.strip()]
    return bool(said) and not any(
        re.match(r"[-+]?\d+([.,]\d+)?\s*(\D{0,6})$", cell) for cell in said
    )


def _factor_name(header: str) -> str:
    return re.sub(r"\s+", "_", _plain(header))


def _in_words(name: str) -> str:
    return f"the {FIELDS[name][0]}" if name in FIELDS else f'"{name.removeprefix(_LEVEL)}"'


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
        try:
            rows = list(csv.reader(text.splitlines(), delimiter=max(_DELIMITERS, key=first.count)))
        except csv.Error as error:
            raise FileError(f"{path} cannot be read as a table: {error}") from None
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
