"""`gelassen curve`: where fan curves settle, and which one to try."""

import re
from dataclasses import dataclass, replace
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
    say,
    tell,
)

if TYPE_CHECKING:
    from gelassen.answers.fans.curves import CurveQuestion, StudyCurves

_WITH_UNIT = re.compile(r"\s*(-?\d+(?:[.,]\d+)?)\s*([^\d\s]*)\s*")


class WithUnit(click.ParamType):  # type: ignore[type-arg]
    """A number that may carry its unit: 95, 95W, "95 W"."""

    def __init__(self, unit: str, *others: str) -> None:
        self.name = unit
        self._units = (unit, *others)

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Return the number."""
        found = _WITH_UNIT.fullmatch(str(value))
        if found is None or found[2].lower() not in ("", *(unit.lower() for unit in self._units)):
            self.fail(
                f'"{value}" is no number in {self._units[0]}, such as 95 or 95{self._units[0]}'
            )
        return float(found[1].replace(",", "."))


_CELSIUS = WithUnit("C", "°C")


@dataclass(frozen=True, slots=True, kw_only=True)
class CurveOptions:
    """What `gelassen curve` was asked."""

    study: Path
    tried: str | None
    quietest: bool
    below_c: float | None
    coolest: bool
    noise_dba: float | None
    rpm: float | None
    powers_w: tuple[float, ...]
    rooms_c: tuple[float, ...]
    setup: str | None
    form: str
    confidence: float
    left: tuple[str, ...]
    scheduler: str | None
    figure: Path | None
    no_figure: bool
    drawn: str


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--try",
    "tried",
    default=None,
    metavar="CURVE",
    help='Predict this curve, °C to %, such as "40: 30, 60: 40, 80: 70".',
)
@click.option("--quietest", is_flag=True, help="Find the quietest curve that stays --below.")
@click.option("--below", "below_c", type=_CELSIUS, default=None, help="Temperature to keep, °C.")
@click.option("--coolest", is_flag=True, help="Find the coolest curve within --noise.")
@click.option(
    "--noise",
    "noise_dba",
    type=WithUnit("dB(A)", "dBA", "dB"),
    default=None,
    help="Sound level to keep, dB(A).",
)
@click.option(
    "--rpm", type=WithUnit("rpm"), default=None, help="Compare the setups at this fan speed."
)
@click.option(
    "--at",
    "powers_w",
    type=WithUnit("W"),
    multiple=True,
    help="Power to answer for, W; may be given again. What the runs had if not given.",
)
@click.option(
    "--room",
    "rooms_c",
    type=_CELSIUS,
    multiple=True,
    help="Room to answer for, °C; may be given again. What the runs had if not given.",
)
@click.option("--setup", default=None, help="One setup, without its curve and power.")
@format_option
@confidence_option
@leave_out_option
@scheduler_option
@click.option(
    "--draw",
    "drawn",
    type=click.Choice(["curves", "loops", "predictions"]),
    default="curves",
    show_default=True,
    help="What the figure shows: curves, loops in time, runs beside their prediction.",
)
@figure_option  # fmt: skip
def curve(**given: Any) -> None:
    """Predict where fan curves settle in STUDY, or find the one to try.

    It learns from runs at two fan speeds or more; three to five fixed duties are good.
    """
    asked = CurveOptions(**given)
    question = _question(asked)
    from gelassen.show.curve_text import curve_markdown, curve_text
    from gelassen.show.tables import as_csv, as_json

    study, out = opened(asked.study, asked.left, asked.scheduler)
    found = study.curves(question, setup=asked.setup, confidence=asked.confidence, leave_out=out)
    if asked.form == "json":
        emit(as_json(replace(found, courses=found.courses[:0])))  # thousands of lines, for figures
    elif asked.form == "csv":
        emit(as_csv(found.points if len(found.points) else found.resistance))
    elif asked.form == "markdown":
        emit(curve_markdown(found))
    else:
        tell(curve_text(found))
    if not asked.no_figure:
        _draw(found, asked)


def _draw(found: "StudyCurves", asked: CurveOptions) -> None:
    from gelassen.figures import fan_loops, predictions
    from gelassen.figures.canvas import save
    from gelassen.figures.plots import save_plot

    if asked.drawn == "curves":
        give_figure(partial(save_plot, found), asked.figure, asked.study, "curve.png")
        return
    try:
        axis = fan_loops(found) if asked.drawn == "loops" else predictions(found)
    except ValueError as error:
        say(f"no figure: {error}")
        return
    give_figure(lambda path: save(axis, path), asked.figure, asked.study, f"{asked.drawn}.png")


def _question(asked: CurveOptions) -> "CurveQuestion":
    """Return what is asked, checked for what belongs together."""
    from gelassen.answers.fans.curves import CurveQuestion
    from gelassen.core.fans.curve import parse_curve

    for flag, wanted, value, name in (
        (asked.quietest, "--quietest", asked.below_c, "--below 80"),
        (asked.coolest, "--coolest", asked.noise_dba, "--noise 35"),
    ):
        if flag and value is None:
            raise click.UsageError(f"{wanted} needs {name}")
        if value is not None and not flag:
            raise click.UsageError(f"{name.split()[0]} belongs to {wanted}: give it, too")
    if any(power <= 0 for power in asked.powers_w):
        raise click.UsageError("--at is a power above 0 W")
    return CurveQuestion(
        powers_w=asked.powers_w, rooms_c=asked.rooms_c,
        tried=None if asked.tried is None else parse_curve(asked.tried, "--try"),
        rpm=asked.rpm, quietest_below_c=asked.below_c, coolest_within_dba=asked.noise_dba,
    )  # fmt: skip
