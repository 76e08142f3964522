"""`gelassen new`: a commented study file, from a few questions about this machine."""

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import emit, hint, say, shell, sysfs_option
from gelassen.core.recording.chips import is_core

if TYPE_CHECKING:
    from gelassen.bench.interface import Bench
    from gelassen.study.file.template import Answers

# Asks a question on a terminal. Enter alone takes the usual answer.
Asker = Callable[[str, str], str]


@dataclass(frozen=True, slots=True, kw_only=True)
class NewOptions:
    """What `gelassen new` was asked."""

    folder: Path
    title: str | None
    question: str | None
    machine: str | None
    limit_c: float | None
    reference: str | None
    compare: str | None
    by_hand: tuple[str, ...]
    software: tuple[str, ...]
    combine: str | None
    baseline: str | None
    kind: str | None
    fixed_times: bool
    load: str | None
    repeats: int | None
    stops: tuple[str, ...]
    made_up: bool
    yes: bool
    sysfs: Path | None


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--title", default=None, help="Name of the study; the folder's name.")
@click.option("--question", default=None, help="The question it should answer.")
@click.option("--machine", default=None, help="Name of the machine.")
@click.option("--limit", "limit_c", type=float, default=None, help="Its limit temperature, °C.")
@click.option(
    "--reference", default=None, metavar="CHANNEL", help="Reference channel of the rises."
)
@click.option(
    "--compare", default=None, metavar="CHANNEL", help='Or "hottest core", "mean of cores".'
)
@click.option(
    "--factor", "by_hand", multiple=True, metavar="NAME: LEVEL, LEVEL",
    help='Changed by hand, such as "cooler: tower, low-profile". Once for each.',
)  # fmt: skip
@click.option(
    "--software", multiple=True, metavar="CHANNEL: VALUE, VALUE",
    help='Set by software, such as "cpu.package.power_limit_w: 45, 65". Once for each.',
)  # fmt: skip
@click.option("--combine", type=click.Choice(["full", "baseline", "list"]), default=None,
              help="All combinations; the baseline and each other level; only what you list.")  # fmt: skip
@click.option("--baseline", default=None, help="The setup that others are compared against.")
@click.option("--protocol", "kind", type=click.Choice(["steady", "capacity"]), default=None,
              help="One load until it is steady, or a climb to the highest sustained power.")  # fmt: skip
@click.option("--fixed-times", is_flag=True, help="Phases of fixed length, not until it is known.")
@click.option("--load", type=click.Choice(["matrix", "integer", "memory"]), default=None)
@click.option("--repeats", type=click.IntRange(1), default=None, help="Runs of each setup; 3.")
@click.option("--stop", "stops", multiple=True, metavar="CHANNEL=°C", help="When a run stops.")
@click.option("--made-up", is_flag=True, help="Mark all of it as simulated, for a rehearsal.")
@click.option("-y", "--yes", is_flag=True, help="Ask nothing; what is not given is chosen.")
@sysfs_option
def new(**given: Any) -> None:
    """Make a study in FOLDER: a commented study.toml, to be corrected with any editor.

    Asks in a terminal; every answer is an option, too.
    """
    from gelassen.conduct.study_bench import study_bench
    from gelassen.core.foundation.errors import FileError
    from gelassen.study.file.new_study import write_study
    from gelassen.study.file.study_file import STUDY_FILE

    asked = NewOptions(**given)
    folder = asked.folder
    if (folder / STUDY_FILE).exists() or (folder.exists() and not folder.is_dir()):
        raise FileError(
            f"{folder} holds a study already; nothing was written. Choose another folder"
        )
    found = _Found(study_bench(None, sysfs=asked.sysfs))
    answers = _answers(asked, found, _asker(asked.yes))
    path = write_study(folder, answers)
    emit(f"written: {path}")
    for text in answers.missing:
        say(f"missing: {text}")
    hint(f"Look through it with an editor, then: gelassen run {shell(folder)} --dry-run")


def _answers(asked: NewOptions, found: "_Found", ask: Asker) -> "Answers":
    """Return the content of the study file: from options, then answers, then the machine."""
    from gelassen.conduct.watching.guard import stop_temperatures
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.file.template import Answers

    title = asked.title or ask("What is the study called?", asked.folder.resolve().name)
    question = asked.question
    if question is None:
        question = ask("Which question is it to answer?", "")
    machine = asked.machine or ask("What is the machine called?", "the machine under test")
    limit_c = _number("--limit", asked.limit_c, found.limit_c, ask)
    reference = asked.reference or ask(
        "Which channel is the reference of the rises?", found.reference
    )
    compare = asked.compare or ask("Which temperature is compared?", found.compare)
    hand, soft = _hand_factors(asked, ask), _software_factors(asked, found, ask)
    kind = asked.kind or ask("steady, or capacity?", "steady")
    if kind not in ("steady", "capacity"):
        raise InputError(f'"{kind}" is not a protocol (steady, capacity)')
    combine = asked.combine or ("full" if hand or soft else "list")
    return Answers(
        title=title, question=question, machine=machine, limit_c=limit_c, reference=reference,
        compare=compare, by_hand=hand, by_software=soft, combine=combine,
        baseline=asked.baseline or _first(combine, hand, soft), kind=kind,
        fixed_times=asked.fixed_times, load=asked.load or "matrix", repeats=asked.repeats or 3,
        made_up=asked.made_up,
        stop_c=stop_temperatures(asked.stops, {}, found.names) if asked.stops else found.stop_c(limit_c),
        known_channels=found.known, missing=found.missing(reference),
    )  # fmt: skip


def _hand_factors(asked: NewOptions, ask: Asker) -> dict[str, Any]:
    from gelassen.study.file.template import parse_factor

    hand = dict(parse_factor(text, "--factor") for text in asked.by_hand)
    if hand or asked.software:
        return hand
    question = 'What is changed by hand? "cooler: tower, low", or nothing'
    while factor := _factor(ask, question, "by hand", "{}"):
        hand |= factor
        question = "What else is changed by hand? Or nothing"
    return hand


def _software_factors(asked: NewOptions, found: "_Found", ask: Asker) -> dict[str, Any]:
    from gelassen.study.file.template import parse_factor

    soft = dict(parse_factor(text, "--software") for text in asked.software)
    if not (asked.yes or asked.software or asked.kind == "capacity"):
        for channel in found.settable:
            question = f'Levels of {channel} to test? "45, 65", or nothing'
            soft |= _factor(ask, question, "levels", f"{channel}: {{}}")
    for channel in soft:
        if channel not in found.settable:
            known = ", ".join(found.settable) or "nothing"
            say(f"{channel} cannot be set here (settable: {known}); the study file names it anyway")
    return soft


class _Found:
    """What this machine offers, as far as a study needs it."""

    def __init__(self, bench: "Bench") -> None:
        infos = [info for info in bench.channels() if info.readable]
        self.names = [info.name for info in infos]
        self.known = {info.name: info.what for info in infos}
        self.settable = list(bench.actuators())
        limits = [
            i.limits["crit"] for i in infos if i.name == "cpu.package.temp_c" and "crit" in i.limits
        ]
        self.limit_c: float | None = limits[0] if limits else None
        rooms = [n for n in self.names if n.startswith("room.") and n.endswith(".temp_c")]
        self.reference = rooms[0] if rooms else "room.air.temp_c"
        cores = any(map(is_core, self.names))
        temps = [n for n in self.names if n.endswith(".temp_c") and not n.startswith("room.")]
        packages = [n for n in temps if n.startswith("cpu.package")]
        several = cores or len(packages) > 1 or not temps
        self.compare = "hottest core" if several else (packages or temps)[0]

    def stop_c(self, limit_c: float) -> dict[str, float]:
        """Return the guard's usual limits: a little above the chip's own."""
        chips = [n for n in self.names if n.startswith("cpu.") and n.endswith(".temp_c")]
        chosen = [n for n in chips if n.startswith("cpu.package") and not is_core(n)] or chips
        return dict.fromkeys(chosen, limit_c + 5)

    def missing(self, reference: str) -> list[str]:
        """Return what the study needs and the machine does not offer."""
        if reference in self.names:
            return []
        return [
            f"{reference} is not read on this machine. Connect a thermometer and describe it under "
            "[channels] (docs/bench.md), or note readings by hand: gelassen note"
        ]


def _asker(yes: bool) -> Asker:
    """Return a function that asks on a terminal, and elsewhere takes the usual answer."""
    if yes or not sys.stdin.isatty():
        return lambda text, usual: usual

    def ask(text: str, usual: str) -> str:
        answer: str = click.prompt(text, default=usual, show_default=bool(usual), err=True)
        return answer

    return ask


def _factor(ask: Asker, text: str, option: str, form: str) -> dict[str, list[str]]:
    """Ask for a factor until the answer is understood; an empty answer means none."""
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.file.template import parse_factor

    while answer := ask(text, "").strip():
        try:
            name, levels = parse_factor(form.format(answer), option)
        except InputError as error:
            say(str(error))
            continue
        return {name: levels}
    return {}


def _number(
    option: str, given: float | None, usual: float | None, ask: Callable[..., Any]
) -> float:
    from gelassen.core.foundation.errors import InputError

    if given is not None:
        return given
    answer = ask("Limit temperature of the chip, °C?", "" if usual is None else f"{usual:g}")
    try:
        return float(answer)
    except ValueError:
        raise InputError(
            f"say the limit temperature of the chip, such as {option} 95: this machine does not state it"
        ) from None


def _first(combine: str, hand: dict[str, list[str]], software: dict[str, list[str]]) -> str | None:
    """Return the name of the setup with the first level of every factor."""
    from gelassen.study.file.template import first_setup

    return first_setup(hand, software) if combine != "list" or hand or software else None
