"""The command line: parses, calls, prints. Nothing heavy is imported before it is needed."""

import signal
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

import click

if TYPE_CHECKING:
    from gelassen.conduct import Progress
    from gelassen.study import StudyComparison

_FAILED, _WRONG_INPUT = 1, 2
_FIRST_STEPS = """\
Gelassen tests how well a computer is cooled, and says how sure the answer is.

First steps:
  gelassen demo                    see the whole job on made-up sample data (half a minute)
  gelassen channels                see what this machine offers
  gelassen record --study cooling --setup tower --limit 95
                                   idle, load and cool this machine, and record it
  gelassen show cooling/runs/001-tower
                                   what that run says
  gelassen compare cooling         which setup is cooler, and how sure that is
  gelassen --help                  all commands
"""


def main() -> NoReturn:
    """Run the command line; errors a user can cause become a message and an exit status."""
    try:
        status = cli.main(standalone_mode=False)
    except click.exceptions.Exit as leave:
        status = leave.exit_code
    except click.ClickException as error:
        error.show()
        status = _WRONG_INPUT
    except (click.Abort, KeyboardInterrupt):
        click.echo("stopped", err=True)
        status = _FAILED
    except BrokenPipeError:  # the reader of our output has left, as `head` does
        sys.stderr.close()
        status = 0
    except Exception as error:
        from gelassen.core.errors import GelassenError

        if not isinstance(error, (GelassenError, OSError)):
            raise
        click.echo(f"gelassen: {error}", err=True)
        status = _WRONG_INPUT
    sys.exit(status if isinstance(status, int) else 0)


@click.group(invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="gelassen")
@click.pass_context
def cli(context: click.Context) -> None:
    """Test how well a computer is cooled, and say how sure the answer is."""
    if context.invoked_subcommand is None:
        click.echo(_FIRST_STEPS, nl=False)


def _note(text: str) -> None:
    click.echo(text, err=True)


_format = click.option(
    "--format", "form", type=click.Choice(["text", "json", "csv", "markdown"]), default="text",
    help="How to print the numbers.",
)  # fmt: skip
_confidence = click.option(
    "--confidence", type=click.FloatRange(0.5, 0.999), default=0.95, show_default=True,
    help="Share of intervals that should cover the truth.",
)  # fmt: skip


class _Duration(click.ParamType):  # type: ignore[type-arg,unused-ignore]
    name = "duration"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        from gelassen.core.errors import InputError
        from gelassen.study.durations import seconds

        try:
            return seconds(value)
        except InputError as error:
            self.fail(str(error), param, ctx)


# -- demo -----------------------------------------------------------------------------------------


@cli.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("gelassen-demo"))
@click.option("--seed", type=int, default=1, show_default=True, help="Same seed, same numbers.")
def demo(folder: Path, seed: int) -> None:
    """Make the sample study in FOLDER, analyse it and draw it. All of it is made-up data."""
    from gelassen.conduct import make_demo
    from gelassen.show.comparison_figure import comparison_figure
    from gelassen.show.comparison_text import comparison_text
    from gelassen.show.run_figure import run_figure
    from gelassen.study import open_study
    from gelassen.study.parallel import process_pool

    with process_pool() as pool:
        with _bar("simulating the 36 runs of the sample study") as advance:
            make_demo(folder, seed=seed, executor=pool, progress=advance)
        study = open_study(folder)
        _note("analysing 36 runs")
        comparison = study.compare(executor=pool)
    click.echo(comparison_text(comparison))
    _note("drawing figures")
    figure = folder / "figures" / "comparison.png"
    comparison_figure(comparison, figure)
    from gelassen.core.summary import summarise_run

    warmest = str(comparison.runs.loc[comparison.runs["value"].idxmax(), "run"])
    recording = study.run(warmest)
    run_picture = folder / "figures" / f"{warmest}.png"
    run_figure(recording, summarise_run(recording), run_picture)
    where = _shell(folder)
    click.echo(
        f"\nfigures: {figure}\n         {run_picture}\n\n"
        "Try next:\n"
        f'  gelassen compare {where} --baseline "Brise 120, on-air, 125 W"\n'
        f"  gelassen show {_shell(folder / 'runs' / warmest)}\n"
        "  gelassen channels"
    )


@contextmanager
def _bar(label: str) -> Iterator[Any]:
    """Show progress on stderr: a bar on a terminal, a line now and then elsewhere."""
    if sys.stderr.isatty():
        from rich.console import Console
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn

        columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn())
        with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
            task = bar.add_task(label)
            yield lambda done, of: bar.update(task, completed=done, total=of)
        return
    _note(label)

    def advance(done: int, of: int) -> None:
        if done % 9 == 0 or done == of:
            _note(f"  {done} of {of}")

    yield advance


def _shell(path: Path) -> str:
    import shlex

    return shlex.quote(str(path))


# -- channels -------------------------------------------------------------------------------------

_sysfs = click.option(
    "--sysfs", type=click.Path(path_type=Path), default=None, metavar="ROOT",
    help="Read a captured tree instead of /sys.",
)  # fmt: skip


@cli.command()
@_sysfs
@_format
def channels(sysfs: Path | None, form: str) -> None:
    """List what this machine offers, and what is missing."""
    import json
    import math

    from gelassen.bench import MachineBench
    from gelassen.core.channels import parse_channel
    from gelassen.show.channel_table import channels_text
    from gelassen.show.numbers import fixed
    from gelassen.show.tables import markdown

    bench = MachineBench(sysfs=sysfs)
    bench.read()
    bench.sleep(0.5 if sysfs is None else 0.0)  # power and load need two readings
    values = bench.read()
    rows = []
    for info in bench.channels():
        channel = parse_channel(info.name)
        digits = 0 if channel.unit in ("mhz", "rpm", "count") else 1
        value = values.get(info.name, math.nan)
        step = "" if info.resolution is None else f"{info.resolution:g}"
        rows.append(
            (info.name, fixed(value, digits, channel.symbol), step, info.what, info.problem)
        )
    if form == "text":
        click.echo(channels_text(rows, bench.missing()))
        return
    infos = list(bench.channels())
    if form == "json":
        content = [
            {
                "channel": i.name, "value": None if math.isnan(v := values.get(i.name, math.nan)) else v,
                "what": i.what, "source": i.source, "resolution": i.resolution,
                "readable": i.readable, "problem": i.problem,
            }
            for i in infos
        ]  # fmt: skip
        missing = [{"what": what, "why": why} for what, why in bench.missing()]
        click.echo(
            json.dumps({"channels": content, "missing": missing}, indent=2, ensure_ascii=False)
        )
        return
    header = ("channel", "now", "step", "what it is", "problem")
    if form == "markdown":
        click.echo(markdown(header, rows))
        return
    import pandas as pd

    from gelassen.show.tables import as_csv

    click.echo(as_csv(pd.DataFrame(rows, columns=list(header))))


# -- record ---------------------------------------------------------------------------------------


@cli.command()
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
@click.option("--idle", type=_Duration(), default=None, help="2 min, or what the study says.")
@click.option("--soak", type=_Duration(), default=None, help="20 min, or what the study says.")
@click.option("--hold", type=_Duration(), default=None, help="10 min, or what the study says.")
@click.option("--cooldown", type=_Duration(), default=None, help="5 min, or what the study says.")
@click.option(
    "--interval",
    type=_Duration(),
    default=None,
    help="Between samples: 1 s, or what the study says.",
)
@click.option(
    "--workers", type=click.IntRange(1), default=None, help="Cores to load; all if not given."
)
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
@_sysfs
def record(
    into: Path, study: Path | None, setup: str | None,
    new_setup: bool, label: str, idle: float | None, soak: float | None,
    hold: float | None, cooldown: float | None, interval: float | None, workers: int | None,
    limit_c: float | None, stops: tuple[str, ...], sysfs: Path | None,
) -> None:  # fmt: skip
    """Idle, load and cool this machine, and record every channel."""
    from gelassen.bench.machine import MachineBench, cores_for
    from gelassen.conduct import RunPlan, plan_phases, record_run
    from gelassen.core.errors import InputError
    from gelassen.core.summary import summarise_run
    from gelassen.show.run_text import run_text
    from gelassen.study import open_study, read_run
    from gelassen.study.durations import words
    from gelassen.study.newstudy import ensure_setup
    from gelassen.study.studyfile import STUDY_FILE, Protocol, check_setup_name

    if study is None and setup is not None:
        raise InputError("--setup belongs to a study: add --study FOLDER, or use --label instead")
    if study is not None and setup is None:
        raise InputError("say which setup is on the bench: --setup NAME")
    known = open_study(study).file if study is not None and (study / STUDY_FILE).exists() else None
    if known and study is not None and setup is not None and not new_setup:
        check_setup_name(known, setup, or_else=" If it is a new one, add --new-setup")
    usual = known.protocol if known else Protocol(idle=120.0)
    step = interval if interval is not None else usual.interval
    if not 0.05 <= step <= 60:
        raise InputError(f"--interval is {step:g} s; 0.05 s to 60 s are possible")
    bench = MachineBench(sysfs=sysfs)
    plan = RunPlan(
        phases=plan_phases(
            usual.idle if idle is None else idle,
            usual.soak if soak is None else soak,
            usual.hold if hold is None else hold,
            usual.cooldown if cooldown is None else cooldown,
        ),
        interval_s=step,
        workers=workers,
        stop_c=_stop_temperatures(
            stops,
            known.guard.stop_c if known else {},
            [info.name for info in bench.channels() if info.readable],
        ),
    )
    cores_for(workers)  # refused here, before anything is written
    reference = None
    levels: dict[str, str | float] = {}
    if study is not None and setup is not None:
        ensure_setup(study, setup, limit_c=limit_c, new_setup=new_setup)
        content = open_study(study).file
        into, limit_c = study / "runs", limit_c if limit_c is not None else content.machine.limit_c
        reference, levels = content.reference, content.setups[setup]
    _note(f"recording for {words(plan.duration_s)}; Ctrl-C stops and keeps what was recorded")
    for name, stop in plan.stop_c.items():
        _note(f"guard: stops when {name} reaches {stop:g} °C")
    # Also where a shell started us with Ctrl-C switched off, as it does in the background.
    signal.signal(signal.SIGINT, _interrupt)
    signal.signal(signal.SIGTERM, _interrupt)
    with _status_line() as progress:
        folder, outcome = record_run(
            bench, plan, into, label=setup or label, setup=setup, levels=levels, limit_c=limit_c,
            reference=reference, progress=progress,
        )  # fmt: skip
    recording = read_run(folder)
    if recording.frame.empty:
        click.echo(f"run: {folder} (no sample was taken)")
    else:
        click.echo(run_text(summarise_run(recording), recording))
        click.echo(f"\nrun: {folder}")
    if outcome.status != "finished":
        _note(f"{outcome.status}: {outcome.text}")
        sys.exit(_FAILED)


def _stop_temperatures(
    stops: tuple[str, ...], of_study: dict[str, float], names: list[str]
) -> dict[str, float]:
    """Return the guard's limits: those asked for, else the study's, else 105 °C on all chips."""
    from gelassen.core.errors import InputError
    from gelassen.core.spelling import nearest

    limits = dict(of_study)
    if stops:
        limits = {}
    for stop in stops:
        name, _, value = stop.partition("=")
        try:
            limits[name.strip()] = float(value)
        except ValueError:
            raise InputError(f'--stop "{stop}": write it like cpu.package.temp_c=95') from None
    for name in limits:
        if name not in names:
            raise InputError(
                f'the guard cannot watch "{name}": it is no readable channel here.'
                + nearest(name, names)
            )
    if limits:
        return limits
    return {n: 105.0 for n in names if n.startswith(("cpu.", "gpu.")) and n.endswith(".temp_c")}


def _interrupt(*_: object) -> NoReturn:
    raise KeyboardInterrupt


@contextmanager
def _status_line() -> Iterator[Any]:
    """Show where the run is: one line that changes on a terminal, one line a minute elsewhere."""
    live = sys.stderr.isatty()
    last = -60.0

    def show(progress: "Progress") -> None:
        nonlocal last
        if not live and progress.elapsed_s - last < 60:
            return
        last = progress.elapsed_s
        readings = progress.readings
        temps = {n: v for n, v in readings.items() if n.endswith(".temp_c") and v == v}
        hottest = max(temps, key=lambda n: temps[n], default="")
        shown = f"  {hottest} {temps[hottest]:.1f} °C" if hottest else "  no temperature"
        rate = readings.get("load.work.rate_per_s", 0.0)
        text = f"{progress.phase:8}  {progress.left_s / 60:5.1f} min left{shown}  work {rate:.0f}/s"
        click.echo(f"\r\033[K{text}" if live else text, nl=not live, err=True)

    try:
        yield show
    finally:
        if live:
            click.echo("\r\033[K", nl=False, err=True)


# -- import ---------------------------------------------------------------------------------------


@cli.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--study", type=click.Path(path_type=Path), required=True, help="Study; made if new.")
@click.option("--setup", required=True, help="Setup that was on the bench.")
@click.option("--new-setup", is_flag=True, help="The setup is new to this study.")
@click.option("--limit", "limit_c", type=float, default=None, help="Limit temperature, °C.")
@click.option(
    "--column",
    "pairs",
    multiple=True,
    metavar="HEADER=CHANNEL",
    help='Which column is which channel; "{n}" stands for a number.',
)
@click.option(
    "--columns",
    "mapping",
    type=click.Path(path_type=Path),
    default=None,
    help="TOML file with a section [columns] that says so.",
)
@click.option("--dry-run", is_flag=True, help="Only show what was understood.")
def import_logs(
    files: tuple[Path, ...], study: Path, setup: str, new_setup: bool, limit_c: float | None,
    pairs: tuple[str, ...], mapping: Path | None, dry_run: bool,
) -> None:  # fmt: skip
    """Take over plain CSV logs as runs of a study, one run a file."""
    from gelassen.core.errors import InputError
    from gelassen.intake import read_log, store_import
    from gelassen.intake.columns import read_column_file

    columns: dict[str, Any] = dict(read_column_file(mapping)) if mapping else {}
    for pair in pairs:
        header, sign, channel = pair.rpartition("=")
        if not sign:
            raise InputError(f'--column "{pair}": write it like "pkg temp=cpu.package.temp_c"')
        columns[header.strip()] = channel.strip()
    # All are read before the first is stored: a mistake in the last leaves nothing half done.
    recordings = [(path, read_log(path, columns=columns)) for path in files]
    for path, recording in recordings:
        times = recording.frame.index
        click.echo(f"{path}: {len(times)} samples, {times[0]:g} to {times[-1]:g} s")
        for channel, origin in recording.channels.items():
            click.echo(f"  {origin.header} -> {channel} ({origin.conversion})")
        for caution in recording.cautions:
            click.echo(f"  caution: {caution}")
        if not dry_run:
            folder = store_import(
                recording, path, study, setup=setup, limit_c=limit_c, new_setup=new_setup
            )
            click.echo(f"  stored as {folder}")


# -- show -----------------------------------------------------------------------------------------


@cli.command()
@click.argument("run", type=click.Path(path_type=Path))
@_format
@_confidence
@click.option(
    "--channel", default=None, help="Temperature to judge by; the hottest core if not given."
)
@click.option("--reference", default=None, help="Channel that rises are taken over.")
@click.option("--limit", "limit_c", type=float, default=None, help="Limit temperature, °C.")
@click.option("--figure", type=click.Path(path_type=Path), default=None, help="Where to draw it.")
@click.option("--no-figure", is_flag=True, help="Draw nothing.")
def show(
    run: Path, form: str, confidence: float, channel: str | None, reference: str | None,
    limit_c: float | None, figure: Path | None, no_figure: bool,
) -> None:  # fmt: skip
    """Say what one RUN says: in words, in numbers and in one figure."""
    from gelassen.core.summary import summarise_run
    from gelassen.intake import read_log
    from gelassen.show.run_text import run_text
    from gelassen.show.tables import as_csv, as_json

    study = _study_of(run)
    recording = study.run(run.resolve().name) if study else read_log(run)
    summary = summarise_run(
        recording, channel=channel, reference=reference, limit_c=limit_c, confidence=confidence
    )
    if form == "json":
        click.echo(as_json(summary))
    elif form == "csv":
        click.echo(as_csv(summary.channels))
    else:
        text = run_text(summary, recording)
        click.echo(f"```\n{text}\n```" if form == "markdown" else text)
    if no_figure:
        return
    from gelassen.show.run_figure import run_figure

    path = (
        figure or (study.folder / "figures" if study else Path("figures")) / f"{summary.name}.png"
    )
    run_figure(recording, summary, path)
    _note(f"figure: {path}")


def _study_of(run: Path) -> Any:
    """Return the study a run folder lies in, or None."""
    from gelassen.study import open_study
    from gelassen.study.studyfile import STUDY_FILE

    folder = run.resolve()
    study = folder.parent.parent
    if folder.is_dir() and folder.parent.name == "runs" and (study / STUDY_FILE).exists():
        return open_study(_nearer(study))
    return None


def _nearer(path: Path) -> Path:
    """Return the path as seen from here, if it lies below."""
    try:
        return path.relative_to(Path.cwd())
    except ValueError:
        return path


# -- compare --------------------------------------------------------------------------------------


def _compared(folder: Path, baseline: str | None, confidence: float) -> "StudyComparison":
    from gelassen.study import open_study
    from gelassen.study.parallel import process_pool

    study = open_study(folder)
    if len(study.run_folders()) < 4:
        return study.compare(baseline=baseline, confidence=confidence)
    _note(f"analysing {len(study.run_folders())} runs")
    with process_pool() as pool:
        return study.compare(baseline=baseline, confidence=confidence, executor=pool)


@cli.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--baseline", default=None, help="Setup to compare against; the study's own if not given."
)
@_format
@_confidence
@click.option("--figure", type=click.Path(path_type=Path), default=None, help="Where to draw it.")
@click.option("--no-figure", is_flag=True, help="Draw nothing.")
def compare(
    study: Path,
    baseline: str | None,
    form: str,
    confidence: float,
    figure: Path | None,
    no_figure: bool,
) -> None:
    """Say which setup of STUDY is cooler, by how much, and how sure that is."""
    from gelassen.show.comparison_text import comparison_markdown, comparison_text
    from gelassen.show.tables import as_csv, as_json

    comparison = _compared(study, baseline, confidence)
    if form == "json":
        click.echo(as_json(comparison))
    elif form == "csv":
        click.echo(as_csv(comparison.setups))
    elif form == "markdown":
        click.echo(comparison_markdown(comparison))
    else:
        click.echo(comparison_text(comparison))
    if no_figure:
        return
    from gelassen.show.comparison_figure import comparison_figure

    path = figure or study / "figures" / "comparison.png"
    comparison_figure(comparison, path)
    _note(f"figure: {path}")
