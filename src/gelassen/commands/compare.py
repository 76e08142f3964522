"""`gelassen compare`: what the setups say against each other."""

from collections.abc import Callable
from contextlib import nullcontext
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.common import confidence_option, format_option, pair, say, shell, tell

if TYPE_CHECKING:
    from gelassen.answers import Study

leave_out_option = click.option(
    "--leave-out",
    "left",
    multiple=True,
    metavar="RUN=WHY",
    help="Leave a run out, with the reason.",
)
_FEW = 4


def opened(
    folder: Path, confidence: float, left: tuple[str, ...]
) -> "tuple[Study, dict[str, str]]":
    """Open a study, analyse what is new in it side by side, and return what is left out."""
    from gelassen.answers import open_study
    from gelassen.answers.parallel import process_pool

    study = open_study(folder)
    out: dict[str, str] = {}
    for text in left:
        run, why = pair("--leave-out", text, '"7=its fans ran faster"')
        out[run] = why
    new = study.unanalysed(confidence=confidence)
    if new >= _FEW:
        say(f"analysing {new} runs")
    with process_pool() if new >= _FEW else nullcontext() as pool:
        study.rows(confidence=confidence, executor=pool, leave_out=out)
    return study, out


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--baseline", default=None, help="Setup to compare against; the study's own if not given."
)
@format_option
@confidence_option
@leave_out_option
@click.option("--room", "room_c", type=float, default=None, help="Also bring all to this room, °C.")
@click.option("--effects", is_flag=True, help="Say what each factor does instead.")
@click.option(
    "--along", default=None, metavar="FACTOR", help="Say how the rise falls along a scale."
)
@click.option("--worth", type=float, default=0.0, help="With --along: a step pays beyond this, K.")
@click.option(
    "--where",
    multiple=True,
    metavar="FACTOR=LEVEL",
    help="With --along, --tradeoff or --equal: only runs with this level.",
)
@click.option("--tradeoff", default=None, metavar="QUANTITY", help="Set the rise against this.")
@click.option(
    "--of", default="rise", show_default=True, help="With --tradeoff: rise, capacity or work_per_s."
)
@click.option(
    "--equal", default=None, metavar="QUANTITY", help="Compare at equal noise_dba or fan_rpm."
)
@click.option("--at", type=float, default=None, help="With --equal: at this value.")
@click.option("--loads", is_flag=True, help="Set several loads of one study side by side.")
@click.option("--parts", is_flag=True, help="Show every part's temperature and headroom.")
@click.option(
    "--drift", is_flag=True, help="Look for a trend of the machine in the baseline's runs."
)
@click.option("--correct-drift", is_flag=True, help="Take such a trend out of all values.")
@click.option("--repeatability", is_flag=True, help="Say what the rig scatters by, and keep it.")
@click.option("--figure", type=click.Path(path_type=Path), default=None, help="Where to draw it.")
@click.option("--no-figure", is_flag=True, help="Draw nothing.")
def compare(
    study: Path, baseline: str | None, form: str, confidence: float, left: tuple[str, ...],
    room_c: float | None, effects: bool, along: str | None, worth: float, where: tuple[str, ...],
    tradeoff: str | None, of: str, equal: str | None, at: float | None, loads: bool, parts: bool,
    drift: bool, correct_drift: bool, repeatability: bool, figure: Path | None,
    no_figure: bool,
) -> None:  # fmt: skip
    """Say which setup of STUDY is cooler, by how much, and how sure that is."""
    from gelassen.core.foundation.errors import InputError

    asked = [
        effects, along is not None, tradeoff is not None, equal is not None, loads, parts, drift,
        repeatability,
    ]  # fmt: skip
    if sum(asked) > 1:
        raise InputError(
            "ask one thing at a time: --effects, --along, --tradeoff, --equal, --loads, --parts, --drift, "
            "--repeatability"
        )
    opened_study, out = opened(study, confidence, left)
    if not any(asked):
        _compare(
            opened_study, baseline, form, confidence, out, room_c, correct_drift, figure, no_figure
        )
        return
    if loads:
        from gelassen.show.findings_text import loads_text

        found = opened_study.loads(baseline=baseline, confidence=confidence, leave_out=out)
        _give(found, form, loads_text)
        return
    if parts:
        from gelassen.show.findings_text import parts_text

        _give_table(opened_study, out, opened_study.parts(leave_out=out), form, parts_text)
        return
    if equal is not None:
        from gelassen.show.findings_text import equal_text

        table = opened_study.at_equal(
            equal, at, where=_levels(where), confidence=confidence, leave_out=out
        )
        _give_table(opened_study, out, table, form, lambda found: equal_text(found, equal))
        return
    result, text, name = _asked(
        opened_study, confidence, out, effects=effects, along=along, worth=worth, where=where,
        tradeoff=tradeoff, of=of, drift=drift, baseline=baseline,
    )  # fmt: skip
    _give(result, form, text)
    if name and not no_figure:
        from gelassen.figures.plots import save_plot

        path = figure or study / "figures" / f"{name}.png"
        made_up = "   (made-up sample data)" if opened_study.file.made_up else ""
        save_plot(result, path, about=opened_study.file.title + made_up)
        say(f"figure: {path}")


def _compare(
    study: "Study", baseline: str | None, form: str, confidence: float, out: dict[str, str],
    room_c: float | None, correct_drift: bool, figure: Path | None, no_figure: bool,
) -> None:  # fmt: skip
    from gelassen.figures.comparison_figure import comparison_figure
    from gelassen.show.comparison_text import comparison_markdown, comparison_text
    from gelassen.show.tables import as_csv, as_json

    comparison = study.compare(
        baseline=baseline,
        confidence=confidence,
        leave_out=out,
        room_c=room_c,
        correct_drift=correct_drift,
    )
    if form == "json":
        click.echo(as_json(comparison))
    elif form == "csv":
        click.echo(as_csv(comparison.setups))
    elif form == "markdown":
        click.echo(comparison_markdown(comparison))
    else:
        tell(comparison_text(comparison))
    if "load" in comparison.runs and comparison.runs["load"].dropna().nunique() > 1:
        say(f"several loads: gelassen compare {shell(study.folder)} --loads sets them side by side")
    if not no_figure:
        path = figure or study.folder / "figures" / "comparison.png"
        comparison_figure(comparison, path)
        say(f"figure: {path}")


def _asked(
    study: "Study", confidence: float, out: dict[str, str], *, effects: bool, along: str | None,
    worth: float, where: tuple[str, ...], tradeoff: str | None, of: str, drift: bool,
    baseline: str | None,
) -> tuple[Any, Callable[[Any], str], str]:  # fmt: skip
    """Return the answer, how it is worded, and the name of its figure ("" for none)."""
    from gelassen.show import findings_text as words

    if effects:
        return study.effects(confidence=confidence, leave_out=out), words.effects_text, "effects"
    levels = _levels(where)
    if along is not None:
        found = study.along(along, where=levels, worth=worth, confidence=confidence, leave_out=out)
        return found, lambda result: words.response_text(result, along), "along"
    if tradeoff is not None:
        traded = study.tradeoff(tradeoff, of=of, where=levels, confidence=confidence, leave_out=out)
        return traded, words.tradeoff_text, "tradeoff"
    if drift:
        setup = baseline or study.file.baseline
        trend = study.drift(baseline, confidence=confidence, leave_out=out)
        return trend, lambda result: words.drift_text(result, setup or "the setup run most"), ""
    rig = study.repeatability(confidence=confidence, store=True, leave_out=out)
    return rig, words.repeatability_text, ""


def _levels(where: tuple[str, ...]) -> dict[str, str | float]:
    """Return the factors and levels that were asked for."""
    return dict(pair("--where", text, '"curve=on-air"') for text in where)


def _give(result: Any, form: str, text: Callable[[Any], str]) -> None:
    import pandas as pd

    from gelassen.core.foundation.result import plain
    from gelassen.show.tables import as_csv, as_json

    if form == "json":
        click.echo(as_json(result))
    elif form == "csv":
        tables = [getattr(result, name, None) for name in ("table", "main", "steps", "setups")]
        frames = [table for table in tables if isinstance(table, pd.DataFrame)]
        click.echo(as_csv(frames[0] if frames else pd.DataFrame([plain(result)])))
    else:
        words = text(result)
        tell(f"```\n{words}\n```" if form == "markdown" else words)


def _give_table(
    study: "Study", out: dict[str, str], table: Any, form: str, text: Callable[[Any], str]
) -> None:
    import json

    from gelassen.core.foundation.result import plain
    from gelassen.show.tables import as_csv

    if form == "json":
        click.echo(json.dumps(plain(table), indent=2, ensure_ascii=False))
    elif form == "csv":
        click.echo(as_csv(table))
    else:
        left = [f"  - {run}: {why}" for run, why in study.rows(leave_out=out)[1]]
        words = "\n".join([text(table), *(["", "left out", *left] if left else [])])
        tell(f"```\n{words}\n```" if form == "markdown" else words)
