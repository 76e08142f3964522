"""`gelassen run`: carries a study out, from the first run that is missing."""

import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import FAILED, emit, hint, say, shell, sysfs_option
from gelassen.commands.shared.live_run import Watcher, watching
from gelassen.commands.watch import page_of, watch_option
from gelassen.core.foundation.counted import counted

if TYPE_CHECKING:
    from gelassen.answers import Study
    from gelassen.bench.interface import Bench
    from gelassen.conduct.planning.order import PlannedRun


@dataclass(frozen=True, slots=True, kw_only=True)
class RunOptions:
    """What `gelassen run` was asked."""

    study: Path
    dry_run: bool
    most: int | None
    yes: bool
    again: str | None
    discard: str | None
    why: str | None
    waive: tuple[str, ...]
    simulate: float | None
    watch_at: str | None
    sysfs: Path | None


@click.command()
@click.argument("study", type=click.Path(path_type=Path))
@click.option(
    "--dry-run", is_flag=True, help="Only show the order, the changes by hand and the time."
)
@click.option(
    "--runs", "most", type=click.IntRange(1), default=None, help="How many runs to make now."
)
@click.option("-y", "--yes", is_flag=True, help="Do not ask: every change by hand is made already.")
@click.option("--again", default=None, metavar="RUN", help="Repeat a doubtful run first.")
@click.option(
    "--discard", default=None, metavar="RUN", help="Leave a run out, so that it is made again."
)
@click.option("--why", default=None, help="With --discard: the reason.")
@click.option(
    "--waive", multiple=True, metavar="CHECK", help="Continue despite this finding of the checks."
)
@click.option(
    "--simulate", type=click.FloatRange(1), default=None, metavar="SPEED",
    help="Rehearse on the simulated bench, this many times faster; for studies marked made_up.",
)  # fmt: skip
@watch_option
@sysfs_option
def run(**given: Any) -> None:
    """Make the runs of STUDY that are missing: sets what software can, asks for the rest.

    Looks at the machine first. Can be stopped at any time; the next call goes on with the first run
    that is missing. Keys while it runs: n next phase, s stop this run, q stop all.
    """
    asked = RunOptions(**given)
    from gelassen.answers import open_study
    from gelassen.commands.record import endings
    from gelassen.conduct.operator.hand_change import needs_hands
    from gelassen.conduct.study_run import conduct_study, still_to_do
    from gelassen.core.foundation.errors import InputError

    opened = open_study(asked.study)
    if asked.discard is not None:
        if not asked.why:
            raise InputError("say why: --discard RUN --why REASON")
        say(f"left out from now on, and kept: {opened.discard(asked.discard, asked.why)}")
        opened = open_study(asked.study)
    if asked.again is not None:
        opened.find_run(asked.again)
    planned = still_to_do(opened)[: asked.most]
    emit(_plan_text(opened, planned))
    if asked.dry_run or not (planned or asked.again):
        return
    hands = asked.again is not None or any(needs_hands(opened.file, one) for one in planned)
    if not asked.yes and not sys.stdin.isatty() and hands:
        raise InputError(
            "changes by hand are needed, and nobody is there to confirm them: run this in a terminal, "
            "or say --yes if they are made already"
        )
    failed = False
    with endings(), page_of(asked.study, asked.watch_at), watching() as watcher:
        made_runs = conduct_study(
            opened,
            _Benches(
                opened,
                asked.sysfs,
                asked.simulate,
                watcher,
                len(planned) + (asked.again is not None),
            ),
            operator=None if asked.yes else _Operator(opened, watcher),
            progress=watcher.progress,
            say=watcher.say,
            wish=watcher.wish,
            most=asked.most,
            again=asked.again,
            waive=asked.waive,
        )
        for made in made_runs:
            watcher.rest()
            emit(f"{made.outcome.status}: {made.folder}")
            if made.outcome.text:
                say(made.outcome.text)
            failed |= made.outcome.status != "finished"
    left = len(still_to_do(open_study(asked.study)))
    next_step = "capacity" if opened.file.protocol.kind == "capacity" else "compare"
    hint(
        f"{counted(left, 'run')} still to be made: gelassen run {shell(asked.study)}"
        if left
        else f"all runs are made: gelassen {next_step} {shell(asked.study)}"
    )
    if failed:
        sys.exit(FAILED)


class _Benches:
    """Gives the bench of each run, and tells the watcher which run it is."""

    def __init__(
        self,
        study: "Study",
        sysfs: Path | None,
        simulate: float | None,
        watcher: Watcher,
        total: int,
    ) -> None:
        from gelassen.conduct.study_bench import study_bench
        from gelassen.core.foundation.errors import InputError

        self._watcher, self._number, self._total = watcher, 0, total
        self._made_up = study.file.made_up
        if simulate is None:
            machine = study_bench(study.file, sysfs=sysfs)
            self._bench_of: Callable[[PlannedRun], Bench] = lambda _: machine
            return
        if not study.file.made_up:
            raise InputError(
                "--simulate fills a study with made-up data, and this one is not marked so: write "
                "made_up = true in its study.toml, or try it on a copy"
            )
        self._bench_of = lambda planned: _rehearsed(study, planned, self._number, simulate)

    def __call__(self, planned: "PlannedRun") -> "Bench":
        self._number += 1
        again = " (baseline again)" if planned.again else ""
        made_up = "   made-up sample data" if self._made_up else ""
        named = f"{planned.key}{again}{made_up}"
        self._watcher.begin(f"run {self._number} of {self._total}: {named}")
        return self._bench_of(planned)


def _rehearsed(study: "Study", planned: "PlannedRun", number: int, speed: float) -> "Bench":
    from gelassen.conduct.rehearsal import PacedBench, simulated_bench

    return PacedBench(simulated_bench(study.file, planned, seed=number), speed)


class _Operator:
    """Asks for changes by hand."""

    def __init__(self, study: "Study", watcher: Watcher) -> None:
        self._study, self._watcher = study, watcher

    def __call__(self, planned: "PlannedRun") -> bool | str:
        from gelassen.conduct.operator.hand_change import instructions, to_note

        self._watcher.rest()
        if planned.problems:
            say("\nThe readings do not show the change:")
            for problem in planned.problems:
                say(f"  {problem}")
        else:
            say(f"\nNext: {planned.key}. By hand:")
            for line in instructions(self._study.file, planned):
                say(f"  {line}")
            say(f"  ({to_note(self._study.file, planned)})")
        done = (
            "Enter when corrected, or to continue as it is, which is noted"
            if planned.problems
            else "Enter when done, with a note if you like"
        )
        answer: str = click.prompt(
            f"{done}; q ends the session, nothing is lost",
            default="", show_default=False, err=True, prompt_suffix=": ",
        )  # fmt: skip
        if answer.strip().lower() in ("q", "quit", "n", "no"):
            return False
        return answer.strip() or True


def _plan_text(study: "Study", planned: "list[PlannedRun]") -> str:
    from gelassen.conduct.study_run import expected_s
    from gelassen.show.tables import aligned
    from gelassen.study.file.durations import words

    if not planned:
        return "every run of the plan is made"
    rows = [
        [
            f"{k}  {one.key}" + (" (baseline again)" if one.again else ""), str(one.block),
            "; ".join(map(str, one.changes)) or "–",
        ]
        for k, one in enumerate(planned, start=1)
    ]  # fmt: skip
    bench_s, hand_s = expected_s(study, planned)
    changes = sum(bool(one.changes) for one in planned)
    about = "about " if _is_gated(study) else ""
    said = (
        f"{counted(len(planned), 'run')} to make, {about}{words(bench_s)} on the bench; "
        f"{counted(changes, 'change')} by hand, "
        f"about {words(hand_s)} more"
    )
    return said + "\n\n" + aligned(["run", "pass", "by hand before it"], rows, left=(0, 2))


def _is_gated(study: "Study") -> bool:
    from gelassen.study.file.gate import Gate

    usual = study.file.protocol
    phases = (usual.idle, usual.soak, usual.hold, usual.cooldown)
    return usual.kind == "capacity" or any(isinstance(phase, Gate) for phase in phases)
