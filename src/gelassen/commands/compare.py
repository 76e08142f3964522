"""`gelassen compare`: the setups of a study compared."""

import json
import math
from collections.abc import Callable
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
    hint,
    pair,
    shell,
    tell,
)
from gelassen.commands.shared.kept_answers import kept_answer, study_paths

if TYPE_CHECKING:
    from gelassen.answers import Study
    from gelassen.answers.comparison import StudyComparison
    from gelassen.answers.judged import StudyJudged


@dataclass(frozen=True, slots=True, kw_only=True)
class CompareOptions:
    """What `gelassen compare` was asked."""

    study: Path
    scheduler: str | None
    baseline: str | None
    form: str
    confidence: float
    left: tuple[str, ...]
    room_c: float | None
    effects: bool
    along: str | None
    worth: float
    where: tuple[str, ...]
    tradeoff: str | None
    of: str
    equal: str | None
    at: float | None
    loads: bool
    parts: bool
    drift: bool
    correct_drift: bool
    repeatability: bool
    judged: bool
    ladder: str | None
    by: str
    drawn: str
    figure: Path | None
    no_figure: bool

    @property
    def levels(self) -> dict[str, str | float]:
        """The factors and levels that the user gave."""
        return dict(pair("--where", text, '"curve=on-air"') for text in self.where)

    def question(self) -> "Question | None":
        """Return the answer asked for instead of the comparison; None for the comparison itself.

        Raises
        ------
        InputError
            Two are asked for, or an option does not belong to what is asked.
        """
        from gelassen.core.foundation.errors import InputError

        named = [name for name in _QUESTIONS if getattr(self, name) not in (None, False)]
        if len(named) > 1:
            raise InputError(
                "ask one thing at a time: " + ", ".join(f"--{name}" for name in _QUESTIONS)
            )
        self.refuse_others(named[0] if named else "comparison")
        return _QUESTIONS[named[0]] if named else None

    def refuse_others(self, asked: str) -> None:
        """Refuse options that this question does not take: passing over them would mislead."""
        from gelassen.core.foundation.errors import InputError

        for option, (given, owners) in self._options().items():
            if given and asked not in owners:
                belongs = " or ".join(f"--{one}" for one in owners)
                to = "the comparison itself" if "comparison" in owners else belongs
                instead = "" if asked == "comparison" else f", not with --{asked}"
                raise InputError(f"{option} goes with {to}{instead}")

    def _options(self) -> dict[str, tuple[bool, tuple[str, ...]]]:
        """Return the options that only some questions take, each as: was it given, and who takes it."""
        scaled, alone = ("along", "tradeoff", "equal"), ("comparison",)
        return {
            "--where": (bool(self.where), scaled),
            "--worth": (self.worth != 0, ("along",)),
            "--of": (self.of != "rise", ("tradeoff",)),
            "--at": (self.at is not None, ("equal",)),
            "--baseline": (self.baseline is not None, (*alone, "loads", "judged", "drift")),
            "--room": (self.room_c is not None, alone),
            "--correct-drift": (self.correct_drift, alone),
            "--by": (self.by != "rise", (*alone, "loads")),
            "--draw": (self.drawn != "setups", alone),
        }


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--baseline", default=None, help="Setup to compare against; the study's own if not given."
)
@format_option
@confidence_option
@leave_out_option
@click.option(
    "--room", "room_c", type=float, default=None, help="Also convert all to this room, °C."
)
@click.option("--effects", is_flag=True, help="Show the effect of each factor instead.")
@click.option(
    "--along", default=None, metavar="FACTOR", help="Show how the rise falls along a scale."
)
@click.option("--worth", type=float, default=0.0, help="With --along: a step pays beyond this, K.")
@click.option(
    "--where",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="With --along, --tradeoff or --equal: only runs with this level.",
)
@click.option("--tradeoff", default=None, metavar="QUANTITY", help="Compare the rise with this.")
@click.option(
    "--of",
    default="rise",
    show_default=True,
    help="With --tradeoff: rise, capacity, work, score, clock ...",
)
@click.option(
    "--equal", default=None, metavar="QUANTITY", help="Compare at equal noise_dba or fan_rpm."
)
@click.option("--at", type=float, default=None, help="With --equal: at this value.")
@click.option("--loads", is_flag=True, help="Show several loads of one study side by side.")
@click.option("--parts", is_flag=True, help="Show every part's temperature and headroom.")
@click.option(
    "--drift", is_flag=True, help="Look for a trend of the machine in the baseline's runs."
)
@click.option("--correct-drift", is_flag=True, help="Take such a trend out of all values.")
@click.option(
    "--by",
    default="rise",
    show_default=True,
    help="Compare by rest, highest, mean, score, work, clock, power, score per watt ... instead.",
)
@click.option(
    "--ladder", default=None, metavar="FACTOR", help="Show how far each setup holds along FACTOR."
)
@click.option("--judged", is_flag=True, help="Show every temperature that the study judges.")
@click.option("--repeatability", is_flag=True, help="Find the scatter of the rig, and keep it.")
@scheduler_option
@click.option(
    "--draw",
    "drawn",
    type=click.Choice(["setups", "differences", "order", "unlike"]),
    default="setups",
    show_default=True,
    help="What the figure shows: setups sorted, their differences, runs in their order, what differed "
    "besides the factors.",
)
@figure_option
def compare(**given: Any) -> None:
    """Find which setup of STUDY is cooler, by how much, and how sure that is."""
    asked = CompareOptions(**given)
    ask = asked.question()
    answer = kept_answer(
        "compare", asked, study_paths(asked.study),
        wanted=asked.scheduler is None and not asked.repeatability,  # this one is stored in the study
    )  # fmt: skip
    if answer.given_again():
        return
    study, out = opened(asked.study, asked.left, asked.scheduler, baseline=asked.baseline)
    if ask in (None, _judged) and asked.by != "rest" and study.has_programs(out):
        # Runs of different programs are not one load; at rest, there is none.
        asked.refuse_others("loads" if ask is None else "judged")
        ask = _loads
    with answer.kept():
        (ask or _compare)(study, asked, out)


Question = Callable[["Study", CompareOptions, dict[str, str]], None]


def _compare(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.answers.ladder import attempted_factor
    from gelassen.show.tables import as_csv, as_json
    from gelassen.study.disk.run_file import ATTEMPTS

    comparison = study.compare(
        baseline=asked.baseline,
        confidence=asked.confidence,
        leave_out=out,
        room_c=asked.room_c,
        correct_drift=asked.correct_drift,
        by=asked.by,
    )
    if asked.form == "json":
        emit(as_json(comparison))
    elif asked.form == "csv":
        emit(as_csv(comparison.setups))
    else:
        several = len(study.file.judge) > 1 and asked.by == "rise"
        judged = (
            study.judged(baseline=asked.baseline, confidence=asked.confidence, leave_out=out)
            if several
            else None
        )
        _tell_comparison(comparison, judged, asked.form == "markdown")
    if comparison.runs["outcome"].isin(ATTEMPTS).any():
        along = attempted_factor(study.file, study.rows(leave_out=out)[0])
        hint(
            f"attempts: gelassen compare {shell(study.folder)} --ladder {along} shows how far setups hold"
        )
    if "load" in comparison.runs and comparison.runs["load"].dropna().nunique() > 1:
        hint(
            f"several loads: gelassen compare {shell(study.folder)} --loads sets them side by side"
        )
    days = {str(started)[:10] for started in comparison.runs["started"].dropna()}
    if len(comparison.setups) == 1 and len(days) > 1:
        hint(
            f"one setup on {len(days)} days: gelassen compare {shell(study.folder)} --drift says whether "
            "it changed"
        )
    _draw(study, asked, out, comparison, "comparison" if asked.drawn == "setups" else asked.drawn)


def _tell_comparison(
    comparison: "StudyComparison", judged: "StudyJudged | None", as_markdown: bool
) -> None:
    """Print the answer. Where parts disagree, that is part of it."""
    from gelassen.show.comparison_text import comparison_markdown, comparison_text

    give, text = (emit, comparison_markdown) if as_markdown else (tell, comparison_text)
    if judged is None:
        give(text(comparison))
        return
    from gelassen.show.findings_text import judged_lines, judged_text
    from gelassen.show.tables import in_markdown

    give(text(comparison, judged_lines(judged)))
    with in_markdown(as_markdown):
        give("\n" + judged_text(judged, lines=False))


def _loads(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.loads_text import loads_text

    found = study.loads(
        baseline=asked.baseline, confidence=asked.confidence, leave_out=out, by=asked.by
    )
    _give(found, asked.form, loads_text)
    _draw(study, asked, out, found, "loads")


def _parts(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import parts_text

    _give_table(study, out, study.parts(leave_out=out), asked.form, parts_text)


def _judged(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import judged_text

    found = study.judged(baseline=asked.baseline, confidence=asked.confidence, leave_out=out)
    _give(found, asked.form, judged_text)
    _draw(study, asked, out, found, "judged")


def _ladder(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import ladder_text

    _give(study.ladder(asked.ladder or "", leave_out=out), asked.form, ladder_text)


def _equal(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import equal_text
    from gelassen.show.tables import in_markdown

    quantity = asked.equal or ""
    table = study.at_equal(
        quantity, asked.at, where=asked.levels, confidence=asked.confidence, leave_out=out
    )
    if asked.form in ("json", "csv"):
        _give_table(study, out, table, asked.form, str)
        return
    with in_markdown(asked.form == "markdown"):
        tell(equal_text(table, quantity))


def _effects(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import effects_text

    found = study.effects(confidence=asked.confidence, leave_out=out)
    _give(found, asked.form, effects_text)
    _draw(study, asked, out, found, "effects")


def _along(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import response_text

    factor = asked.along or ""
    found = study.along(
        factor, where=asked.levels, worth=asked.worth, confidence=asked.confidence, leave_out=out
    )
    _give(found, asked.form, lambda result: response_text(result, factor))
    _draw(study, asked, out, found, "along")


def _tradeoff(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import tradeoff_text

    found = study.tradeoff(
        asked.tradeoff or "",
        of=asked.of,
        where=asked.levels,
        confidence=asked.confidence,
        leave_out=out,
    )
    _give(found, asked.form, tradeoff_text)
    _draw(study, asked, out, found, "tradeoff")


def _drift(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.answers.drift import repeated_setup
    from gelassen.core.foundation.result import plain
    from gelassen.show.findings_text import drift_text, drifts_text

    table = study.table(leave_out=out)
    setup = repeated_setup(study, table, asked.baseline)
    found = study.drift(asked.baseline, confidence=asked.confidence, leave_out=out)
    others = study.drifts(asked.baseline, confidence=asked.confidence, leave_out=out)
    if asked.form == "json":
        emit(json.dumps(plain({**found.to_dict(), "beside": others}), indent=2, ensure_ascii=False))
    else:
        _give(
            found, asked.form,
            lambda result: "\n\n".join(filter(None, [drift_text(result, setup), drifts_text(others)])),
        )  # fmt: skip
    if asked.no_figure:
        return
    from gelassen.figures import order
    from gelassen.figures.canvas import save

    axis = order(study.compare(confidence=asked.confidence, leave_out=out), found)
    give_figure(lambda path: save(axis, path), asked.figure, study.folder, "drift.png")


def _repeatability(study: "Study", asked: CompareOptions, out: dict[str, str]) -> None:
    from gelassen.show.findings_text import repeatability_text

    found = study.repeatability(confidence=asked.confidence, store=True, leave_out=out)
    _give(found, asked.form, repeatability_text)
    if math.isfinite(found.total):
        _draw(study, asked, out, found, "repeatability")


_QUESTIONS: dict[str, Question] = {
    "effects": _effects,
    "along": _along,
    "tradeoff": _tradeoff,
    "equal": _equal,
    "loads": _loads,
    "parts": _parts,
    "judged": _judged,
    "ladder": _ladder,
    "drift": _drift,
    "repeatability": _repeatability,
}


def _draw(
    study: "Study", asked: CompareOptions, out: dict[str, str], result: Any, name: str
) -> None:
    if asked.no_figure:
        return
    from gelassen.figures.canvas import study_footer
    from gelassen.figures.plots import save_plot

    rows = study.rows(leave_out=out)[0]
    made_up = study.is_made_up(rows)
    below = study_footer(
        study.file.title, (row.started for row in rows), len(rows), made_up=made_up
    )
    draw = partial(save_plot, result, drawn=asked.drawn, below=below)
    give_figure(draw, asked.figure, study.folder, f"{name}.png")


def _give(result: Any, form: str, text: Callable[[Any], str]) -> None:
    import pandas as pd

    from gelassen.core.foundation.result import plain
    from gelassen.show.tables import as_csv, as_json, in_markdown

    if form == "json":
        emit(as_json(result))
    elif form == "csv":
        tables = [getattr(result, name, None) for name in ("table", "main", "steps", "setups")]
        frames = [table for table in tables if isinstance(table, pd.DataFrame)]
        emit(as_csv(frames[0] if frames else pd.DataFrame([plain(result)])))
    else:
        with in_markdown(form == "markdown"):
            tell(text(result))


def _give_table(
    study: "Study", out: dict[str, str], table: Any, form: str, text: Callable[[Any], str]
) -> None:
    from gelassen.core.foundation.result import plain
    from gelassen.show.tables import as_csv, in_markdown

    if form == "json":
        emit(json.dumps(plain(table), indent=2, ensure_ascii=False))
    elif form == "csv":
        emit(as_csv(table))
    else:
        left = [f"  - {run}: {why}" for run, why in study.rows(leave_out=out)[1]]
        with in_markdown(form == "markdown"):
            tell("\n".join([text(table), *(["", "left out", *left] if left else [])]))
