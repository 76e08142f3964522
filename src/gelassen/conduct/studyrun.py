"""Carries a study out: the runs that are still missing, in order, with someone's hands where needed."""

from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from gelassen.bench.interface import Bench
from gelassen.conduct.order import PlannedRun, order_runs, remaining
from gelassen.conduct.recording import record_run
from gelassen.conduct.recordplan import Wanted, plan_recording, settings_of_setup
from gelassen.conduct.run import Progress, RunOutcome
from gelassen.study.abandoned import ENDED_WITHOUT_NOTICE, close_abandoned
from gelassen.study.journal import goes_on
from gelassen.study.runfile import read_run_file
from gelassen.study.study import Study
from gelassen.study.writer import RUN_JSON

# What counts as a run that was made. A crash, a shutdown, a stop by the guard are results; a run that the
# tester stopped, or that failed for want of disk or a load, is made again.
_MADE = ("finished", "imported", "guard", ENDED_WITHOUT_NOTICE)
_POWER_LIMIT = "cpu.package.power_limit_w"


@dataclass(frozen=True, slots=True, kw_only=True)
class MadeRun:
    """A run that was carried out."""

    planned: PlannedRun
    folder: Path
    outcome: RunOutcome


def runs_made(study: Study) -> Counter[str]:
    """Return how many runs of each setup there are; those left out by the tester do not count."""
    out = study.left_out()
    made: Counter[str] = Counter()
    for folder in study.run_folders():
        if folder.name in out or not (folder / RUN_JSON).exists():
            continue
        run = read_run_file(folder / RUN_JSON)
        outcome = run.outcome
        if outcome == "recording" and not goes_on(folder):
            outcome = ENDED_WITHOUT_NOTICE
        if run.setup is not None and outcome in _MADE:
            made[run.setup] += 1
    return made


def still_to_do(study: Study) -> list[PlannedRun]:
    """Return the runs of a study that are still missing, in order."""
    return remaining(order_runs(study.file), runs_made(study))


def expected_s(study: Study, planned: list[PlannedRun]) -> tuple[float, float]:
    """Return how long the runs take, and what changes by hand add to that, in s."""
    usual = study.file.protocol
    one = usual.idle + usual.soak + usual.hold + usual.cooldown
    return one * len(planned), usual.hand_change * sum(bool(run.changes) for run in planned)


def conduct_study(
    study: Study,
    bench_for: Callable[[PlannedRun], Bench],
    *,
    operator: Callable[[PlannedRun], bool] | None = None,
    progress: Callable[[Progress], None] | None = None,
    say: Callable[[str], None] | None = None,
    most: int | None = None,
) -> Iterator[MadeRun]:
    """Carry out the runs that are missing, one by one; yield each as it ends.

    Parameters
    ----------
    study : Study
        What is to be tested.
    bench_for : callable
        Returns the bench for a run: this machine, or a simulated one with these levels.
    operator : callable, optional
        Asked before a run that needs hands; False ends the session, and nothing is lost.
    progress, say : callable, optional
        Told where a run is; told what is worth a line.
    most : int, optional
        How many runs to make.

    Notes
    -----
    A run that the user stops ends the session. The next call goes on with the first run that is missing.
    """
    tell = say or (lambda text: None)
    runs = study.folder / "runs"
    for line in close_abandoned(runs):
        tell(f"earlier run {line}")
    for planned in still_to_do(study)[:most]:
        if planned.changes and operator is not None and not operator(planned):
            return
        bench = bench_for(planned)
        plan = plan_recording(bench, study.file, Wanted())
        settings, hints = settings_of_setup(study.file, planned.levels, list(bench.actuators()))
        for hint in hints:
            tell(hint)
        folder, outcome = record_run(
            bench, replace(plan, settings={**settings, **plan.settings}), runs, label=planned.setup,
            setup=planned.setup, levels=planned.levels, limit_c=study.file.machine.limit_c,
            power_limit_w=settings.get(_POWER_LIMIT), reference=study.file.reference,
            made_up=study.file.made_up, progress=progress,
        )  # fmt: skip
        yield MadeRun(planned=planned, folder=folder, outcome=outcome)
        if outcome.status == "stopped":
            return
