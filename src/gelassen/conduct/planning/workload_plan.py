"""The plan of one workload of a list: its program, its length, and the rest after it."""

from dataclasses import replace
from pathlib import Path

from gelassen.bench.described import split_command
from gelassen.bench.interface import Bench
from gelassen.bench.loads.spec import BY_HAND, COMMAND, LoadSpec
from gelassen.conduct.planning.plan import PlannedPhase, RunPlan
from gelassen.core.foundation.errors import InputError
from gelassen.study.disk.archive import read_run
from gelassen.study.file.study_file import StudyFile
from gelassen.study.file.workload import Workload

_SCORE = "load.program.score_count"


def workload_spec(workload: Workload) -> LoadSpec:
    """Return the load of a workload."""
    if workload.by_hand:
        return LoadSpec(name=BY_HAND)
    if workload.command is not None:
        words = split_command(workload.command, f'the command of "{workload.name}"')
        return LoadSpec(name=COMMAND, command=words, score=workload.score, workers=workload.workers)
    return LoadSpec(
        name=workload.load or "matrix", workers=workload.workers, duty_pct=workload.duty_pct
    )


def workload_plan(plan: RunPlan, study: StudyFile, name: str | None) -> RunPlan:
    """Return a plan with the load and the phases of a workload; the plan itself without one.

    The machine rests after each workload, and before the first as the study's idle phase says.
    """
    if name is None:
        return plan
    workload = next((one for one in study.workloads if one.name == name), None)
    if workload is None:
        raise InputError(f'"{name}" is no workload of this study')
    first = study.workloads[0].name == name and not workload.by_hand
    idle = [phase for phase in plan.phases if phase.name == "idle"] if first else []
    phases = [*idle, PlannedPhase("soak", workload.length)]
    if workload.rest > 0:
        phases.append(PlannedPhase("cooldown", workload.rest))
    return replace(plan, phases=tuple(phases), load=workload_spec(workload))


def check_programs(bench: Bench, study: StudyFile) -> None:
    """Refuse a list with a program that is not there, before the first of them runs.

    Raises
    ------
    InputError
        Naming the workload.
    """
    for workload in study.workloads:
        if workload.by_hand:
            continue
        try:
            bench.load(workload_spec(workload)).stop()
        except InputError as error:
            raise InputError(f'workload "{workload.name}": {error}') from None


def score_is_read(study: StudyFile, name: str, folder: Path) -> str:
    """Return what is wrong with the score of a workload that has just ended; empty if it was read."""
    workload = next(one for one in study.workloads if one.name == name)
    if not workload.score:
        return ""
    frame = read_run(folder).frame
    if _SCORE in frame and frame[_SCORE].notna().any():
        return ""
    return (
        f'workload "{name}": its score was never read: "{workload.score}" matched no line that the program '
        "printed. Correct it now: the next workloads go on"
    )
