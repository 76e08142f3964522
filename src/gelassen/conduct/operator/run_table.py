"""A table with one row a run, as a tester keeps it: the runs in it."""

import csv
from collections.abc import Collection, Mapping
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
from gelassen.conduct.operator.run_columns import DETAIL_OF, LEVEL, in_words, places_of, with_unit
from gelassen.core.foundation.errors import FileError, InputError
from gelassen.system.files import read_bytes

_DELIMITERS = (",", ";", "\t", "|")
# What testers write for the ways in which an attempt ends.
_ENDINGS = {
    "held": ("stable", "passed", "pass", "ok", "yes", "fine"),
    "held back": ("throttled", "throttling", "throttles"),
    "unstable": ("crash", "crashed", "error", "errors", "failed", "fail", "no"),
    "shut down": ("shutdown", "off"),
    "would not start": ("no boot", "no start", "did not start"),
}
_NOTHING = {"-", "–", "—", "n/a", "na", "?", "none"}


@dataclass(frozen=True, slots=True)
class RunTable:
    """The runs in a table, and what each of its columns was taken for, in words."""

    entries: list[Entry]
    columns: dict[str, str]


def read_run_table(
    path: Path, factors: Collection[str] = (), columns: Mapping[str, str] | None = None
) -> RunTable:
    """Read a table with one row a run: CSV, or a workbook.

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
    places = places_of(path, header, rows, factors, columns or {})
    entries = []
    told = _Details(path, [name for name in places.values() if name.startswith(LEVEL)])
    for line, row in rows:
        cells = {
            places[k]: with_unit(places[k], text.strip(), header[k])
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
    details = told.of_levels()
    return RunTable(
        [replace(entry, details=details) for entry in entries],
        {
            name: in_words(places[k]) if k in places else "left out"
            for k, name in enumerate(header)
            if name
        },
    )


@dataclass(slots=True)
class _Details:
    """What is known of the levels of a factor: prices, say, each the same in all rows of its level."""

    path: Path
    factors: list[str]  # columns, in their order
    _heard: dict[tuple[str, str, str], set[str | float]] = field(default_factory=dict)

    def hear(self, cells: Mapping[str, str]) -> None:
        """Take the details of one row."""
        for name, text in cells.items():
            if name.startswith(DETAIL_OF):
                what = name.removeprefix(DETAIL_OF)
                for factor in self.factors:
                    if factor in cells:
                        place = (what, factor.removeprefix(LEVEL), cells[factor])
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
        name.removeprefix(LEVEL): text for name, text in cells.items() if name.startswith(LEVEL)
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
