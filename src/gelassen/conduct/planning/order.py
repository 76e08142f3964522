"""The order of the runs of a study. Changes by hand are costly, and changes by software are free."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.study.file.level_text import shown_level
from gelassen.study.file.levels import takes_cooler_off
from gelassen.study.file.study_file import StudyFile

Levels = dict[str, str | float]
# A higher level of these is harder on the machine, so they go from low to high.
_HARDNESS = ("power", "load", "cores", "clock")


@dataclass(frozen=True, slots=True)
class HandChange:
    """One thing to change by hand. `factor` is None where the same setup is mounted again."""

    factor: str | None
    words: str

    def __str__(self) -> str:
        return self.words


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedRun:
    """One run of a plan.

    Attributes
    ----------
    setup, levels
        What is on the bench.
    block
        Which pass over the setups it belongs to, from 1.
    changes
        What must be changed by hand before it; empty if nothing.
    again
        Whether it repeats the baseline, to catch a drift of the machine.
    again_of
        The run it repeats because the tester doubts that one.
    problems
        What the readings do not show of the change by hand, where the tester is asked again.
    workload
        The program of the study's list that it runs; None without such a list.
    """

    setup: str
    levels: Levels
    block: int
    changes: tuple[HandChange, ...] = ()
    again: bool = False
    again_of: str | None = None
    problems: tuple[str, ...] = ()
    workload: str | None = None

    @property
    def key(self) -> str:
        """What the run counts as: its setup, and its workload if it has one."""
        return counted_as(self.setup, self.workload)


def counted_as(setup: str, workload: str | None) -> str:
    """Return what a run of this setup and workload counts as."""
    return setup if workload is None else f"{setup}: {workload}"


def order_runs(study: StudyFile) -> list[PlannedRun]:
    """Return all runs of a study in order.

    Setups with the same levels by hand are run together. Within them, software levels go from gentle to
    hard, and other levels are shuffled. The groups are shuffled, too, then arranged so that the cooler is
    seldom taken off and few things change at once. With `protocol.remount` every repeat is a
    new pass over all mountings; without, repeats follow each other on one mounting. The baseline is run
    again at the end of each pass.
    The same `protocol.seed` gives the same order.

    Raises
    ------
    InputError
        A study without setups.
    """
    if not study.setups:
        raise InputError("the study has no setups: describe them in study.toml, [setups.NAME]")
    rng = np.random.default_rng(study.protocol.seed)
    repeats = study.protocol.repeats
    runs: list[PlannedRun] = []
    previous: Levels = {}
    passes = repeats if study.protocol.remount else 1
    for block in range(1, passes + 1):
        for mounting in _chain(study, _mountings(study, rng), previous, rng):
            inside = [
                name for name in mounting for _ in range(1 if study.protocol.remount else repeats)
            ]
            for number, name in enumerate(inside):
                own = _by_hand(study, name)
                changes = _changes(previous, own, remount=True) if number == 0 else ()
                runs.append(
                    PlannedRun(
                        setup=name, levels=dict(study.setups[name]), block=block, changes=changes
                    )
                )
                previous = own
        base = study.baseline
        wanted = base is not None and study.protocol.baseline_again and len(study.setups) > 1
        if wanted and base is not None and runs[-1].setup != base:
            own = _by_hand(study, base)
            changes = _changes(previous, own, remount=False)
            runs.append(
                PlannedRun(
                    setup=base,
                    levels=dict(study.setups[base]),
                    block=block,
                    changes=changes,
                    again=True,
                )
            )
            previous = own
    return _through_workloads(study, runs)


def _through_workloads(study: StudyFile, runs: list[PlannedRun]) -> list[PlannedRun]:
    """Return one run for each workload in place of each run; only the first needs the change by hand."""
    if not study.workloads:
        return runs
    return [
        replace(run, workload=workload.name, changes=run.changes if number == 0 else ())
        for run in runs
        for number, workload in enumerate(study.workloads)
    ]


def remaining(planned: Sequence[PlannedRun], done: Mapping[str, int]) -> list[PlannedRun]:
    """Return the runs that are still to be made, given how many of each setup there are."""
    left = dict(done)
    missing = []
    for run in planned:
        if left.get(run.key, 0) > 0:
            left[run.key] -= 1
        else:
            missing.append(run)
    return missing


def with_changes(
    study: StudyFile, runs: Sequence[PlannedRun], on_bench: Mapping[str, str | float]
) -> list[PlannedRun]:
    """Return runs with the changes by hand that they need one after the other.

    Where runs of a plan are missing or made again, the bench differs from the plan.
    `on_bench` are the levels of the run made last; empty if there was none.
    """
    previous: Levels = {n: x for n, x in on_bench.items() if n in study.factors}
    told = []
    for run in runs:
        own = _by_hand(study, run.setup)
        remount = any(change.factor is None for change in run.changes)
        told.append(replace(run, changes=_changes(previous, own, remount=remount)))
        previous = own
    return told


def _by_hand(study: StudyFile, setup: str) -> Levels:
    return {
        factor: level
        for factor, level in study.setups[setup].items()
        if study.factors[factor].changed_by == "hand"
    }


def _mountings(study: StudyFile, rng: np.random.Generator) -> list[list[str]]:
    """Return setups that need no hand change between them, each list from gentle to hard."""
    groups: dict[tuple[tuple[str, str | float], ...], list[str]] = {}
    for name in study.setups:
        key = tuple(sorted(_by_hand(study, name).items()))
        groups.setdefault(key, []).append(name)
    for names in groups.values():
        rng.shuffle(names)  # where no level is harder, chance decides
        names.sort(key=lambda name: _hardness(study.setups[name]))
    return list(groups.values())


def _hardness(levels: Mapping[str, str | float]) -> tuple[float, ...]:
    return tuple(
        float(level)
        for factor, level in sorted(levels.items())
        if not isinstance(level, str) and any(word in factor for word in _HARDNESS)
    )


def _chain(
    study: StudyFile, mountings: list[list[str]], previous: Levels, rng: np.random.Generator
) -> list[list[str]]:
    """Return mountings in an order in which each differs in few things from the one before.

    Among those that need equally few changes, chance decides.
    """
    left = [mountings[k] for k in rng.permutation(len(mountings))]
    chain: list[list[str]] = []
    on_bench = previous
    while left:
        after = min(left, key=lambda names: _cost(study, on_bench, _by_hand(study, names[0])))
        left.remove(after)
        chain.append(after)
        on_bench = _by_hand(study, after[0])
    return chain


def _cost(study: StudyFile, before: Levels, after: Levels) -> tuple[int, int]:
    """Return the cost of a change: how often the cooler comes off, then how many things change."""
    changed = _differ(before, after)
    return sum(takes_cooler_off(study, name) for name in changed), len(changed)


def _differ(before: Levels, after: Levels) -> list[str]:
    return [factor for factor, level in after.items() if before.get(factor) != level]


def _changes(before: Levels, after: Levels, *, remount: bool) -> tuple[HandChange, ...]:
    changes = [
        HandChange(
            factor,
            f"{factor}: {shown_level(level)}"
            + (f" (was {shown_level(before[factor])})" if factor in before else ""),
        )
        for factor, level in after.items()
        if factor in _differ(before, after)
    ]
    if not changes and remount and before and after:
        mounted = ", ".join(shown_level(level) for level in after.values())
        changes = [HandChange(None, f"remount: {mounted}")]
    return tuple(changes)
