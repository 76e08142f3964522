"""`gelassen demo`: the whole job on made-up sample data."""

import shlex
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click

from gelassen.commands.shared.common import emit, hint, shell, tell


@click.command()
@click.argument("folder", type=click.Path(path_type=Path), default=Path("gelassen-demo"))
@click.option("--seed", type=int, default=1, show_default=True, help="Same seed, same numbers.")
@click.option(
    "--scenario", default=None, metavar="NAME",
    help="A small study of another way of testing: by-hand, single, programs, parts, score, ladder, worth.",
)  # fmt: skip
def demo(folder: Path, seed: int, scenario: str | None) -> None:
    """Make the sample study in FOLDER, analyse it and draw it. All of it is made-up data."""
    if scenario is not None:
        _scenario(folder, seed, scenario)
        return
    from gelassen.answers import open_study
    from gelassen.answers.workers.pool import process_pool
    from gelassen.conduct import make_demo
    from gelassen.figures.comparison_figure import comparison_figure
    from gelassen.figures.run_figure import run_figure
    from gelassen.show.comparison_text import comparison_text

    with process_pool() as pool:
        with _bar("simulating the 36 runs of the sample study") as advance:
            make_demo(folder, seed=seed, executor=pool, progress=advance)
        study = open_study(folder)
        hint("analysing 36 runs")
        comparison = study.compare(executor=pool)
    tell(comparison_text(comparison))
    hint("drawing figures")
    figure = folder / "figures" / "comparison.png"
    comparison_figure(comparison, figure)
    from gelassen.core.run.summary import summarise_run

    warmest = str(comparison.runs.loc[comparison.runs["value"].idxmax(), "run"])
    recording = study.run(warmest)
    run_picture = folder / "figures" / f"{warmest}.png"
    run_figure(recording, summarise_run(recording), run_picture)
    where = shell(folder)
    emit(
        f"\nfigures: {figure}\n         {run_picture}\n\n"
        "Try next:\n"
        f'  gelassen compare {where} --baseline "Brise 120, on-air, 125 W"\n'
        f"  gelassen show {shell(folder / 'runs' / warmest)}\n"
        "  gelassen channels"
    )


def _scenario(folder: Path, seed: int, name: str) -> None:
    """Make one of the small studies, and answer it as its own commands do."""
    from gelassen.commands.compare import compare
    from gelassen.conduct.scenarios import SCENARIOS
    from gelassen.core.foundation.errors import InputError
    from gelassen.core.foundation.spelling import nearest

    chosen = SCENARIOS.get(name)
    if chosen is None:
        known = "; ".join(f"{key}: {one.about}" for key, one in SCENARIOS.items())
        raise InputError(f'"{name}" is no scenario ({known}).{nearest(name, SCENARIOS)}')
    hint(f"{name}: {chosen.about}")
    chosen.make(folder, seed=seed)
    for options in chosen.ask:
        shown = " ".join(["gelassen compare", shell(folder), *map(shlex.quote, options)])
        emit(f"\n$ {shown}")
        compare.main([str(folder), *options, "--no-figure"], standalone_mode=False)


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
    hint(label)

    def advance(done: int, of: int) -> None:
        if done % 9 == 0 or done == of:
            hint(f"  {done} of {of}")

    yield advance
