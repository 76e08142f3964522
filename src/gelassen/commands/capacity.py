"""`gelassen capacity`: how much power each setup sustains."""

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.analysed import leave_out_option, opened, scheduler_option
from gelassen.commands.shared.common import (
    confidence_option,
    emit,
    figure_option,
    format_option,
    give_figure,
    tell,
)
from gelassen.commands.shared.kept_answers import kept_answer, study_paths

if TYPE_CHECKING:
    from gelassen.answers import Study


@dataclass(frozen=True, slots=True, kw_only=True)
class CapacityOptions:
    """What `gelassen capacity` was asked."""

    study: Path
    limit_c: float | None
    room_c: float
    at_power_w: float | None
    form: str
    confidence: float
    left: tuple[str, ...]
    scheduler: str | None
    figure: Path | None
    no_figure: bool


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--limit",
    "limit_c",
    type=float,
    default=None,
    help="Limit, °C; the machine's own if not given.",
)
@click.option(
    "--room", "room_c", type=float, default=25.0, show_default=True, help="Room to answer for, °C."
)
@click.option(
    "--passes",
    "at_power_w",
    type=float,
    default=None,
    metavar="W",
    help="Show which setups sustain this.",
)
@format_option
@confidence_option
@leave_out_option
@scheduler_option
@figure_option
def capacity(**given: Any) -> None:
    """Find how much power each setup of STUDY sustains below the limit temperature."""
    asked = CapacityOptions(**given)
    paths = study_paths(asked.study)
    answer = kept_answer("capacity", asked, paths, wanted=asked.scheduler is None)
    if answer.given_again():
        return
    study, out = opened(asked.study, asked.left, asked.scheduler)
    with answer.kept():
        _capacity(study, out, asked)


def _capacity(study: "Study", out: dict[str, str], asked: CapacityOptions) -> None:
    from gelassen.figures.plots import save_plot
    from gelassen.show.capacity_text import capacity_markdown, capacity_text
    from gelassen.show.tables import as_csv, as_json

    found = study.capacity(
        limit_c=asked.limit_c,
        room_c=asked.room_c,
        at_power_w=asked.at_power_w,
        confidence=asked.confidence,
        leave_out=out,
    )
    if asked.form == "json":
        emit(as_json(found))
    elif asked.form == "csv":
        emit(as_csv(found.setups))
    elif asked.form == "markdown":
        emit(capacity_markdown(found))
    else:
        tell(capacity_text(found))
    if not asked.no_figure:
        give_figure(partial(save_plot, found), asked.figure, asked.study, "capacity.png")
