"""Carries out a study: the missing runs in order, with changes by hand where needed."""

import math
from collections import Counter
from collections.abc import Callable, Collection, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, replace
from pathlib import Path

from gelassen.answers.study import Study
from gelassen.bench.interface import Bench
from gelassen.conduct.checks import Finding, check_before, check_waived
from gelassen.conduct.operator.hand_change import needs_hands, shows
from gelassen.conduct.operator.mounting import mounting_of
from gelassen.conduct.planning.order import (
    PlannedRun,
    counted_as,
    order_runs,
    remaining,
    with_changes,
)
from gelassen.conduct.planning.record_plan import Wanted, plan_recording, settings_of_setup
from gelassen.conduct.planning.workload_plan import check_programs, score_is_read, workload_plan
from gelassen.conduct.recording import claimed, record_run
from gelassen.conduct.run import RunOutcome, Wish
from gelassen.core.foundation.errors import BenchError, InputError
from gelassen.core.foundation.progress import Progress
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.judging import choose_reference
from gelassen.study.disk.archive import read_run
from gelassen.study.disk.in_use import in_use
from gelassen.study.disk.interrupted import ENDED_WITHOUT_NOTICE, close_abandoned
from gelassen.study.disk.journal import goes_on
from gelassen.study.disk.notes import Note, add_note
from gelassen.study.disk.run_file import read_run_file
from gelassen.study.disk.writer import RUN_JSON
from gelassen.study.file.gate import Gate, likely_s
from gelassen.study.file.study_file import StudyFile

# What counts as a run that was made. A crash, a shutdown, a stop by the guard are results; a run that the
# tester stopped, or that failed for want of disk or a load, is made again.
_MADE = ("finished", "imported", "guard", ENDED_WITHOUT_NOTICE)
_REST_RUNS = 3
_CLIMBS = 0.7  # a climb takes about this share of its longest time
_POWER_LIMIT = "cpu.package.power_limit_w"


@dataclass(frozen=True, slots=True, kw_only=True)
class MadeRun:
    """A run that was carried out."""

    planned: PlannedRun
    folder: Path
    outcome: RunOutcome


def runs_made(study: Study) -> Counter[str]:
    """Return how many runs of each setup (and workload) there are; those left out do not count."""
    out = study.left_out()
    listed = {workload.name for workload in study.file.workloads}
    made: Counter[str] = Counter()
    for folder in study.run_folders():
        if folder.name in out or not (folder / RUN_JSON).exists():
            continue
        run = read_run_file(folder / RUN_JSON)
        if run.again_of is not None:  # one more than the plan has
            continue
        outcome = run.outcome
        if outcome == "recording" and not goes_on(folder):
            outcome = ENDED_WITHOUT_NOTICE
        if run.setup is not None and outcome in _MADE:
            made[counted_as(run.setup, run.load if run.load in listed else None)] += 1
    return made


def still_to_do(study: Study) -> list[PlannedRun]:
    """Return the runs of a study that are still missing, in order, with the changes they need."""
    missing = remaining(order_runs(study.file), runs_made(study))
    return with_changes(study.file, missing, on_bench(study))


def on_bench(study: Study) -> dict[str, str | float]:
    """Return the levels of the run that was recorded last; empty if there is none."""
    recorded = [folder / RUN_JSON for folder in study.run_folders()]
    levels = [read_run_file(path).levels for path in recorded if path.exists()]
    return dict(levels[-1]) if levels else {}


def expected_s(study: Study, planned: list[PlannedRun]) -> tuple[float, float]:
    """Return how long the runs take, and what changes by hand add to that, in s."""
    usual = study.file.protocol
    lengths = (usual.idle, usual.soak, usual.hold, usual.cooldown)
    if usual.kind == "capacity":
        lengths = (usual.idle, usual.climb.at_most * _CLIMBS, 0.0, usual.cooldown)
    one = sum(likely_s(length) for length in lengths)
    listed = {workload.name: workload.length + workload.rest for workload in study.file.workloads}
    if listed:
        bench_s = sum(listed.get(run.workload or "", one) for run in planned)
        return bench_s, usual.hand_change * sum(bool(run.changes) for run in planned)
    return one * len(planned), usual.hand_change * sum(bool(run.changes) for run in planned)


Operator = Callable[[PlannedRun], bool | str]


def _changed_by_hand(
    operator: Operator | None, study: StudyFile, planned: PlannedRun
) -> str | None:
    """Ask for the changes by hand that a run needs; return notes about them, or None to end."""
    if operator is None or not needs_hands(study, planned):
        return ""
    answer = operator(planned)
    if answer is False:
        return None
    return answer if isinstance(answer, str) else ""


def _checked_change(
    operator: Operator | None, bench: Bench, study: StudyFile, planned: PlannedRun, note: str
) -> str | None:
    """Ask again where readings do not show a change; return notes about it, or None to end."""
    if not planned.changes or operator is None:
        return note
    wrong = shows(bench, study, planned)
    if not wrong:
        return note
    again = _changed_by_hand(operator, study, replace(planned, problems=tuple(wrong)))
    if again is None:
        return None
    return "; ".join(filter(None, [note, again, *shows(bench, study, planned)]))


def conduct_study(
    study: Study,
    bench_for: Callable[[PlannedRun], Bench],
    *,
    operator: Operator | None = None,
    progress: Callable[[Progress], None] | None = None,
    say: Callable[[str], None] | None = None,
    wish: Callable[[], Wish] | None = None,
    most: int | None = None,
    again: str | None = None,
    checks: bool = True,
    waive: Collection[str] = (),
) -> Iterator[MadeRun]:
    """Carry out the runs that are missing, one by one; yield each as it ends.

    Parameters
    ----------
    study : Study
        What is to be tested.
    bench_for : callable
        Returns the bench for a run: this machine, or a simulated one with these levels.
    operator : callable, optional
        Asked before a run that needs hands; False ends the session, and nothing is lost. True means done;
        a text means done, and is noted with the run. Asked again, with `problems`, where the readings do
        not show the change.
    progress, say : callable, optional
        LogOptions where a run is; told what is worth a line.
    wish : callable, optional
        Asked at every sample: "" to go on, "phase" to end the present phase, "run" to stop this run,
        "all" to stop this run and the session.
    most : int, optional
        How many runs to make.
    again : str, optional
        A run to repeat first, by its number or the name of its folder: one more than the plan has.
    checks : bool
        Whether to look for what would waste the day before the first run (`conduct/checks.py`).
    waive
        Names of checks that are left out.

    Raises
    ------
    BenchError
        The checks found something; nothing was begun.
    InUseError
        Another process makes runs of this study, or uses this machine.
    InputError
        A plan that does not fit the bench, or an unknown run or check.

    Notes
    -----
    A run that the user stops ends the session, unless only this run was meant. The next call goes on with
    the first run that is missing.
    """
    tell = say or (lambda text: None)
    check_waived(waive)
    with ExitStack() as session:
        session.enter_context(in_use(study.folder))
        for line in close_abandoned(study.folder / "runs"):
            tell(f"earlier run {line}")
        planned_runs = [*_repeat(study, again), *still_to_do(study)][:most]
        planned_runs = with_changes(study.file, planned_runs, on_bench(study))
        for number, planned in enumerate(planned_runs):
            made = _made(
                study, bench_for, planned, session, operator=operator, progress=progress, tell=tell,
                wish=wish, waive=waive, checks_for=len(planned_runs) if checks and number == 0 else 0,
                first=number == 0,
            )  # fmt: skip
            if made is None:
                return
            yield made
            if made.outcome.status == "stopped" and made.outcome.ends_all:
                return


def _made(
    study: Study,
    bench_for: Callable[[PlannedRun], Bench],
    planned: PlannedRun,
    session: ExitStack,
    *,
    operator: Operator | None,
    progress: Callable[[Progress], None] | None,
    tell: Callable[[str], None],
    wish: Callable[[], Wish] | None,
    waive: Collection[str],
    checks_for: int,
    first: bool,
) -> MadeRun | None:
    """Make one run; None if the operator ends the session. The machine is claimed for all of it."""
    runs = study.folder / "runs"
    note = _changed_by_hand(operator, study.file, planned)
    if note is None:
        return None
    bench = bench_for(planned)
    note = _checked_change(operator, bench, study.file, planned, note)
    if note is None:
        return None
    plan = plan_recording(
        bench, study.file, Wanted(), levels=planned.levels, rest_k=rest_level(study, planned)
    )
    settings, hints = settings_of_setup(study.file, planned.levels, list(bench.actuators()))
    plan = replace(plan, settings={**settings, **plan.settings})
    plan = workload_plan(plan, study.file, planned.workload)
    session.enter_context(claimed(bench, plan))
    if first:
        check_programs(bench, study.file)
        for hint in hints:
            tell(hint)
    if checks_for:
        _stop_on_findings(
            check_before(bench, study.file, plan, runs, runs=checks_for, waive=waive, say=tell),
            tell,
        )
    folder, outcome = record_run(
        bench, plan, runs, label=planned.setup,
        setup=planned.setup, levels=planned.levels, limit_c=study.file.machine.limit_c,
        power_limit_w=settings.get(_POWER_LIMIT), reference=study.file.reference,
        made_up=study.file.made_up, progress=progress, wish=wish, again_of=planned.again_of,
        kind=study.file.protocol.kind, mount=mounting_of(study, planned), load_name=planned.workload,
    )  # fmt: skip
    if planned.workload is not None and (
        said := score_is_read(study.file, planned.workload, folder)
    ):
        tell(said)
    if note:
        add_note(folder, Note(0.0, {}, note))
    return MadeRun(planned=planned, folder=folder, outcome=outcome)


def _stop_on_findings(findings: list[Finding], tell: Callable[[str], None]) -> None:
    for finding in findings:
        if not finding.stops:
            tell(str(finding))
    fatal = [finding for finding in findings if finding.stops]
    if fatal:
        names = " ".join(f"--waive {name}" for name in dict.fromkeys(one.name for one in fatal))
        raise BenchError(
            "\n".join(
                [
                    "nothing was started, as this would spoil the runs:",
                    *(f"  {finding}" for finding in fatal),
                    f"Correct it, or continue anyway: {names}",
                ]
            )
        )


def _repeat(study: Study, again: str | None) -> list[PlannedRun]:
    """Return the run that is to be repeated, as a plan."""
    if again is None:
        return []
    folder = study.find_run(again)
    run = read_run_file(folder / RUN_JSON)
    if run.setup is None or run.setup not in study.file.setups:
        raise InputError(
            f"{folder.name} belongs to no setup of this study, so it cannot be run again"
        )
    levels = dict(study.file.setups[run.setup])
    return [PlannedRun(setup=run.setup, levels=levels, block=1, again_of=folder.name)]


def rest_level(study: Study, planned: PlannedRun) -> float | None:
    """Return the resting rise of this mounting before its earlier runs, in K; None if unknown."""
    if not isinstance(study.file.protocol.idle, Gate):
        return None
    by_hand = {n for n, factor in study.file.factors.items() if factor.changed_by == "hand"}
    found: list[float] = []
    for folder in reversed(study.run_folders()):
        if len(found) == _REST_RUNS or not (folder / RUN_JSON).exists():
            break
        run = read_run_file(folder / RUN_JSON)
        same = all(run.levels.get(name) == planned.levels.get(name) for name in by_hand)
        idle = next((phase for phase in run.phases if phase.name == "idle"), None)
        if not same or idle is None or idle.ending not in ("rested", "time"):
            continue
        frame = read_run(folder).frame
        last = frame[(frame.index <= idle.end_s) & (frame.index > idle.end_s - 30)]
        over = choose_reference(last, study.file.reference, named=False)
        cores = core_channels(last)
        if over is not None and cores and len(last):
            found.append(float(last[cores].mean().mean() - last[over].mean()))
    known = sorted(level for level in found if math.isfinite(level))
    return known[len(known) // 2] if known else None
