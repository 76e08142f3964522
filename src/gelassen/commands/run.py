"""`gelassen run`: carries a study out, from the first run that is missing."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from gelassen.commands.common import FAILED, say, shell, status_line, sysfs_option

if TYPE_CHECKING:
    from gelassen.conduct.order import PlannedRun
    from gelassen.study import Study


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--dry-run", is_flag=True, help="Only show the order, the changes by hand and the time."
)
@click.option(
    "--runs", "most", type=click.IntRange(1), default=None, help="How many runs to make now."
)
@click.option("--yes", is_flag=True, help="Do not ask: every change by hand is made already.")
@click.option(
    "--discard", default=None, metavar="RUN", help="Leave a run out, so that it is made again."
)
@click.option("--why", default=None, help="With --discard: the reason.")
@sysfs_option
def run(
    study: Path, dry_run: bool, most: int | None, yes: bool, discard: str | None, why: str | None,
    sysfs: Path | None,
) -> None:  # fmt: skip
    """Make the runs of STUDY that are missing: sets what software can, asks for the rest.

    Can be stopped at any time; the next call goes on with the first run that is missing.
    """
    from gelassen.commands.record import endings
    from gelassen.conduct.studybench import study_bench
    from gelassen.conduct.studyrun import conduct_study, still_to_do
    from gelassen.core.errors import InputError
    from gelassen.study import open_study

    opened = open_study(study)
    if discard is not None:
        if not why:
            raise InputError("say why: --discard RUN --why REASON")
        say(f"left out from now on, and kept: {opened.discard(discard, why)}")
        opened = open_study(study)
    planned = still_to_do(opened)[:most]
    click.echo(_plan_text(opened, planned))
    if dry_run or not planned:
        return
    if not yes and not sys.stdin.isatty() and any(one.changes for one in planned):
        raise InputError(
            "changes by hand are needed, and nobody is there to confirm them: run this in a terminal, "
            "or say --yes if they are made already"
        )
    bench = study_bench(opened.file, sysfs=sysfs)
    failed = False
    with endings(), status_line() as progress:
        made_runs = conduct_study(
            opened,
            lambda _: bench,
            operator=None if yes else _ask,
            progress=progress,
            say=say,
            most=most,
        )
        for made in made_runs:
            click.echo(f"{made.outcome.status}: {made.folder}")
            if made.outcome.text:
                say(made.outcome.text)
            failed |= made.outcome.status != "finished"
    left = len(still_to_do(open_study(study)))
    say(
        f"{left} runs are still to be made: gelassen run {shell(study)}"
        if left
        else f"all runs are made: gelassen compare {shell(study)}"
    )
    if failed:
        sys.exit(FAILED)


def _ask(planned: "PlannedRun") -> bool:
    click.echo(f"\nNext: {planned.setup}. By hand:", err=True)
    for change in planned.changes:
        click.echo(f"  {change}", err=True)
    return click.confirm("Done? (no ends the session; nothing is lost)", default=True, err=True)


def _plan_text(study: "Study", planned: "list[PlannedRun]") -> str:
    from gelassen.conduct.studyrun import expected_s
    from gelassen.show.tables import aligned
    from gelassen.study.durations import words

    if not planned:
        return "every run of the plan is made"
    rows = [
        [
            f"{k}  {one.setup}" + (" (baseline again)" if one.again else ""), str(one.block),
            "; ".join(one.changes) or "–",
        ]
        for k, one in enumerate(planned, start=1)
    ]  # fmt: skip
    bench_s, hand_s = expected_s(study, planned)
    changes = sum(bool(one.changes) for one in planned)
    said = (
        f"{len(planned)} runs to make, {words(bench_s)} on the bench; {changes} changes by hand, about "
        f"{words(hand_s)} more"
    )
    return said + "\n\n" + aligned(["run", "pass", "by hand before it"], rows)
