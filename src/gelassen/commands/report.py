"""`gelassen report`: what a study found, on one page to show to others."""

from pathlib import Path
from typing import Literal

import click

from gelassen.commands.shared.common import confidence_option, emit, shell


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "-o", "--out", type=click.Path(path_type=Path), default=None, metavar="FILE",
    help="Where to write it; report.html or report.md in the study if not given.",
)  # fmt: skip
@click.option(
    "--baseline", default=None, help="Setup to compare against; the study's own if not given."
)
@confidence_option
@click.option(
    "--format", "form", type=click.Choice(["html", "markdown"]), default="html", show_default=True,
    help="One HTML file that needs no network, or Markdown with pictures beside it.",
)  # fmt: skip
def report(
    study: Path,
    out: Path | None,
    baseline: str | None,
    confidence: float,
    form: Literal["html", "markdown"],
) -> None:
    """Write what STUDY found as one page: answer, table, every run, how sure it is."""
    from gelassen.commands.shared.analysed import opened
    from gelassen.show.shown_study import Study

    found, _ = opened(study, ())
    shown = Study(found.folder, found.file)
    path = shown.report(out, form=form, baseline=baseline, confidence=confidence)
    emit(f"written: {shell(path)}")
