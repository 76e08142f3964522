"""`gelassen record`: one run on this machine."""

import signal
import sys
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

from gelassen.commands.shared.common import (
    FAILED,
    Duration,
    Numbers,
    PhaseLength,
    emit,
    hint,
    say,
    shell,
    sysfs_option,
    tell,
)
from gelassen.commands.shared.live_run import watching
from gelassen.commands.shared.room import room_option, stated_room
from gelassen.commands.watch import page_of, watch_option
from gelassen.core.foundation.counted import counted

if TYPE_CHECKING:
    from gelassen.bench.interface import Bench
    from gelassen.conduct.planning.plan import RunPlan
    from gelassen.conduct.planning.record_plan import Wanted
    from gelassen.study.file.gate import Gate
    from gelassen.study.file.study_file import StudyFile

_POWER_LIMIT = "cpu.package.power_limit_w"
_CELLS_TO_SUMMARISE = 2_000_000  # beyond it, memory would grow with the length of a run


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordOptions:
    """What `gelassen record` was asked."""

    into: Path
    study: Path | None
    setup: str | None
    new_setup: bool
    label: str
    idle: "float | Gate | None"
    soak: "float | Gate | None"
    hold: "float | Gate | None"
    cooldown: "float | Gate | None"
    interval: float | None
    load: str | None
    load_command: str | None
    score: str | None
    workers: int | None
    cores: str | None
    duty: float | None
    period: float | None
    staircase: float | None
    pause: float
    settings: tuple[str, ...]
    fan_steps: tuple[float, ...]
    fan: str | None
    by_hand: bool
    mount: str | None
    limit_c: float | None
    stops: tuple[str, ...]
    sysfs: Path | None
    watch_at: str | None
    room: str | None

    def wanted(self) -> "Wanted":
        """Return what differs from the plan of the study, or from the usual plan."""
        from gelassen.conduct.planning.record_plan import Wanted

        return Wanted(
            idle=self.idle, soak=self.soak, hold=self.hold, cooldown=self.cooldown,
            interval=self.interval, load=self.load, workers=self.workers, cores=self.cores,
            duty_pct=self.duty, period_s=self.period, command=self.load_command, score=self.score,
            stair_s=self.staircase, pause_s=self.pause, stops=self.stops, settings=self.settings,
            fan_steps=self.fan_steps, fan=self.fan,
        )  # fmt: skip


@click.command()
@click.option(
    "--into",
    type=click.Path(path_type=Path),
    default=Path("runs"),
    show_default=True,
    help="Folder that gets the new run folder.",
)
@click.option(
    "--study",
    type=click.Path(path_type=Path),
    default=None,
    help="Study the run belongs to; made if new.",
)
@click.option("--setup", default=None, help="Setup of the study that is on the bench.")
@click.option("--new-setup", is_flag=True, help="The setup is new to this study.")
@click.option("--label", default="run", show_default=True, help="Name of the run without a setup.")
@click.option(
    "--idle", type=PhaseLength("idle"), default=None, help="2 min, or what the study says."
)
@click.option(
    "--soak",
    type=PhaseLength("soak"),
    default=None,
    help='20 min, "until known", or what the study says.',
)
@click.option(
    "--hold", type=PhaseLength("hold"), default=None, help="10 min, or what the study says."
)
@click.option(
    "--cooldown", type=PhaseLength("cooldown"), default=None, help="5 min, or what the study says."
)
@click.option(
    "--interval",
    type=Duration(),
    default=None,
    help="Between samples: 1 s, or what the study says.",
)
@click.option(
    "--load",
    default=None,
    help="matrix (the hottest), integer, memory; matrix, or what the study says.",
)
@click.option("--load-command", default=None, help="A program of your own as the load.")
@click.option("--score", default=None, help="Regular expression that finds its score.")
@click.option(
    "--workers", type=click.IntRange(1), default=None, help="Cores to load; all if not given."
)
@click.option("--cores", default=None, help="Which: 0-3,6 or performance or efficiency.")
@click.option(
    "--duty", type=float, default=None, metavar="%", help="Work for this share of each period."
)
@click.option("--period", type=Duration(), default=None, help="Length of a period, 1 s.")
@click.option(
    "--staircase",
    type=Duration(),
    default=None,
    metavar="DURATION",
    help="Load 1, 2, ... all workers, each for this long, instead of soak and hold.",
)
@click.option(
    "--fan-steps",
    type=Numbers(),
    default=(),
    metavar="DUTIES",
    help='Duties that a fan goes through under load, such as "100 80 60 45 30"; `curve` learns from them. '
    'They divide soak and hold evenly; with --soak "until known", each lasts until its rise is known.',
)
@click.option("--fan", default=None, metavar="CHANNEL", help="The fan of --fan-steps.")
@click.option("--pause", type=Duration(), default=0.0, help="Pause between steps of a staircase.")
@click.option(
    "--set",
    "settings",
    multiple=True,
    metavar="CHANNEL=VALUE",
    help="Set a power limit, duty, clock ceiling ... for the run; put back afterwards.",
)
@click.option(
    "--by-hand", is_flag=True, help="The setup's settings are made by hand; set none of them."
)
@click.option("--mount", default=None, help="Which mounting: the same word, not remounted between.")
@click.option(
    "--limit", "limit_c", type=float, default=None, help="Limit temperature of the chip, °C."
)
@click.option(
    "--stop",
    "stops",
    multiple=True,
    metavar="CHANNEL=°C",
    help="Stop the run when a temperature is passed. Without it: every processor and "
    "graphics temperature at 105 °C.",
)
@room_option
@watch_option
@sysfs_option
def record(**given: Any) -> None:
    """Idle, load and cool this machine, and record every channel."""
    from gelassen.conduct.planning.record_plan import plan_recording
    from gelassen.conduct.recording import claimed
    from gelassen.conduct.study_bench import study_bench
    from gelassen.study.disk.in_use import in_use

    asked = RecordOptions(**given)
    known = _known_study(asked.study, asked.setup, asked.new_setup)
    bench = study_bench(known, sysfs=asked.sysfs)
    levels_of = {} if known is None or asked.setup is None else known.setups.get(asked.setup, {})
    plan = plan_recording(bench, known, asked.wanted(), levels=levels_of)
    with ExitStack() as session:
        session.enter_context(claimed(bench, plan))
        if asked.study is not None and asked.study.is_dir():
            session.enter_context(in_use(asked.study))
        _recorded(asked, bench, plan)


def _recorded(asked: RecordOptions, bench: "Bench", plan: "RunPlan") -> None:
    """Make the run, and print what it says."""
    from gelassen.conduct import record_run
    from gelassen.study.disk.interrupted import close_abandoned

    # Tried here, before anything is written; it is stopped again, whatever happens.
    bench.load(plan.load).stop()
    place = _place(asked, bench, plan)
    plan = place.plan
    limit_c = place.limit_c if place.limit_c is not None else _stated_limit(bench.channels())
    power_limit_w = plan.settings.get(_POWER_LIMIT)
    if power_limit_w is None:
        read_w = bench.read().get(_POWER_LIMIT)
        power_limit_w = read_w if read_w and read_w > 0 else None  # NaN is not above zero
    for line in close_abandoned(place.into):
        say(f"earlier run {line}")
    _announce(plan)
    label = asked.setup or asked.label
    # Also where a shell started us with Ctrl-C switched off, as it does in the background.
    shown = asked.study if asked.study is not None else place.into
    with endings(), page_of(shown, asked.watch_at), watching() as watcher:
        watcher.begin(label)
        folder, outcome = record_run(
            bench, plan, place.into, label=label, setup=asked.setup, levels=place.levels,
            limit_c=limit_c, power_limit_w=power_limit_w, reference=place.reference,
            room=stated_room(asked.room, bench), mount=asked.mount,
            progress=watcher.progress, wish=watcher.wish,
        )  # fmt: skip
    _tell(folder)
    if outcome.status != "finished" or outcome.text:
        say(f"{outcome.status}: {outcome.text}")
    if outcome.status != "finished":
        sys.exit(FAILED)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Place:
    """The folder of a run, and its study's settings for it."""

    into: Path
    plan: "RunPlan"
    limit_c: float | None
    reference: str | None = None
    levels: dict[str, str | float] = field(default_factory=dict)


def _place(asked: RecordOptions, bench: "Bench", plan: "RunPlan") -> _Place:
    """Return where the run goes; a study that is new is made, its setup's settings join the plan."""
    if asked.study is None or asked.setup is None:
        return _Place(into=asked.into, plan=plan, limit_c=asked.limit_c)
    from gelassen.answers import open_study
    from gelassen.conduct.planning.record_plan import settings_of_setup
    from gelassen.study.file.new_study import ensure_setup

    ensure_setup(asked.study, asked.setup, limit_c=asked.limit_c, new_setup=asked.new_setup)
    content = open_study(asked.study).file
    levels = content.setups[asked.setup]
    if not asked.by_hand:
        of_setup, hints = settings_of_setup(content, levels, list(bench.actuators()))
        plan = replace(plan, settings={**of_setup, **plan.settings})
        for hint in hints:
            say(hint)
    return _Place(
        into=asked.study / "runs",
        plan=plan,
        limit_c=asked.limit_c if asked.limit_c is not None else content.machine.limit_c,
        reference=content.reference,
        levels=levels,
    )


def _announce(plan: "RunPlan") -> None:
    from gelassen.study.file.durations import words

    most = "at most " if plan.gated else ""
    hint(f"recording for {most}{words(plan.duration_s)}; Ctrl-C stops and keeps what was recorded")
    for name, value in plan.settings.items():
        say(f"setting: {name} to {value:g}; put back afterwards")
    for name, stop in plan.stop_c.items():
        say(f"guard: stops when {name} reaches {stop:g} °C")


def _known_study(study: Path | None, setup: str | None, new_setup: bool) -> "StudyFile | None":
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.file.reader import read_study_file
    from gelassen.study.file.study_file import STUDY_FILE, check_setup_name

    if study is None and setup is not None:
        raise InputError("--setup belongs to a study: add --study FOLDER, or use --label instead")
    if study is not None and setup is None:
        raise InputError("say which setup is on the bench: --setup NAME")
    if study is None or not (study / STUDY_FILE).exists():
        return None
    known = read_study_file(study / STUDY_FILE)
    if setup is not None and not new_setup:
        check_setup_name(known, setup, or_else=" If it is a new one, add --new-setup")
    return known


def _stated_limit(channels: Any) -> float | None:
    """Return the limit the processor states for itself, if it does."""
    for info in channels:
        if info.name == "cpu.package.temp_c" and "crit" in info.limits:
            limit: float = info.limits["crit"]
            say(f"limit: {limit:g} °C, as the processor states it; --limit says otherwise")
            return limit
    return None


def _tell(folder: Path) -> None:
    """Print the answer of the run, unless the run is too long to analyse at once."""
    import pyarrow.parquet as pq

    from gelassen.study.disk.samples import SAMPLES_PARQUET

    path = folder / SAMPLES_PARQUET
    if path.exists():
        metadata = pq.read_metadata(path)
        if metadata.num_rows * metadata.num_columns > _CELLS_TO_SUMMARISE:
            emit(f"run: {folder} ({counted(metadata.num_rows, 'sample')})")
            hint(f"what it says: gelassen show {shell(folder)}")
            return
    from gelassen.core.run.summary import summarise_run
    from gelassen.show.run_text import run_text
    from gelassen.study import read_run

    recording = read_run(folder)
    if recording.frame.empty:
        emit(f"run: {folder} (no sample was taken)")
        return
    tell(run_text(summarise_run(recording), recording))
    emit(f"\nrun: {folder}")


@contextmanager
def endings() -> Iterator[None]:
    """Make Ctrl-C and the like end a run and keep it, also where a shell switched them off."""
    _on_endings(_interrupt)
    try:
        yield
    finally:
        _on_endings(signal.SIG_DFL)


def _on_endings(handler: Any) -> None:
    for ending in ("SIGINT", "SIGTERM", "SIGHUP"):
        if hasattr(signal, ending):
            signal.signal(getattr(signal, ending), handler)


def _interrupt(*_: object) -> NoReturn:
    # Once is enough: nothing may interrupt while settings are put back and the run is closed.
    _on_endings(signal.SIG_IGN)
    raise KeyboardInterrupt
