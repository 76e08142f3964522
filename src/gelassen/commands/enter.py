"""`gelassen enter`: results that were read off a screen, without a log."""

import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import emit, hint, pair, say, shell

if TYPE_CHECKING:
    from gelassen.conduct.operator.entering import Entry

# Option to the name of the reading. They are asked in this order where none is given.
_READINGS = {
    "highest": "highest_c", "mean": "mean_c", "end": "end_c", "rest": "rest_c", "room": "room_c",
    "power": "power_w", "clock": "clock_mhz", "fan": "fan_rpm", "score": "score", "noise": "noise_dba",
    "minutes": "minutes",
}  # fmt: skip
_AT = "power_limit_w=150"


@dataclass(frozen=True, slots=True, kw_only=True)
class EnterOptions:
    """What `gelassen enter` was asked; a reading that was not given is None."""

    study: Path
    table: Path | None
    columns: tuple[str, ...]
    setup: str | None
    new_setup: bool
    limit_c: float | None
    load: str | None
    when: str | None
    mount: str | None
    note: str
    at: tuple[str, ...]
    ending: str
    readings: dict[str, str]


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--from", "table", type=click.Path(path_type=Path), default=None, metavar="TABLE",
    help="A table with one row a run (CSV, xlsx, ods): setup, highest, rest, room, power ...",
)  # fmt: skip
@click.option(
    "--column", "columns", multiple=True, metavar="HEADER=MEANING",
    help='What a column of the table is: an option of this command, factor or ignore ("Tmax=highest").',
)  # fmt: skip
@click.option("--setup", default=None, help="Setup that was on the bench.")
@click.option("--new-setup", is_flag=True, help="The setup is new to this study.")
@click.option("--highest", default=None, metavar="°C", help="Highest temperature under load.")
@click.option("--mean", default=None, metavar="°C", help="Mean temperature under load.")
@click.option("--end", default=None, metavar="°C", help="Temperature at the end of the load.")
@click.option("--rest", default=None, metavar="°C", help="Temperature at rest.")
@click.option("--room", default=None, metavar="°C", help="Room temperature: 22.5, or 22.5+-0.3.")
@click.option("--power", default=None, metavar="W", help="Power under load.")
@click.option("--clock", default=None, metavar="MHz", help="Clock under load.")
@click.option("--fan", default=None, metavar="RPM", help="Fan speed under load.")
@click.option("--score", default=None, help="Score of the program.")
@click.option("--noise", default=None, metavar="dB(A)", help="Noise under load.")
@click.option("--minutes", default=None, help="How long the load lasted.")
@click.option("--load", default=None, metavar="NAME", help="Program that loaded the machine.")
@click.option("--when", default=None, metavar="TIME", help="When it began: 2026-03-02T14:05.")
@click.option("--mount", default=None, help="Which mounting: the same word, not remounted between.")
@click.option(
    "--at",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="A level of this attempt: power_limit_w=150.",
)
@click.option(
    "--ending", default="", metavar="WORDS",
    help="How an attempt ended: held, held back, unstable, stopped by the guard, shut down, would not "
    "start.",
)  # fmt: skip
@click.option("--note", default="", help="Anything else.")
@click.option(
    "--limit", "limit_c", type=float, default=None, help="Limit temperature, for a new study, °C."
)
def enter(**given: Any) -> None:
    """Enter results that were read off a screen as runs of STUDY.

    A highest reading is no steady state: how far it lies from one is allowed for. Without options it asks.
    """
    asked = EnterOptions(
        readings={name: given.pop(name) for name in _READINGS if given[name] is not None},
        **{name: value for name, value in given.items() if name not in _READINGS},
    )
    from gelassen.conduct.operator.entering import check_entry, enter_run
    from gelassen.conduct.operator.run_table import read_run_table
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.file.new_study import check_limit, check_setup, setup_of
    from gelassen.study.file.reader import read_study_file
    from gelassen.study.file.study_file import STUDY_FILE

    if asked.table is not None:
        if asked.setup is not None or asked.readings:
            raise InputError("give either a table with --from, or the readings of one run")
        known = read_study_file(asked.study / STUDY_FILE).factors if asked.study.is_dir() else ()
        columns = dict(pair("--column", one, '"Tmax=highest"', last=True) for one in asked.columns)
        table = read_run_table(asked.table, known, columns)
        for header, meaning in table.columns.items():
            hint(f'"{header}": {meaning}')
        entries = [
            replace(one, setup=setup_of(asked.study, one.setup_levels) or one.setup)
            for one in table.entries
        ]
    elif asked.columns:
        raise InputError("--column goes with --from TABLE")
    elif asked.setup is None and not asked.readings and sys.stdin.isatty():
        entries = [_asked_for()]
    elif asked.setup is None:
        raise InputError("say which setup was on the bench: --setup NAME, or --from TABLE")
    else:
        entries = [_entry(asked, asked.setup, asked.readings)]
    for entry in entries:  # all are checked before the first is stored
        check_entry(entry)
        check_limit(asked.limit_c, entry.readings.get("room_c"), entry.setup)
        check_setup(
            asked.study, entry.setup, limit_c=asked.limit_c,
            new_setup=asked.new_setup or asked.table is not None,
        )  # fmt: skip
    folders = [
        enter_run(
            asked.study, entry, limit_c=asked.limit_c,
            new_setup=asked.new_setup or asked.table is not None,
        )
        for entry in entries
    ]  # fmt: skip
    for folder in folders:  # told after all are stored: whoever listens may be gone
        emit(f"stored as {folder}")
    hint(f"compare them: gelassen compare {shell(asked.study)}")


def _entry(asked: EnterOptions, setup: str, given: dict[str, str]) -> "Entry":
    from gelassen.conduct.operator.entering import (
        Entry,
        parse_level,
        parse_moment,
        parse_reading,
        parse_room,
    )

    given = dict(given)
    readings: dict[str, float] = {}
    if "+-" in (said := given.get("room", "").replace("±", "+-")):
        readings["room_c"], readings["room_se"] = parse_room(said)
        del given["room"]
    readings |= {
        _READINGS[name]: parse_reading(_READINGS[name], text) for name, text in given.items()
    }
    return Entry(
        setup=setup, readings=readings, note=asked.note, mount=asked.mount, ending=asked.ending,
        load=asked.load,
        levels={name: parse_level(text) for name, text in (pair("--at", one, _AT) for one in asked.at)},
        started=None if asked.when is None else parse_moment(asked.when),
    )  # fmt: skip


def _asked_for() -> "Entry":
    """Ask for one run in the terminal; an empty answer means that it was not read."""
    from gelassen.conduct.operator.entering import FIELDS, Entry, parse_reading
    from gelassen.core.foundation.errors import InputError

    say("What was read off the screen? Enter alone means: not read.")
    setup = click.prompt("setup", err=True)
    readings: dict[str, float] = {}
    for name in _READINGS.values():
        what, unit, _ = FIELDS[name]
        while True:
            text = click.prompt(
                f"{what}{f', {unit}' if unit else ''}", default="", show_default=False, err=True
            )
            if not text.strip():
                break
            try:
                readings[name] = parse_reading(name, text)
                break
            except InputError as error:
                say(str(error))
    load = click.prompt("program that ran", default="", show_default=False, err=True)
    note = click.prompt("anything else", default="", show_default=False, err=True)
    return Entry(setup=setup, readings=readings, note=note, load=load or None)
