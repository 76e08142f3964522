"""`gelassen archive`: all studies below a folder, or in an object store, seen together."""

import json
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.analysed import scheduler_option, workers
from gelassen.commands.shared.common import (
    confidence_option,
    emit,
    format_option,
    progress_bar,
    say,
    tell,
)

if TYPE_CHECKING:
    from gelassen.answers.archive import Archive


@dataclass(frozen=True, slots=True, kw_only=True)
class ArchiveOptions:
    """What `gelassen archive` was asked."""

    address: str
    where: tuple[str, ...]
    runs: bool
    by: tuple[str, ...]
    repeatability: bool
    drift: str | None
    index: str | None
    scheduler: str | None
    confidence: float
    form: str


@click.command()
@click.argument("address", metavar="FOLDER")
@click.option(
    "--where",
    multiple=True,
    metavar="CONDITION",
    help='Only runs of which this holds: "cooler=Brise 120", "power_w>=100", "started>=2026-03-01".',
)
@click.option("--runs", is_flag=True, help="List the runs.")
@click.option(
    "--by",
    multiple=True,
    metavar="NAME",
    help='Compare runs of all studies by this: a factor, "machine", "study". Once for each.',
)
@click.option(
    "--repeatability", is_flag=True, help="How much each machine scatters, over its studies."
)
@click.option(
    "--drift", default=None, metavar="SETUP", help="How each machine drifted under one setup."
)
@click.option("--index", default=None, metavar="FOLDER", help="Where the index is kept.")
@scheduler_option
@confidence_option
@format_option
def archive(**given: Any) -> None:
    """See all studies below FOLDER, or at an address such as s3://bench/studies."""
    asked = ArchiveOptions(**given)
    from gelassen.answers.archive import open_archive
    from gelassen.core.foundation.errors import InputError

    questions = [asked.runs, bool(asked.by), asked.repeatability, asked.drift is not None]
    if sum(questions) > 1:
        raise InputError("--runs, --by, --repeatability and --drift are asked one at a time")
    if asked.where and not any(questions):
        raise InputError("--where chooses runs: add --runs, --by, --repeatability or --drift")
    place = None if "://" in asked.address else Path(asked.address)
    with workers(asked.scheduler, place) as pool, progress_bar("reading studies", True) as told:
        found = open_archive(asked.address, index=asked.index, executor=pool, progress=told)
    _answer(found, asked)
    if found.unreadable and any(questions):
        for name, why in found.unreadable:
            say(f"could not be read: {name}: {why}")


def _answer(found: "Archive", asked: ArchiveOptions) -> None:
    from gelassen.show.archive_text import (
        RUNS_HEADER,
        STUDIES_HEADER,
        drifts_of_machines,
        runs_rows,
        scatter_text,
        studies_rows,
        studies_text,
    )
    from gelassen.show.comparison_text import comparison_markdown, comparison_text
    from gelassen.show.tables import aligned, as_csv

    form, where = asked.form, asked.where
    if asked.by:
        compared = found.compare(asked.by, where, confidence=asked.confidence)
        words = {"text": comparison_text, "markdown": comparison_markdown}.get(form)
        if words is not None:
            tell(words(compared))
        elif form == "csv":
            emit(as_csv(compared.setups))
        else:
            _json(compared)
    elif asked.drift is not None:
        drifts = found.drift(asked.drift, where, confidence=asked.confidence)
        words_only = form in ("text", "markdown")
        tell(drifts_of_machines(drifts, asked.drift)) if words_only else _json(drifts)
    elif asked.repeatability:
        scatter = found.repeatability(where, confidence=asked.confidence)
        tell(scatter_text(scatter)) if form in ("text", "markdown") else _json(scatter)
    elif asked.runs:
        runs = found.runs(where)
        if form == "text":
            rows = runs_rows(runs)
            tell(aligned(RUNS_HEADER, rows, left=(0, 1, 2, 3, 6)) if rows else "no run matches")
        else:
            _table(runs, RUNS_HEADER, runs_rows, form)
    elif form == "text":
        tell(studies_text(found.address, found.studies(), found.unreadable))
    elif form == "json":
        _json({"studies": found.studies(), "unreadable": [list(one) for one in found.unreadable]})
    else:
        _table(found.studies(), STUDIES_HEADER, studies_rows, form)


def _table(frame: Any, header: tuple[str, ...], rows: Any, form: str) -> None:
    from gelassen.show.tables import as_csv, markdown

    if form == "json":
        _json(frame)
    else:
        emit(markdown(header, rows(frame)) if form == "markdown" else as_csv(frame))


def _json(content: Any) -> None:
    from gelassen.core.foundation.result import plain

    emit(json.dumps(plain(content), indent=2, ensure_ascii=False, default=str))
