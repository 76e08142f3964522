"""`gelassen compare`: what the setups say against each other."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from gelassen.commands.common import confidence_option, format_option, say, tell

if TYPE_CHECKING:
    from gelassen.study import StudyComparison


def _compared(folder: Path, baseline: str | None, confidence: float) -> "StudyComparison":
    from gelassen.study import open_study
    from gelassen.study.parallel import process_pool

    study = open_study(folder)
    if len(study.run_folders()) < 4:
        return study.compare(baseline=baseline, confidence=confidence)
    say(f"analysing {len(study.run_folders())} runs")
    with process_pool() as pool:
        return study.compare(baseline=baseline, confidence=confidence, executor=pool)


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--baseline", default=None, help="Setup to compare against; the study's own if not given."
)
@format_option
@confidence_option
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
        tell(comparison_text(comparison))
    if no_figure:
        return
    from gelassen.show.comparison_figure import comparison_figure

    path = figure or study / "figures" / "comparison.png"
    comparison_figure(comparison, path)
    say(f"figure: {path}")
