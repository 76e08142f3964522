"""`gelassen show`: the answer of one run."""

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import click

from gelassen.commands.shared.common import (
    Duration,
    confidence_option,
    emit,
    figure_option,
    give_figure,
    say,
    shell,
    study_at,
    tell,
)
from gelassen.commands.shared.everywhere import written_to
from gelassen.commands.shared.kept_answers import kept_answer


@dataclass(frozen=True, slots=True, kw_only=True)
class ShowOptions:
    """What `gelassen show` was asked."""

    run: Path
    more: tuple[Path, ...]
    form: str
    samples: bool
    tidy: bool
    output: Path | None
    confidence: float
    channel: str | None
    cores: bool
    reference: str | None
    limit_c: float | None
    every: float | None
    figure: Path | None
    no_figure: bool


@click.command()
@click.argument("run", type=click.Path(path_type=Path))
@click.argument("more", nargs=-1, type=click.Path(path_type=Path), metavar="[RUN]...")
@click.option(
    "--format", "form", type=click.Choice(["text", "json", "csv", "markdown", "parquet"]), default="text",
    help="How to print the numbers; parquet gives the samples.",
)  # fmt: skip
@click.option(
    "--samples", is_flag=True, help="Give the samples themselves, as CSV, JSON or Parquet."
)
@click.option(
    "--tidy", is_flag=True, help="Samples with one row a reading, not one column a channel."
)
@click.option(
    "-o",
    "--out",
    "--output",
    "output",
    type=click.Path(dir_okay=False, path_type=Path),
    default=None,
    metavar="FILE",
    help="Write the result, or the samples, there instead of printing them.",
)
@confidence_option
@click.option(
    "--channel",
    default=None,
    help='Temperature to judge by: a channel or "mean of cores"; the hottest core if not given.',
)
@click.option("--cores", is_flag=True, help="Draw the temperature of each core over time instead.")
@click.option("--reference", default=None, help="Reference channel of the rises.")
@click.option("--limit", "limit_c", type=float, default=None, help="Limit temperature, °C.")
@click.option(
    "--every",
    type=Duration(),
    default=None,
    metavar="DURATION",
    help="Show means of every channel over blocks of this length instead, such as 1 min.",
)
@figure_option
@click.pass_context
def show(context: click.Context, /, **given: Any) -> None:
    """Show one RUN in words, in numbers and in one figure; several RUNs over each other."""
    asked = ShowOptions(**given)
    if asked.output is not None and not (asked.samples or asked.form == "parquet"):
        context.with_resource(written_to(asked.output))
    for run in (asked.run, *asked.more):
        _refuse_what_is_no_run(run)
    to_file = (
        asked.samples or asked.form == "parquet"
    )  # samples may be written to a file of their own
    answer = kept_answer("show", asked, _paths(asked), wanted=not to_file)
    if answer.given_again():
        return
    with answer.kept():
        _show(asked)


def _refuse_what_is_no_run(path: Path) -> None:
    """Refuse what is not there, and a study, before anything heavy is imported."""
    from gelassen.core.foundation.errors import FileError

    if not path.exists():
        raise FileError(f"{path}: there is no such file")
    if (study := study_at(path)) is not None:
        first = next(iter(sorted((study / "runs").glob("[!.]*/"))), None)
        one = f"such as {shell(first)}" if first is not None else "once it has one"
        raise FileError(
            f"{path} is a study, not a run. Show one of its runs, {one}; "
            f"or compare all of them: gelassen compare {shell(study)}"
        )


def _paths(asked: ShowOptions) -> list[Path]:
    """Return what the answer is found from: the runs, and the studies that they lie in."""
    runs = [asked.run, *asked.more]
    return [
        *runs,
        *(run.resolve().parents[1] for run in runs if run.resolve().parent.name == "runs"),
    ]


def _show(asked: ShowOptions) -> None:
    if asked.more:
        _show_several(asked)
        return
    from gelassen.core.run.summary import summarise_run
    from gelassen.intake import read_log
    from gelassen.show.run_text import by_hand_text, run_text
    from gelassen.show.tables import as_csv, as_json, in_markdown

    study = _study_of(asked.run)
    recording = study.run(asked.run.resolve().name) if study else read_log(asked.run)
    if recording.by_hand:
        with in_markdown(asked.form == "markdown"):
            tell(by_hand_text(recording))
        return
    if asked.samples or asked.form == "parquet":
        _give_samples(recording, asked.form, asked.tidy, asked.output)
        return
    if asked.every is not None:
        _show_blocks(recording, asked.every, asked.form)
        return
    summary = summarise_run(
        recording,
        channel=asked.channel,
        reference=asked.reference,
        limit_c=asked.limit_c,
        confidence=asked.confidence,
    )
    if asked.form == "json":
        emit(as_json(summary))
    elif asked.form == "csv":
        emit(as_csv(summary.channels))
    else:
        with in_markdown(asked.form == "markdown"):
            tell(run_text(summary, recording))
    if asked.no_figure:
        return
    from gelassen.figures import cores, run
    from gelassen.figures.canvas import save

    figure = cores(recording) if asked.cores else run(recording, summary)
    give_figure(
        partial(save, figure),
        asked.figure,
        study.folder if study else Path(),
        f"{summary.name}{'-cores' if asked.cores else ''}.png",
    )


def _opened(run: Path) -> Any:
    """Return a run, completed from its study if it lies in one."""
    from gelassen.intake import read_log

    study = _study_of(run)
    return study.run(run.resolve().name) if study else read_log(run)


def _show_several(asked: ShowOptions) -> None:
    """Print one line a run, and draw them over each other."""
    from gelassen.core.foundation.errors import InputError
    from gelassen.core.run.summary import summarise_run
    from gelassen.figures.canvas import save
    from gelassen.figures.overlay_figure import runs

    if asked.form != "text" or asked.samples or asked.every is not None:
        raise InputError(
            "several runs are only drawn over each other: ask for one run to get its numbers"
        )
    recordings = [_opened(run) for run in (asked.run, *asked.more)]
    for recording in recordings:
        if recording.frame.empty:
            raise InputError(f"{recording.name} has no samples to draw")
        summary = summarise_run(recording, channel=asked.channel, confidence=asked.confidence)
        tell(str(summary).split("\n  caution")[0])
    if asked.no_figure:
        return
    study = _study_of(asked.run)
    figure = runs(recordings)
    give_figure(
        lambda path: save(figure, path), asked.figure, study.folder if study else Path(), "runs.png"
    )


def _give_samples(recording: Any, form: str, tidy: bool, output: Path | None) -> None:
    """Write the samples to a file, or as text to standard output."""
    import json

    from gelassen.core.foundation.errors import InputError
    from gelassen.core.foundation.result import plain

    if form == "parquet":
        if output is None:
            raise InputError("Parquet is not text: say where it goes, -o run.parquet")
        recording.to_parquet(output, tidy=tidy)
    elif form == "json":
        table = recording.table(tidy=tidy)
        content = {
            "name": recording.name,
            "started": recording.started.isoformat() if recording.started else None,
            "made_up": recording.made_up,
            "columns": {str(name): plain(table[name].to_numpy()) for name in table.columns},
        }
        text = json.dumps(content, ensure_ascii=False)
        emit(text) if output is None else output.write_text(text + "\n", encoding="utf-8")
    elif output is None:
        emit(recording.to_csv(tidy=tidy), nl=False)
    else:
        recording.to_csv(output, tidy=tidy)
    if output is not None:
        say(f"written: {output}")


def _show_blocks(recording: Any, length_s: float, form: str) -> None:
    """Print block means: plain in CSV and JSON, transposed for people."""
    import json

    from gelassen.core.foundation.result import plain
    from gelassen.core.signal.blocks import block_means
    from gelassen.show.block_table import block_rows
    from gelassen.show.tables import aligned, as_csv, markdown

    means = block_means(recording.frame, length_s=length_s).reset_index()
    if form == "json":
        emit(json.dumps(plain(means), indent=2, ensure_ascii=False))
    elif form == "csv":
        emit(as_csv(means))
    else:
        header, rows = block_rows(means)
        if recording.made_up:
            emit("made-up sample data")
        emit(markdown(header, rows) if form == "markdown" else aligned(header, rows))


def _study_of(run: Path) -> Any:
    """Return the study a run folder lies in, or None."""
    from gelassen.answers import open_study
    from gelassen.study.file.study_file import STUDY_FILE

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
