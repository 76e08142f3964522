"""`gelassen report`: what a study found, on one page to show to others."""

import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import confidence_option, emit, shell

if TYPE_CHECKING:
    from gelassen.answers import Study


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--out", type=click.Path(path_type=Path), default=None, metavar="FILE",
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
    study: Path, out: Path | None, baseline: str | None, confidence: float, form: str
) -> None:
    """Write what STUDY found as one page: answer, table, every run, how sure it is."""
    from gelassen.commands.shared.analysed import opened

    found, _ = opened(study, confidence, ())
    path = out or found.folder / ("report.html" if form == "html" else "report.md")
    made_on = time.strftime("%Y-%m-%d")
    if form == "html":
        _write(path, _page(found, baseline, confidence, made_on))
    else:
        _markdown(found, baseline, confidence, path)
    emit(f"written: {shell(path)}")


def _page(study: "Study", baseline: str | None, confidence: float, made_on: str) -> str:
    from gelassen.answers.traces import study_traces
    from gelassen.show.report import comparison_page, loads_page

    traces = list(study_traces(study))
    if study.file.workloads:
        loads = study.loads(baseline=baseline, confidence=confidence)
        return loads_page(loads, study.file, study.folder, traces, made_on=made_on)
    comparison = study.compare(baseline=baseline, confidence=confidence)
    return comparison_page(comparison, study.file, study.folder, traces, made_on=made_on)


def _markdown(study: "Study", baseline: str | None, confidence: float, path: Path) -> None:
    from gelassen.figures.comparison_figure import comparison_figure
    from gelassen.show.comparison_text import comparison_markdown

    comparison = study.compare(baseline=baseline, confidence=confidence)
    picture = path.with_suffix(".png")
    comparison_figure(comparison, picture)
    image = f"![Setups sorted, with intervals]({picture.name})"
    question = f"{study.file.question}\n\n" if study.file.question else ""
    _write(
        path, f"# {study.file.title}\n\n{question}{image}\n\n{comparison_markdown(comparison)}\n"
    )


def _write(path: Path, text: Any) -> None:
    from gelassen.core.foundation.errors import FileError
    from gelassen.system.files import replace_file

    try:
        replace_file(path, text)
    except OSError as error:
        raise FileError(f"{path} cannot be written ({error.strerror or error})") from None
